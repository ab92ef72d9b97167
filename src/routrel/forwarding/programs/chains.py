"""Chains compiled and run: for a packet every outcome that is possible, which is one unless something is unsaid.

A rule that hangs on what no capture tells is taken both ways. A long chain has columns of what its rules ask of
a packet at least (family, protocol, addresses, port, interfaces), so that most rules are passed over at once.
"""

from collections.abc import Iterator
from typing import Any, Literal

from msgspec import Struct

from routrel.forwarding.programs.columns import Columns
from routrel.forwarding.programs.effects import Translating, field_setter, mark_setter
from routrel.forwarding.programs.packets import ABSENT, UNSAID, UNTRACKED, Between, Packet, Partly, Unknown
from routrel.forwarding.programs.values import Surroundings, condition, getter, lookup
from routrel.model.fields import replace
from routrel.model.filter_programs import (
    Chain,
    ChainKey,
    Condition,
    FilterProgram,
    Rule,
    SetField,
    SetMark,
    Statement,
    Translation,
    UnsaidCondition,
    Untrack,
    Verdict,
    VerdictMap,
)

MOST_RULES = 300_000
"""Rules that may be asked for one packet at one hook; past it the answer is not sure."""

MOST_OUTCOMES = 64
"""Ways that are followed through one chain."""

LONG = 48
"""Rules from which on a chain has columns."""

Ending = Literal["accept", "drop", "reject", "unsaid", ""]
"""How a packet leaves a chain; '' where no rule decided."""

Located = tuple[Chain, Rule]


class Outcome(Struct, frozen=True):
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


class CompiledRule(Struct):
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
        self._columns = Columns(chain.rules) if len(chain.rules) >= LONG and not writes else None

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
        return "effect", mark_setter(statement, around)
    if isinstance(statement, SetField):
        return "effect", field_setter(statement, around)
    assert isinstance(statement, Untrack)
    return "untrack", None


def _unsaid(packet: Packet) -> None:
    return None


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
