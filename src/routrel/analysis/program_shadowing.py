"""Rules of filter programs that no packet can reach, since earlier ones of their chain together take it all.

A rule counts for what it takes where its conditions are addresses, protocols and ports alone and it ends the
chain's work; every rule is looked at by those of its conditions, which is more than it matches.
"""

from collections.abc import Iterator, Sequence

from routrel.analysis.shadowing import shadowed_entries
from routrel.model.addresses import BITS, Prefix
from routrel.model.devices import Device
from routrel.model.filter_programs import Chain, Condition, Field, Range, Rule, UnsaidCondition, ValueSet, Verdict
from routrel.model.filters import PORTED, PROTOCOL_NUMBERS, HeaderMatch, PortRange
from routrel.model.findings import Finding, some_of

ENDING = ("accept", "drop", "reject", "return", "goto")
MOST_PREFIXES = 32
"""Members of an address set by which a rule is looked at; a larger one takes nothing from later rules."""


def shadowed_rules(devices: Sequence[Device]) -> Iterator[Finding]:
    """One finding for each rule that can never match."""
    for device in devices:
        if device.program is not None:
            for chain in device.program.chains.values():
                yield from _in_chain(device.name, chain)


def _in_chain(device: str, chain: Chain) -> Iterator[Finding]:
    matches: list[HeaderMatch] = []
    covering: list[bool] = []
    rule_of: list[int] = []
    for index, rule in enumerate(chain.rules):
        found, is_exact = _matches(rule)
        matches += found
        covering += [is_exact] * len(found)
        rule_of += [index] * len(found)
    hidden: dict[int, set[int]] = {}
    parts: dict[int, int] = {}
    for shadow in shadowed_entries(matches, covering):
        by = {rule_of[one] for one in shadow.by} - {rule_of[shadow.entry]}
        if by:
            parts[rule_of[shadow.entry]] = parts.get(rule_of[shadow.entry], 0) + 1
            hidden.setdefault(rule_of[shadow.entry], set()).update(by)
    for index, earlier in sorted(hidden.items()):
        if parts[index] == rule_of.count(index):
            yield _finding(device, chain, chain.rules[index], [chain.rules[one] for one in sorted(earlier)])


def _finding(device: str, chain: Chain, rule: Rule, by: list[Rule]) -> Finding:
    opposite = any(other.statements[-1:] != rule.statements[-1:] for other in by)
    numbers = some_of([other.number for other in by], 12)
    return Finding(
        "shadowed",
        "warning" if opposite else "note",
        f"rule {rule.number} of chain {chain} on {device} can never match: rule{'' if len(by) == 1 else 's'} {numbers}"
        f" {'takes' if len(by) == 1 else 'together take'} everything it could",
        device,
        "",
        (rule.place, *(other.place for other in by[:12])),
    )


def _matches(rule: Rule) -> tuple[list[HeaderMatch], bool]:
    """What a rule matches at most, and whether it takes just that."""
    is_exact = False
    fields: dict[str, list[object]] = {}
    for statement in rule.statements:
        if isinstance(statement, Verdict):
            is_exact = statement.kind in ENDING and not fields.get("other")
            break
        if not isinstance(statement, Condition) or not _note(fields, statement):
            fields["other"] = [statement]
            if not isinstance(statement, Condition | UnsaidCondition):
                break
    sources, destinations = (fields.get(name) or [None] for name in ("source", "destination"))
    (protocol,) = fields.get("protocol") or [None]
    return [
        HeaderMatch(
            protocol,  # type: ignore[arg-type]
            source,  # type: ignore[arg-type]
            destination,  # type: ignore[arg-type]
            tuple(fields.get("source_ports", ())),  # type: ignore[arg-type]
            tuple(fields.get("destination_ports", ())),  # type: ignore[arg-type]
        )
        for source in sources
        for destination in destinations
    ], is_exact


def _note(fields: dict[str, list[object]], found: Condition) -> bool:
    """Take a condition into the fields of a match; False where they cannot say it."""
    left, right = found.left, found.right
    if not isinstance(left, Field) or found.operator not in ("==", "in"):
        return False
    if (left.room, left.name) in (("meta", "l4proto"), ("ip", "protocol")):
        return isinstance(right, int) and _set(fields, "protocol", [right])
    if left.room in PROTOCOL_NUMBERS and PROTOCOL_NUMBERS[left.room] in PORTED and left.name in ("sport", "dport"):
        ports = _ranges(right)
        name = "source_ports" if left.name == "sport" else "destination_ports"
        is_set = ports is not None and _set(fields, name, [PortRange(*one) for one in ports])
        return _set(fields, "protocol", [PROTOCOL_NUMBERS[left.room]]) and is_set
    if left.room in ("ip", "ip6") and left.name in ("saddr", "daddr"):
        ranges, family = _ranges(right), 4 if left.room == "ip" else 6
        prefixes = [_prefix(family, one) for one in ranges or ()]
        if ranges is None or None in prefixes or len(prefixes) > MOST_PREFIXES:
            return False
        return _set(fields, "source" if left.name == "saddr" else "destination", [*prefixes])
    return False


def _set(fields: dict[str, list[object]], name: str, values: list[object]) -> bool:
    """Whether a field could be given its values: it had none, or the same."""
    return fields.setdefault(name, values) == values


def _ranges(right: object) -> list[tuple[int, int]] | None:
    if isinstance(right, int):
        return [(right, right)]
    if isinstance(right, ValueSet) and not (right.unsaid or right.boxes or right.wildcards):
        single = [(one, one) for one in right.single if isinstance(one, int)]
        return sorted([*single, *((one.low, one.high) for one in right.ranges)]) or None
    return [(right.low, right.high)] if isinstance(right, Range) else None


def _prefix(family: int, found: tuple[int, int]) -> Prefix | None:
    """The prefix that a range of addresses is, or None."""
    size = found[1] - found[0] + 1
    if size & (size - 1) or found[0] % size:
        return None
    return Prefix(family, found[0], BITS[family] - size.bit_length() + 1)
