"""What nearly let a packet pass a filter program, and the rule that would: an nft rule at its place in the chain.

A rule is offered only after the flow was walked with it: its stop must be gone.
"""

from routrel.analysis.answers.walks import NearMiss, Remedy
from routrel.formats.nftables_values import DSCP, FIB_TYPES, NAMES, PROTOCOLS, STATES, STATUS, TCP_FLAGS
from routrel.forwarding.programs.engine import Engine, RuleCheck
from routrel.forwarding.programs.packets import ESTABLISHED, INVALID, Packet
from routrel.forwarding.programs.values import getter
from routrel.forwarding.trace import Trace
from routrel.forwarding.walk import Walker
from routrel.model.addresses import Address
from routrel.model.fields import replace
from routrel.model.filter_programs import (
    Chain,
    Condition,
    Field,
    FilterProgram,
    Range,
    Rule,
    Statement,
    ValueSet,
    Verdict,
)
from routrel.model.filters import ICMP, ICMPV6, TCP, UDP, Header, PortRange
from routrel.model.findings import some_of
from routrel.routing.solve import Solved

MOST_MISSES = 8
MOST_LOOKED_AT = 2000
"""Rules of a program that are looked at for near misses."""

NAMED = {
    "l4proto": PROTOCOLS,
    "protocol": PROTOCOLS,
    "nexthdr": PROTOCOLS,
    "state": STATES,
    "status": STATUS,
    "flags": TCP_FLAGS,
    "dscp": DSCP,
    "type": FIB_TYPES,
    "nfproto": NAMES["nf_proto"],
    "direction": NAMES["ct_dir"],
}


def check_words(check: RuleCheck) -> str:
    """What decided, by name: ``rule 3 of chain fw (inet f)``."""
    if check.rule is None:
        return f"the policy of chain {check.base}"
    comment = f" ({check.rule.comment})" if check.rule.comment else ""
    return f"rule {check.rule.number}{comment} of chain {check.located}"


def state_words(state: int) -> str:
    """A packet's state in connection tracking, as rules name it."""
    return _value_text(Field("ct", "state"), state)


def unsure_words(check: RuleCheck) -> str:
    """Why an outcome is one of several: the first rule that hangs on what no capture tells."""
    chain, rule = check.unsure[0]
    return f"whether rule {rule.number} of chain {chain} matches is not known ({rule.text})"


def program_near_misses(engine: Engine, check: RuleCheck) -> tuple[NearMiss, ...]:
    """Accepting rules that one condition alone keeps from matching, or that stand behind the one that ended it."""
    packet = check.packet
    if packet is None:
        return ()
    found: list[NearMiss] = []
    looked_at = 0
    chains = dict.fromkeys([check.located, *(chain for chain, _ in check.jumps), check.base])
    for chain in chains:
        for rule in chain.rules:
            looked_at += 1
            if looked_at > MOST_LOOKED_AT or len(found) >= MOST_MISSES:
                break
            if not rule.statements or rule.statements[-1] != Verdict("accept"):
                continue
            failed = engine.failed_conditions(rule, packet)
            if failed is None:
                continue
            if not failed and check.rule is not None and chain is check.located and rule.number > check.rule.number:
                place = f"behind rule {check.rule.number}", f"before rule {check.rule.number}"
                found.append(NearMiss(rule.number, "order", *place, rule.place or None))
            if len(failed) == 1 and isinstance(failed[0].left, Field):
                miss = _near_miss(engine, rule, failed[0], failed[0].left, packet)
                if miss is not None:
                    found.append(miss)
    return tuple(found)


def _near_miss(engine: Engine, rule: Rule, failed: Condition, field: Field, packet: Packet) -> NearMiss | None:
    found = getter(field, engine.around)(packet)
    if not isinstance(found, int | str):
        return None  # of another protocol or family
    name = field.name if field.name in ("iifname", "oifname") else f"{field.room} {field.name}"
    return NearMiss(rule.number, name, _values_text(field, failed), _value_text(field, found), rule.place or None)


def _values_text(field: Field, found: Condition) -> str:
    right = found.right
    negated = "not " if found.operator in ("!=", "not in", "no bits") else ""
    if not isinstance(right, ValueSet):
        operator = f"{found.operator} " if found.operator in ("<", ">", "<=", ">=") else ""
        return f"{negated}{operator}{_value_text(field, right)}"
    texts = [_value_text(field, one) for one in sorted(right.single, key=str)]
    texts += [f"{_value_text(field, one.low)}-{_value_text(field, one.high)}" for one in right.ranges]
    texts += [f"{start}*" for start in right.wildcards]
    return f"{negated}{some_of(texts, 4)}"


def _value_text(field: Field, value: object) -> str:
    if not isinstance(value, int):
        return str(value)
    if field.name.endswith(("saddr", "daddr")):
        return str(Address(6 if "ip6" in (field.room, field.name.split(" ")[0]) or value >= 1 << 32 else 4, value))
    names = NAMED.get(field.name, {})
    if field.name in ("state", "status", "flags"):
        shown = [name for name, bit in names.items() if value & bit]
        return ",".join(shown) or str(value)
    return next((name for name, number in names.items() if number == value), str(value))


class ProgramRemedies:
    """Rules that let a packet pass where a program ends it, of one solved network."""

    def __init__(self, solved: Solved, walker: Walker):
        self.solved = solved
        self.walker = walker

    def missing_rule(
        self, strand: Trace, number: int, check: RuleCheck, ports: tuple[PortRange, ...] = ()
    ) -> Remedy | None:
        """The accepting rule and where to put it; ``number`` is the stop's, ``ports`` those of a service's range."""
        device = strand.stops[number].device
        engine, packet = self.walker.engine(device), check.packet
        if engine is None or packet is None or packet.state == INVALID or check.unsure:
            return None
        text, statements = _exact(packet, ports)
        name = self.solved.topology.devices[device].name
        for chain, at in _places(check):
            added = Rule(at + 1, text, statements)
            if self._cures(strand, device, check, _with_rule(engine.program, chain, at, added)):
                where = f"before rule {at + 1}" if at < len(chain.rules) else "at its end"
                place = chain.rules[at].place if at < len(chain.rules) else chain.place
                return Remedy(f"add to chain {chain} of {name}, {where}", text, place or None)
        return None

    def _cures(self, strand: Trace, device: int, check: RuleCheck, program: FilterProgram) -> bool:
        """Whether the packet passes the chain that ended it once the rule is there."""
        tracker = None if strand.kind == "first" else strand.tracker
        walked = Walker(self.solved, {device: program}, self.walker).walk(
            strand.asked, frozenset(), strand.ends, strand.kind, tracker, strand.expected
        )
        for stop in walked.stops:
            if stop.device != device:
                continue
            checks = [*stop.filters, *(one for branch in stop.branches for one in branch.filters)]
            if any(not one.accepted and one.base.name == check.base.name and one.hook == check.hook for one in checks):
                return False
        return True


def _places(check: RuleCheck) -> list[tuple[Chain, int]]:
    """Where a rule may be put: before the one that decided; at the end of the chain, or before all of it, where a
    goto leads past its end."""
    if check.rule is not None:
        return [(check.located, check.rule.number - 1)]
    return [(check.base, len(check.base.rules)), (check.base, 0)]


def _with_rule(program: FilterProgram, chain: Chain, at: int, added: Rule) -> FilterProgram:
    later = (replace(rule, number=rule.number + 1) for rule in chain.rules[at:])
    key = chain.family, chain.table, chain.name
    return FilterProgram({**program.chains, key: replace(chain, rules=(*chain.rules[:at], added, *later))})


def _exact(packet: Packet, ports: tuple[PortRange, ...]) -> tuple[str, tuple[Statement, ...]]:
    """The narrowest rule a person would write: by state for what answers or follows, else hosts and service."""
    if packet.state == ESTABLISHED:
        return "ct state established accept", (
            Condition(Field("ct", "state"), "bits", ESTABLISHED),
            Verdict("accept"),
        )
    header = packet.header
    room = "ip" if packet.family == 4 else "ip6"
    words = [f"{room} saddr {header.source}", f"{room} daddr {header.destination}"]
    statements: list[Statement] = [
        Condition(Field(room, "saddr"), "==", header.source.value),
        Condition(Field(room, "daddr"), "==", header.destination.value),
    ]
    words.append(_service(header, ports, packet.is_reply, statements))
    return f"{' '.join(words)} accept", (*statements, Verdict("accept"))


def _service(header: Header, ports: tuple[PortRange, ...], is_reply: bool, statements: list[Statement]) -> str:
    room = {TCP: "tcp", UDP: "udp"}.get(header.protocol)
    own = header.source_port if is_reply else header.destination_port
    if room is None or own is None or ports == (PortRange(0, 65535),):
        statements.append(Condition(Field("meta", "l4proto"), "==", header.protocol))
        names = {ICMP: "icmp", ICMPV6: "ipv6-icmp", TCP: "tcp", UDP: "udp"}
        name = names.get(header.protocol) or next((n for n, one in PROTOCOLS.items() if one == header.protocol), None)
        return f"meta l4proto {name or header.protocol}"
    name = "sport" if is_reply else "dport"
    wanted = ports or (PortRange(own, own),)
    statements.append(
        Condition(Field(room, name), "in", ValueSet(ranges=tuple(Range(one.low, one.high) for one in wanted)))
    )
    shown = ", ".join(map(str, wanted))
    return f"{room} {name} {shown}" if len(wanted) == 1 else f"{room} {name} {{ {shown} }}"
