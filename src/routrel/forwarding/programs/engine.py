"""One device's filter program: what its hooks make of a packet, with tracking and translation between them.

The order at a hook is that of priorities; tracking stands at -200, translation of destinations at -100, of
sources at 100 (kernel: include/uapi/linux/netfilter_ipv4.h). Chains of type nat are asked for the packet that
begins a connection, the first that decides ends it (nf_nat_core.c); its other packets follow what was decided.
"""

from typing import Literal

from msgspec import Struct

from routrel.forwarding.programs.chains import Located, Outcome, Runner
from routrel.forwarding.programs.packets import Packet
from routrel.forwarding.programs.ports import PortEdges
from routrel.forwarding.programs.tracking import Tracker, note_translation, translate_as_known
from routrel.forwarding.programs.values import Surroundings, condition
from routrel.model.fields import replace
from routrel.model.filter_programs import HOOKS, Chain, Condition, FilterProgram, Hook, Rule, Verdict
from routrel.model.filters import Header

TRACKING, DESTINATION, SOURCE = -200, -100, 100
MOST_PASSAGES = 16
"""Ways through one hook that are followed apart; one more may end there, as far as can be told."""

FAMILIES = {4: ("ip", "inet"), 6: ("ip6", "inet")}


class RuleCheck(Struct, frozen=True):
    """What a base chain did with a packet; ``rule`` is None where its policy decided.

    ``located`` is the chain that holds the rule, ``jumps`` the rules that led there. Where ``unsure`` is not
    empty, those rules hang on what no capture tells, and this is one of several outcomes.
    """

    hook: Hook
    base: Chain
    located: Chain
    rule: Rule | None
    action: Literal["accept", "drop", "reject"]
    jumps: tuple[Located, ...] = ()
    unsure: tuple[Located, ...] = ()
    header: Header | None = None
    """The packet's header as the chain saw it."""
    packet: Packet | None = None
    """Of a packet that it ended: the packet as it came to the chain."""

    @property
    def accepted(self) -> bool:
        return self.action == "accept"


class Passage(Struct):
    """One way of a packet through the hooks of a device; ``is_over`` where a rule has ended it."""

    packet: Packet
    checks: tuple[RuleCheck, ...] = ()
    is_over: bool = False

    @property
    def is_sure(self) -> bool:
        return not any(check.unsure for check in self.checks)


class Engine:
    """The program of one device, by its number."""

    def __init__(self, device: int, program: FilterProgram, around: Surroundings):
        self.device = device
        self.program = program
        self.around = around
        self._runner = Runner(program, around)
        self._steps: dict[tuple[Hook, int], list[tuple[int, Chain | str]]] = {}
        self.port_edges = PortEdges(program)
        for hook in HOOKS:
            for family in (4, 6):
                self._steps[hook, family] = self._order(hook, family)

    def _order(self, hook: Hook, family: int) -> list[tuple[int, Chain | str]]:
        families = ("netdev", "inet") if hook == "ingress" else FAMILIES[family]
        chains = [one for one in self.program.base_chains(hook) if one.family in families]
        steps: list[tuple[int, Chain | str]] = [(one.priority, one) for one in chains if one.kind != "nat"]
        if hook in ("prerouting", "output"):
            steps += [(TRACKING, "track"), (DESTINATION, "destination")]
        if hook in ("postrouting", "input"):
            steps.append((SOURCE, "source"))
        return sorted(steps, key=lambda step: step[0])

    def failed_conditions(self, rule: Rule, packet: Packet) -> list[Condition] | None:
        """The conditions of a rule that a packet does not meet; None where some are not sure or no conditions."""
        found = []
        for statement in rule.statements:
            if isinstance(statement, Verdict):
                break
            if not isinstance(statement, Condition):
                return None
            holds = condition(statement, self.around)(packet)
            if holds is None:
                return None
            if not holds:
                found.append(statement)
        return found

    def run(self, hook: Hook, passages: list[Passage], tracker: Tracker) -> list[Passage]:
        """All that may become of packets at a hook; those that are over stay as they are."""
        live = [one for one in passages if not one.is_over]
        over = [one for one in passages if one.is_over]
        if not live:
            return over
        for one in live:
            one.packet.hook = hook
        for _, step in self._steps[hook, live[0].packet.family]:
            if isinstance(step, Chain):
                live = [onward for one in live for onward in self._ask(hook, step, one)]
            elif step == "track":
                for one in live:
                    if one.packet.connection is None:
                        tracker.track(self.device, one.packet)
            else:
                live = [onward for one in live for onward in self._translate(hook, step, one)]
            over += [one for one in live if one.is_over]
            live = [one for one in live if not one.is_over]
            if len(live) > MOST_PASSAGES:
                over.append(_not_followed(live[MOST_PASSAGES]))
                live = live[:MOST_PASSAGES]
        return live + over

    def _ask(self, hook: Hook, chain: Chain, passage: Passage) -> list[Passage]:
        if hook == "ingress" and chain.devices is not None and passage.packet.iif not in chain.devices:
            return [passage]
        asked = passage.packet.copy()
        outcomes = self._runner.outcomes(chain, passage.packet)
        if hook == "ingress" and chain.devices is None and any(one.ending != "accept" for one in outcomes):
            # The listing does not say which interfaces the chain is for.
            blank: tuple[Located, ...] = ((chain, chain.rules[0]),) if chain.rules else ()
            outcomes = [replace(one, unsure=one.unsure or blank) for one in outcomes]
            if all(one.ending != "accept" for one in outcomes):
                outcomes.append(Outcome("accept", passage.packet.copy(), unsure=blank))
        return [self._passage(hook, chain, passage, one, asked) for one in outcomes]

    @staticmethod
    def _passage(hook: Hook, chain: Chain, passage: Passage, outcome: Outcome, asked: Packet) -> Passage:
        located, rule = outcome.rule or (chain, None)
        action: Literal["accept", "drop", "reject"] = "accept"
        if outcome.ending in ("drop", "reject"):
            action = "reject" if outcome.ending == "reject" else "drop"
        ended = asked if action != "accept" else None
        jumps, unsure = outcome.jumps, outcome.unsure
        check = RuleCheck(hook, chain, located, rule, action, jumps, unsure, asked.header, ended)
        return Passage(outcome.packet, (*passage.checks, check), action != "accept")

    def _translate(self, hook: Hook, side: str, passage: Passage) -> list[Passage]:
        """Translation of one side: decided by rules where the connection is fresh, else as it was decided."""
        packet = passage.packet
        if packet.connection is None:
            return [passage]
        if not packet.is_fresh:
            translate_as_known(packet, side)
            return [passage]
        if packet.bound_destination if side == "destination" else packet.bound_source:
            return [passage]
        passages = [passage]
        for chain in self.program.base_chains(hook):
            if chain.kind != "nat" or chain.family not in FAMILIES[packet.family]:
                continue
            onward = []
            for one in passages:
                if one.is_over or _is_bound(one.packet, side):
                    onward.append(one)
                    continue
                header = one.packet.header
                before = (header.source, header.source_port), (header.destination, header.destination_port)
                for found in self._ask(hook, chain, one):
                    note_translation(found.packet, *before)
                    onward.append(found)
            passages = onward
        for one in passages:
            _bind(one.packet, side)
        return passages


def _not_followed(passage: Passage) -> Passage:
    """A way that is one too many, as one that may end: what later chains would do with it is not looked into."""
    last = passage.checks[-1]
    unsure = next((check.unsure for check in passage.checks if check.unsure), ())
    ended = replace(last, action="drop", unsure=unsure, packet=passage.packet)
    return Passage(passage.packet, (*passage.checks[:-1], ended), True)


def _is_bound(packet: Packet, side: str) -> bool:
    return packet.bound_destination if side == "destination" else packet.bound_source


def _bind(packet: Packet, side: str) -> None:
    if side == "destination":
        packet.bound_destination = True
    else:
        packet.bound_source = True
