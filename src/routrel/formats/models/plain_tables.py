"""Routing tables as people copy them from a terminal: the kernel's (``ip route``, ``ip -6 route``) and ``birdc``'s.

A line that is no part of such a table is an error in its place: half a table would lead packets astray.
"""

import re
from collections.abc import Iterator

from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.models.draft import DeviceDraft, place_of
from routrel.formats.models.statements import MAX_STATEMENTS, Statement
from routrel.formats.yaml_nodes import decode
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import ROUTING_PROTOCOLS

PLAIN_SUFFIX = ".txt"
Cells = dict[str, str]
"""A route, or one next hop of it, by the columns of a table as CSV."""

ACTIONS = {"blackhole": "discard", "unreachable": "reject", "prohibit": "reject", "prohibited": "reject"}
PASSED_OVER = ("broadcast", "multicast", "anycast")
KINDS = ("unicast", "local", "throw", "nat", *ACTIONS, *PASSED_OVER)
VALUED = ("via", "dev", "proto", "scope", "src", "metric", "table", "nhid", "weight", "error", "pref", "mtu", "advmss")
OWN_TABLES = ("main", "local", "default", "254", "255", "253")
ADDRESS = r"[0-9a-fA-F.:]+"
KERNEL = re.compile(rf"(?:({'|'.join(KINDS)}) )?(default|{ADDRESS}(?:/\d+)?)(?: (.*))?")
KERNEL_HOP = re.compile(r"\s+nexthop (.*)")
BIRD_ACTION = rf"unicast|multipath|{'|'.join(ACTIONS)}"
BIRD = re.compile(
    rf"({ADDRESS}/\d+)?\s+(?:({BIRD_ACTION})|via ({ADDRESS}) on (\S+)|dev (\S+))\s+\[([^\]\s]++)[^\]]*+\](\s\*)?(.*)"
)
BIRD_HOP = re.compile(rf"\s+(?:via ({ADDRESS}) on (\S+)|dev (\S+))(.*)")
BIRD_TYPE = re.compile(r"\s+Type: (\S+)")
BIRD_RANK = re.compile(r"\((\d+)(?:/(\d+|\?|-))?\)")
BIRD_HEAD = re.compile(r"BIRD .*ready\.|Table \S+:")
OSPF_KIND = re.compile(r"^\s*(?:I|IA|E1|E2)\s")
BIRD_NAMES = {
    "direct": "connected",
    "device": "connected",
    "static": "static",
    **{one: one for one in ROUTING_PROTOCOLS},
}


def is_plain_table(data: bytes) -> bool:
    """Whether a text begins as one of these tables does."""
    for line in data[:4096].decode("utf-8", "replace").splitlines():
        if line.strip():
            return any(form.fullmatch(line.rstrip()) for form in (KERNEL, BIRD_HEAD, BIRD))
    return False


def plain_rows(data: bytes, file: str, draft: DeviceDraft) -> Iterator[tuple[Statement, Cells]]:
    """Each route and next hop with its line; what the model cannot hold is a gap of the device."""
    lines = decode(data, file).splitlines()
    if len(lines) > MAX_STATEMENTS:
        raise _error(file, 0, "the table is too long", "", f"{MAX_STATEMENTS:,} lines")
    is_bird = any(BIRD_HEAD.fullmatch(line.rstrip()) or BIRD.fullmatch(line) for line in lines[:5])
    yield from (_bird if is_bird else _kernel)(lines, file, draft)


def _error(file: str, line: int, message: str, found: str, allowed: str) -> LoadError:
    return LoadError([InputError(place_of(_at(file, line)), message, found, allowed)])


def _at(file: str, line: int) -> Statement:
    return Statement(file, "", "route", line, 0, "")


# The kernel's


def _kernel(lines: list[str], file: str, draft: DeviceDraft) -> Iterator[tuple[Statement, Cells]]:
    is_ipv6 = any(re.match(rf"(?:\w+ )?[0-9a-fA-F]*:{ADDRESS}", line) for line in lines)
    route: Cells | None = None
    for number, line in enumerate(lines):
        row = _at(file, number)
        hop = KERNEL_HOP.fullmatch(line)
        if hop is not None:
            if route is not None:
                yield from _kernel_hop(row, route, _words(hop[1]), draft)
            continue
        if not line.strip():
            continue
        found = KERNEL.fullmatch(line.strip())
        if found is None or line[:1].isspace():
            allowed = "lines as 'ip route' and 'ip -6 route' show them"
            raise _error(file, number, "this is no line of a routing table", quoted(line.strip()), allowed)
        kind, words = found[1] or "unicast", _words(found[3] or "")
        route = _kernel_route(row, kind, _prefix(found[2], is_ipv6, file, number), words, draft)
        if route is not None and ({"dev", "via", "encap"} & words.keys() or "action" in route):
            yield from _kernel_hop(row, route, words, draft)
            if "src" in words and "dev" in words and route["protocol"] == "connected":
                whole = str(_prefix(words["src"], is_ipv6, file, number))
                yield row, {"prefix": whole, "protocol": "local", "interface": words["dev"], "metric": "0"}


def _words(text: str) -> Cells:
    """The words of a line after its prefix: those that have a value, and flags."""
    found: Cells = {}
    words = iter(text.split())
    for word in words:
        found[word] = next(words, "") if word in VALUED else ""
        if word == "via" and found[word] in ("inet", "inet6"):
            found["via other"] = next(words, "")
        if word == "encap":
            break
    return found


def _kernel_route(row: Statement, kind: str, prefix: Prefix, words: Cells, draft: DeviceDraft) -> Cells | None:
    """What all next hops of a route share; None where it is no route of packets for others."""
    is_loopback = prefix.family == 4 and prefix.network >> 24 == 127
    if kind in PASSED_OVER or is_loopback or prefix.is_link_local or prefix == Prefix(6, 1, 128):
        return None
    if prefix.family == 6 and prefix.network >> 120 == 0xFF:
        return None
    if kind in ("throw", "nat") or words.get("table", "main") not in OWN_TABLES:
        what = f"of table {words['table']}" if "table" in words else f"of type {kind}"
        draft.gap(f"a route {what} is not represented", row)
        return None
    protocol = words.get("proto", "boot")
    if protocol == "kernel":
        protocol = "local" if kind == "local" else "connected"
    elif protocol in ("boot", "static"):
        protocol = "static"
    route = {"prefix": str(prefix), "protocol": protocol if protocol in BIRD_NAMES.values() else _other(protocol)}
    if "metric" in words:
        route["metric"] = words["metric"]
    if kind in ACTIONS:
        route["action"] = ACTIONS[kind]
    return route


def _other(protocol: str) -> str:
    return protocol if protocol == "local" else "observed"


def _kernel_hop(row: Statement, route: Cells, words: Cells, draft: DeviceDraft) -> Iterator[tuple[Statement, Cells]]:
    if "action" in route:
        yield row, route
    elif "encap" in words or "via other" in words:
        what = "with an encapsulation" if "encap" in words else "of another family"
        draft.gap(f"a next hop {what} is not represented", row, words.get("dev", ""))
    elif "dead" not in words:
        hop = {name: words[word] for name, word in (("next_hop", "via"), ("interface", "dev")) if word in words}
        yield row, {**route, **hop}


def _prefix(text: str, is_ipv6: bool, file: str, line: int) -> Prefix:
    if text == "default":
        return Prefix(6 if is_ipv6 else 4, 0, 0)
    try:
        return Prefix.parse(text) if "/" in text else Address.parse(text).host_prefix()
    except ValueError:
        raise _error(file, line, "this is no prefix", quoted(text), "10.0.0.0/8 or 2001:db8::/32") from None


# birdc's


def _bird(lines: list[str], file: str, draft: DeviceDraft) -> Iterator[tuple[Statement, Cells]]:
    """The routes that the table uses, marked with an asterisk, after what their attributes say of their protocol."""
    prefix, held = "", list[tuple[Statement, Cells]]()
    route: Cells | None = None
    for number, line in enumerate(lines):
        row, found, hop = _at(file, number), BIRD.fullmatch(line), BIRD_HOP.fullmatch(line)
        if found is not None:
            yield from held
            held, route = [], None
            prefix = found[1] or prefix
            _prefix(prefix, False, file, number)
            if found[7] is not None:
                route = {"prefix": prefix, "protocol": _bird_protocol(found[6], found[8]), **_bird_rank(found[8])}
                if found[2] in ACTIONS:
                    held.append((row, {**route, "action": ACTIONS[found[2]]}))
                elif found[2] is None:
                    held.append((row, {**route, **_bird_hop(found[3], found[4] or found[5])}))
        elif hop is not None:
            if route is not None and "mpls" in hop[4]:
                draft.gap("a next hop with labels is not represented", row, hop[2] or "")
            elif route is not None:
                held.append((row, {**route, **_bird_hop(hop[1], hop[2] or hop[3])}))
        elif (kind := BIRD_TYPE.fullmatch(line.partition(" univ")[0])) is not None:
            protocol = BIRD_NAMES.get(kind[1].lower().partition("-")[0])
            held = [(at, {**cells, "protocol": protocol or cells["protocol"]}) for at, cells in held]
        elif line.strip() and not line[:1].isspace() and not BIRD_HEAD.fullmatch(line.rstrip()):
            allowed = "lines as birdc's 'show route' shows them"
            raise _error(file, number, "this is no line of a routing table", quoted(line.strip()), allowed)
    yield from held


def _bird_hop(address: str | None, interface: str) -> Cells:
    hop = {} if address is None else {"next_hop": address}
    return {**hop, "interface": interface}


def _bird_protocol(name: str, rest: str) -> str:
    """By what else stands in the line, else by the name, which people mostly begin with the protocol's."""
    if "[AS" in rest:
        return "bgp"
    if OSPF_KIND.match(rest):
        return "ospf"
    return next((known for start, known in BIRD_NAMES.items() if name.startswith(start)), "observed")


def _bird_rank(rest: str) -> Cells:
    found = BIRD_RANK.search(rest)
    if found is None:
        return {}
    metric = {"metric": found[2]} if (found[2] or "").isdigit() else {}
    return {"preference": found[1], **metric}
