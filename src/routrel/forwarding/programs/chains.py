"""Chains compiled and run: for a packet every outcome that is possible, which is one unless something is unsaid.

A rule that hangs on what no capture tells is taken both ways. A long chain has columns of what its rules ask of
a packet at least (family, protocol, addresses, port, interfaces), so that most rules are passed over at once.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from routrel.forwarding.programs.packets import ABSENT, UNSAID, UNTRACKED, Between, Packet, Partly, Unknown
from routrel.forwarding.programs.values import PORTED_ROOMS, Surroundings, condition, getter, lookup
from routrel.model.addresses import Address
from routrel.model.filter_programs import (
    Chain,
    ChainKey,
    Condition,
    FilterProgram,
    Range,
    Rule,
    SetField,
    SetMark,
    Statement,
    Translation,
    UnsaidCondition,
    Untrack,
    ValueSet,
    Verdict,
    VerdictMap,
)
from routrel.model.filters import Header

MOST_RULES = 300_000
"""Rules that may be asked for one packet at one hook; past it the answer is not sure."""

MOST_OUTCOMES = 64
"""Ways that are followed through one chain."""

LONG = 48
"""Rules from which on a chain has columns."""

Ending = Literal["accept", "drop", "reject", "unsaid", ""]
"""How a packet leaves a chain; '' where no rule decided."""

Step = Callable[[Packet], Any]
Located = tuple[Chain, Rule]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one way through a base chain comes to; ``rule`` is None where the chain's policy decided.

    ``jumps`` led to the rule, ``unsure`` are the rules at which the way was not the only one.
    """

    ending: Ending
    packet: Packet
    rule: Located | None = None
    jumps: tuple[Located, ...] = ()
    unsure: tuple[Located, ...] = ()


class TooMuchError(Exception):
    """A chain that asks more rules of a packet, or takes it more ways, than are followed."""


@dataclass(slots=True)
class CompiledRule:
    rule: Rule
    steps: list[tuple[str, Any]]
    """(kind, what to do): test, effect, verdict, map, translate."""


class CompiledChain:
    """A chain with its rules as functions."""

    def __init__(self, chain: Chain, around: Surroundings):
        self.chain = chain
        self.rules = [CompiledRule(rule, [_step(one, around) for one in rule.statements]) for rule in chain.rules]
        # Rules that write addresses or ports change what later ones see: then each is asked.
        writes = any(isinstance(one, SetField) for rule in chain.rules for one in rule.statements)
        self._columns = _Columns(chain.rules) if len(chain.rules) >= LONG and not writes else None

    def candidates(self, packet: Packet, start: int) -> Iterator[int]:
        """The rules from one on that may match a packet, in their order."""
        if self._columns is None:
            return iter(range(start, len(self.rules)))
        return iter(self._columns.candidates(packet, start))


def _step(statement: Statement, around: Surroundings) -> tuple[str, Any]:
    if isinstance(statement, Condition):
        return "test", condition(statement, around)
    if isinstance(statement, UnsaidCondition):
        return "test", _unsaid
    if isinstance(statement, Verdict):
        return "verdict", statement
    if isinstance(statement, VerdictMap):
        return "map", (getter(statement.key, around), lookup(statement.data), statement.data)
    if isinstance(statement, Translation):
        return "translate", Translating(statement, around)
    if isinstance(statement, SetMark):
        return "effect", _mark_setter(statement, around)
    if isinstance(statement, SetField):
        return "effect", _field_setter(statement, around)
    assert isinstance(statement, Untrack)
    return "untrack", None


def _unsaid(packet: Packet) -> None:
    return None


def _mark_setter(statement: SetMark, around: Surroundings) -> Step:
    value = getter(statement.value, around)

    def set_mark(packet: Packet) -> bool:
        """False where the rule ends here, since the value is not there."""
        found = value(packet)
        if found is ABSENT:
            return False
        mark = found if isinstance(found, int) else UNSAID
        if statement.of == "packet":
            packet.mark = mark
        elif packet.connection is not None:
            packet.connection.mark = mark
        return True

    return set_mark


def _field_setter(statement: SetField, around: Surroundings) -> Step:
    value, room, name = getter(statement.value, around), statement.target.room, statement.target.name

    def set_field(packet: Packet) -> bool:
        found = value(packet)
        family = packet.family
        if found is ABSENT or (room == "ip" and family != 4) or (room == "ip6" and family != 6):
            return False
        if room in PORTED_ROOMS and packet.header.protocol not in PORTED_ROOMS[room]:
            return False
        if name == "dscp":
            packet.dscp = found if isinstance(found, int) else UNSAID
        elif isinstance(found, int):
            packet.header = _written(packet.header, name, found)
        return True

    return set_field


def _written(header: Header, name: str, value: int) -> Header:
    if name == "saddr":
        return header._replace(source=Address(header.source.family, value))
    if name == "daddr":
        return header._replace(destination=Address(header.destination.family, value))
    if name == "sport" and header.source_port is not None:
        return header._replace(source_port=value)
    if name == "dport" and header.destination_port is not None:
        return header._replace(destination_port=value)
    return header


class Translating:
    """A translation applied to a packet of a connection that has just begun (kernel: nf_nat_setup_info)."""

    def __init__(self, found: Translation, around: Surroundings):
        self.kind = found.kind
        self.family = found.family
        self.around = around
        self.is_source = found.kind in ("snat", "masquerade")
        self._addresses = _target(found.addresses, around)
        self._ports = _target(found.ports, around)

    def apply(self, packet: Packet) -> Literal["done", "absent", "unsaid"]:
        """Give the packet its new end; ``absent`` where the rule does not apply, ``unsaid`` where it is not told."""
        if self.family is not None and packet.family != self.family:
            return "absent"
        addresses = self._addresses(packet)
        ports = self._ports(packet)
        if isinstance(addresses, tuple) and not isinstance(addresses, Range):
            addresses, ports = (one if isinstance(one, Range) else Range(one, one) for one in addresses[:2])
        if ABSENT in (addresses, ports):
            return "absent"
        if isinstance(addresses, Unknown) or isinstance(ports, Unknown):
            return "unsaid"
        address = self._own_address(packet) if addresses is None else addresses
        if address is None:
            return "absent"
        header = packet.header
        end, port = (
            (header.source, header.source_port)
            if self.is_source
            else (
                header.destination,
                header.destination_port,
            )
        )
        chosen = Address(packet.family, min(max(end.value, address.low), address.high))
        if ports is not None and port is not None:
            port = port if ports.low <= port <= ports.high else ports.low
        # Decided also where nothing changes: no later chain is asked (nf_nat_core.c, nf_nat_initialized).
        if self.is_source:
            packet.bound_source = True
            packet.header = header._replace(source=chosen, source_port=port)
        else:
            packet.bound_destination = True
            packet.header = header._replace(destination=chosen, destination_port=port)
        # Which of several addresses it is, the kernel draws from a hash.
        return "unsaid" if address.high > address.low and not address.low <= end.value <= address.high else "done"

    def _own_address(self, packet: Packet) -> Range | None:
        """Masquerade: the address of the way out that fits the next hop; redirect: the first of the way in, the
        loopback's of own packets."""
        if self.kind not in ("masquerade", "redirect"):
            end = packet.header.source if self.is_source else packet.header.destination
            return Range(end.value, end.value)
        if self.kind == "redirect" and packet.own:
            value = (127 << 24) + 1 if packet.family == 4 else 1
            return Range(value, value)
        interface = packet.oif if self.kind == "masquerade" else packet.iif
        towards = packet.towards if self.kind == "masquerade" else None
        own = self.around.own_address(interface, packet.family, towards)
        return None if own is None else Range(own.value, own.value)


def _target(found: Any, around: Surroundings) -> Step:
    if found is None or isinstance(found, Range):
        return lambda packet: found
    value = getter(found, around)

    def result(packet: Packet) -> Any:
        given = value(packet)
        return Range(given, given) if isinstance(given, int) else given

    return result


class Runner:
    """Runs base chains of one program."""

    def __init__(self, program: FilterProgram, around: Surroundings):
        self._chains: dict[ChainKey, CompiledChain] = {
            key: CompiledChain(chain, around) for key, chain in program.chains.items()
        }
        self._left = 0

    def outcomes(self, base: Chain, packet: Packet) -> list[Outcome]:
        """Every outcome of a base chain for a packet; those that come to the same are one.

        Past the budget of work both endings are possible.
        """
        self._left = MOST_RULES
        try:
            found = self._run(self._chains[base.family, base.table, base.name], packet, 0, (), ())
        except TooMuchError:
            return [Outcome(ending, packet.copy(), unsure=((base, base.rules[0]),)) for ending in ("accept", "drop")]
        ended: list[Outcome] = []
        for one in found:
            if one.ending == "unsaid":
                ended += [
                    replace(one, ending=ending, unsure=(*one.unsure, *([one.rule] if one.rule else [])))
                    for ending in ("accept", "drop")
                ]
            else:
                ended.append(one if one.ending else replace(one, ending=base.policy))
        return _merged(ended)

    def _run(
        self,
        chain: CompiledChain,
        packet: Packet,
        start: int,
        jumps: tuple[Located, ...],
        unsure: tuple[Located, ...],
    ) -> list[Outcome]:
        """From one rule of a chain on to a verdict, or past the chain's end."""
        found: list[Outcome] = []
        for index in chain.candidates(packet, start):
            compiled = chain.rules[index]
            self._left -= 1
            if self._left < 0 or len(found) > MOST_OUTCOMES or len(unsure) > MOST_OUTCOMES:
                raise TooMuchError
            here: Located = (chain.chain, compiled.rule)
            verdicts, sure = self._verdicts(compiled, packet)
            if not verdicts:
                continue  # it did not match, or only did something to the packet
            if not sure:
                unsure = (*unsure, here)
            for verdict, after in verdicts:
                onward = verdict is None or verdict.kind == "continue"
                if onward:
                    continue
                assert verdict is not None
                found += self._decided(verdict, chain, index, after, here, jumps, unsure)
            rest = [after for verdict, after in verdicts if verdict is None or verdict.kind == "continue"]
            if not rest:
                return found
            packet = rest[0]
            for other in rest[1:]:
                found += self._run(chain, other, index + 1, jumps, unsure)
        found.append(Outcome("", packet, None, jumps, unsure))
        return found

    def _decided(
        self,
        verdict: Verdict,
        chain: CompiledChain,
        index: int,
        packet: Packet,
        here: Located,
        jumps: tuple[Located, ...],
        unsure: tuple[Located, ...],
    ) -> list[Outcome]:
        if verdict.kind in ("accept", "drop", "reject", "unsaid"):
            return [Outcome(verdict.kind, packet, here, jumps, unsure)]
        if verdict.kind == "return":
            return [Outcome("", packet, None, jumps, unsure)]
        target = self._chains[chain.chain.family, chain.chain.table, verdict.target]
        below = self._run(target, packet, 0, (*jumps, here), unsure)
        if verdict.kind == "goto":
            return [replace(one, jumps=jumps) if not one.ending else one for one in below]
        found: list[Outcome] = []
        for one in below:
            if one.ending:
                found.append(one)
            else:
                found += self._run(chain, one.packet, index + 1, jumps, one.unsure)
        return found

    def _verdicts(self, compiled: CompiledRule, packet: Packet) -> tuple[list[tuple[Verdict | None, Packet]], bool]:
        """What a rule may do with a packet, and whether that is sure; nothing where it does not matter.

        None as a verdict: the packet goes on to the next rule.
        """
        sure, other = True, packet
        for kind, what in compiled.steps:
            if kind == "test":
                holds = what(packet)
                if holds is False:
                    if sure or packet.effects == other.effects:
                        return [], True  # whatever the rest of it says, the rule does not match
                    return [(None, packet), (None, other)], False
                if holds is None and sure:
                    sure, other = False, packet
                    packet = packet.copy()
            elif kind == "effect":
                if not what(packet):
                    break
            elif kind == "untrack":
                if packet.connection is None:  # one that is tracked already stays so (nft_ct.c, nft_notrack_eval)
                    packet.state = UNTRACKED
            elif kind == "verdict":
                return ([(what, packet)] if sure else [(what, packet), (None, other)]), sure
            elif kind == "translate":
                return self._translated(what, packet, other, sure)
            else:
                return self._mapped(what, packet, other, sure)
        if sure:
            return [], True
        return [(None, packet), (None, other)], False

    @staticmethod
    def _translated(
        what: Translating, packet: Packet, other: Packet, sure: bool
    ) -> tuple[list[tuple[Verdict | None, Packet]], bool]:
        before = packet.copy()
        done = what.apply(packet)
        if done == "absent":
            return ([] if sure else [(None, other)]), sure
        found: list[tuple[Verdict | None, Packet]] = [(Verdict("accept"), packet)]
        if done == "unsaid" and packet.header == before.header:
            found.append((Verdict("drop"), before))
        return (found, sure and done == "done") if sure else ([*found, (None, other)], False)

    @staticmethod
    def _mapped(
        what: Any, packet: Packet, other: Packet, sure: bool
    ) -> tuple[list[tuple[Verdict | None, Packet]], bool]:
        key, find, data = what
        value = key(packet)
        found = value if value is ABSENT else UNSAID if isinstance(value, Unknown | Between | Partly) else find(value)
        if found is ABSENT:
            return ([] if sure else [(None, other)]), sure
        if found is UNSAID:
            given = [*data.single.values(), *(verdict for _, verdict in (*data.ranges, *data.boxes, *data.wildcards))]
            possible = list(dict.fromkeys(one for one in given if isinstance(one, Verdict)))
            return [*((one, packet.copy()) for one in possible), (None, other)], False
        assert isinstance(found, Verdict)
        return ([(found, packet)] if sure else [(found, packet), (None, other)]), sure


def _merged(outcomes: list[Outcome]) -> list[Outcome]:
    """Outcomes that come to the same as one, which is sure where it is the only one."""
    kept: dict[tuple[object, ...], Outcome] = {}
    for one in outcomes:
        passes = one.ending == "accept"
        kept.setdefault((passes, *(one.packet.effects if passes else ())), one)
    found = list(kept.values())
    return [replace(found[0], unsure=())] if len(found) == 1 else found


class _Columns:
    """What each rule of a long chain asks at least, by columns over its rules: ranges, -1 to anything for all."""

    def __init__(self, rules: tuple[Rule, ...]):
        n = len(rules)
        self.family = np.zeros(n, np.int8)
        self.protocol = np.full(n, -1, np.int16)
        self.interfaces = np.full((2, n), -1, np.int32)
        self.ranges = np.empty((4, 2, n), np.int64)
        """Source and destination (IPv4 only), source and destination ports: (field, low or high, rule)."""
        self.ranges[:, 0], self.ranges[:, 1] = -1, 2**62
        self._names: dict[str, int] = {}
        for index, rule in enumerate(rules):
            for statement in rule.statements:
                if not isinstance(statement, Condition | UnsaidCondition | SetMark):
                    break  # what stands behind a verdict is asked of nobody
                if isinstance(statement, Condition):
                    self._note(index, statement)

    def _note(self, index: int, found: Condition) -> None:
        field = found.left
        room, name = getattr(field, "room", ""), getattr(field, "name", "")
        if room in ("ip", "ip6"):
            self.family[index] = 4 if room == "ip" else 6
        if room in PORTED_ROOMS:
            self.protocol[index] = PORTED_ROOMS[room][0]
        if room == "meta" and name in ("iifname", "oifname") and found.operator == "==":
            assert isinstance(found.right, str)
            number = self._names.setdefault(found.right, len(self._names))
            self.interfaces[0 if name == "iifname" else 1, index] = number
        if (
            found.operator == "=="
            and isinstance(found.right, int)
            and ((room, name) in (("meta", "l4proto"), ("ip", "protocol")))
        ):
            self.protocol[index] = found.right if 0 <= found.right < 256 else self.protocol[index]
        at = {("ip", "saddr"): 0, ("ip", "daddr"): 1}.get((room, name))
        if at is None and room in (*PORTED_ROOMS, "th"):
            at = {"sport": 2, "dport": 3}.get(name)
        bounds = _bounds(found)
        if at is not None and bounds is not None and room != "th":
            self.ranges[at, 0, index] = max(self.ranges[at, 0, index], bounds.low)
            self.ranges[at, 1, index] = min(self.ranges[at, 1, index], bounds.high)

    def candidates(self, packet: Packet, start: int) -> list[int]:
        header = packet.header
        family = header.source.family
        met: npt.NDArray[np.bool_] = (self.family == 0) | (self.family == family)
        met &= (self.protocol < 0) | (self.protocol == header.protocol)
        for column, name in zip(self.interfaces, (packet.iif, packet.oif), strict=True):
            met &= (column < 0) | (column == self._names.get(name, -2))
        values = (
            header.source.value if family == 4 else None,
            header.destination.value if family == 4 else None,
            header.source_port,
            header.destination_port,
        )
        for (low, high), value in zip(self.ranges, values, strict=True):
            if value is not None:
                met &= (low <= value) & (value <= high)
        met[:start] = False
        return np.flatnonzero(met).tolist()


def _bounds(found: Condition) -> Range | None:
    """The numbers between which a condition can hold, where that is easily said."""
    right = found.right
    if found.operator == "==" and isinstance(right, int):
        return Range(right, right)
    if found.operator == "in" and isinstance(right, ValueSet) and not right.unsaid and not right.boxes:
        numbers = [one for one in right.single if isinstance(one, int)]
        if len(numbers) != len(right.single) or right.wildcards:
            return None
        lows = [*numbers, *(one.low for one in right.ranges)]
        highs = [*numbers, *(one.high for one in right.ranges)]
        return Range(min(lows), max(highs)) if lows else None
    return None
