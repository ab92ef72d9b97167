"""What decided at a stop of a walk, in one line for whoever reads down the stops."""

from collections.abc import Iterator, Sequence

from routrel.analysis.causes import header_text
from routrel.analysis.program_remedies import check_words
from routrel.analysis.virtual_routers import is_of_virtual_router
from routrel.forwarding.programs.engine import RuleCheck
from routrel.forwarding.trace import AclCheck, Branch, Stop, Trace
from routrel.model.devices import Device
from routrel.routing.routes import Route

SEPARATOR = "; "


def decided(device: Device, stop: Stop) -> str:
    """``10.40.2.0/24 by ospf, 2 ways``: what was decided here, or what stops the packet, where something does."""
    blocked = [*_refused(device, stop.acl_in, stop.stopped_by)]
    for branch in stop.branches:
        blocked += _refused(device, branch.acl_out, branch.stopped_by)
    passing = [branch for branch in stop.branches if branch.verdict != "blocked"]
    if blocked and (not passing or stop.verdict is not None):
        return SEPARATOR.join(dict.fromkeys(blocked))
    said = [*blocked, *_accepted(device, stop), *_way(device, stop), *_failures(device, passing)]
    return SEPARATOR.join(dict.fromkeys(said))


def narrower(trace: Trace) -> frozenset[int]:
    """Stops with fewer ways on than another that the same stop sends to: a hop narrower than its siblings."""
    found: set[int] = set()
    for stop in trace.stops:
        siblings = {branch.target for branch in stop.branches if branch.target >= 0}
        ways = {number: len(trace.stops[number].branches) for number in siblings}
        widest = max(ways.values(), default=0)
        found |= {number for number, count in ways.items() if 0 < count < widest}
    return frozenset(found)


def _way(device: Device, stop: Stop) -> Iterator[str]:
    if stop.stage in ("filter", "acl_in"):
        return
    if stop.translated is not None:
        yield f"becomes {header_text(stop.translated)}"
    if stop.verdict == "arrives":
        yield f"{stop.header.destination} is its own"
    elif stop.stage == "delivery":
        yield f"{stop.header.destination} is its own too"
    elif stop.stage == "host":
        yield "does not forward"
    elif stop.steering is not None and (stop.steering.used or stop.stage == "steering"):
        entry = 0 if stop.steering.entry is None else stop.steering.entry + 1
        what = "discards" if stop.stage == "steering" else "sends it on"
        yield f"policy {stop.steering.policy}: entry {entry} {what}"
    elif stop.route is None:
        yield f"no route for {stop.header.destination}"
    else:
        yield _route(device, stop.route, len(stop.branches))


def _route(device: Device, route: Route, ways: int) -> str:
    if route.action != "forward":
        return f"{route.prefix} by {route.protocol} {route.action}s"
    if route.protocol in ("connected", "local"):
        return f"{route.prefix} {route.protocol}"
    if route.prefix.is_default and not device.forwards:
        return "to its gateway" + (f", {ways} ways" if ways > 1 else "")
    only = "only the default route" if route.prefix.is_default and device.forwards else str(route.prefix)
    return f"{only} by {route.protocol}" + (f", {ways} ways" if ways > 1 else "")


def _failures(device: Device, branches: Sequence[Branch]) -> Iterator[str]:
    for branch in branches:
        if branch.verdict == "unresolved" and is_of_virtual_router(device, branch.address):
            yield f"takes no packets to {branch.address}"
        elif branch.verdict == "unresolved":
            yield f"nobody there has {branch.address}"
        elif branch.verdict == "loops":
            yield f"back to {branch.address}, where it has been"
        elif branch.verdict == "leaves":
            yield f"leaves the model to {branch.address}"


def _refused(device: Device, acl: AclCheck | None, rule: RuleCheck | None) -> Iterator[str]:
    if acl is not None and not acl.accepted:
        yield _acl(device, acl)
    if rule is not None:
        yield f"{check_words(rule)} {rule.action}s"


def _acl(device: Device, check: AclCheck) -> str:
    if check.entry is None:
        return f"ACL {check.acl}: " + ("a reply passes by state" if check.by_state else "the closing drop")
    return f"ACL {check.acl}: entry {check.entry + 1} {device.acls[check.acl].entries[check.entry].action}s"


def _accepted(device: Device, stop: Stop) -> Iterator[str]:
    for check in (stop.acl_in, *(branch.acl_out for branch in stop.branches)):
        if check is not None and check.accepted:
            yield _acl(device, check)
