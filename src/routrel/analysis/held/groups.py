"""What changed, put together by what it shares, each group with a packet that shows it."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from routrel.analysis.answers.held import (
    Effect,
    Held,
    HeldExample,
    HeldGroup,
    HeldSoFar,
    PlaceSet,
)
from routrel.analysis.answers.walks import AskedFlow
from routrel.analysis.held.asked import AskedTraffic
from routrel.analysis.held.conversation import Conversation
from routrel.analysis.held.conversations import Conversations
from routrel.analysis.held.effects import EFFECTS, TITLES, Judge, Judged, counted
from routrel.analysis.held.entry_lists import Spans, address_of, span_of
from routrel.analysis.held.first_state import FirstState
from routrel.analysis.held.instance_bits import instances_of
from routrel.analysis.held.places import Place
from routrel.analysis.held.services import ORDINARY, Services
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import PROTOCOL_NAMES
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.routing.solve import Solved

MOST_GROUPS = 200
"""Groups that are listed; all are counted."""

STEPS_AT_ONCE = 8
"""Between two words on how far it is: garbage is looked for at each."""

MOST_NAMES = 12
"""Places that are named of a set."""

MARKS: dict[Effect, str] = {**dict.fromkeys(EFFECTS, "~"), "blocked": "-", "loops": "-", "open": "+"}

FOR_EXAMPLES = [*map(Prefix.parse, ("198.51.100.0/24", "203.0.113.0/24", "192.0.2.0/24", "2001:db8::/32"))]
"""Where an address outside is taken from, if it is alike there (RFC 5737, RFC 3849)."""

Pair = tuple[Place, Place]


@dataclass
class _Alike:
    """Conversations that changed alike."""

    pairs: set[Pair]
    services: Services
    example: Conversation
    outside: dict[str, None]
    """The prefixes that lead to those outside that are asked."""


def comparing(before: Solved | FirstState, after: Solved, but_for: AskedTraffic | None = None) -> Iterator[HeldSoFar]:
    """What of all traffic changed between two states, and what did not: how far it is, and at last the answer.

    ``but_for`` is traffic that is left aside.
    """
    steps = _comparing(before, after, but_for)
    step: HeldSoFar | None
    while True:
        with collection_paused():
            step = next(steps, None)
        if step is None:
            return
        yield step


def _comparing(before: Solved | FirstState, after: Solved, but_for: AskedTraffic | None) -> Iterator[HeldSoFar]:
    conversations = Conversations(before, after)
    groups, done, of = _Groups(conversations), 0, conversations.steps
    for one in conversations.changed():
        if one is not None:
            groups.add(one if but_for is None else but_for.taken_from(one, conversations.lists.space))
        else:
            done += 1
            if done % STEPS_AT_ONCE == 0:
                yield HeldSoFar(done, of, None)
    yield HeldSoFar(of, of, groups.answer())


def held_lines(found: Held) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    yield found.words
    for group in found.groups:
        if group.effect == "failing":
            continue  # counted below: it failed before
        flow = group.example.flow
        yield f"{MARKS[group.effect]} {TITLES[group.effect]}: {group.what}"
        yield f"    {_counted(group.pairs)}: {group.sources.words} > {group.destinations.words}, {group.services}"
        enter = f", in by {flow.enter}" if flow.enter else ""
        yield f"    such as {flow.source} > {flow.to} {flow.service}{enter}"
    for one in found.effects:
        if one.effect == "failing":
            yield f"~ {one.words}"
    if found.groups_in_all > len(found.groups):
        yield f"… and {found.groups_in_all - len(found.groups):,} more groups"


class _Groups:
    def __init__(self, conversations: Conversations):
        self.conversations = conversations
        self.judge = Judge(conversations.numbering)
        self.alike: dict[Judged, _Alike] = {}
        self.places: dict[str | None, set[Place]] = defaultdict(set)
        """All places of each site."""
        for source in conversations.places.sources:
            self.places[source.place.site].add(source.place)

    def add(self, one: Conversation) -> None:
        if not one.pairs:
            return
        what = self.judge.judged(one)
        found = self.alike.get(what)
        if found is None:
            found = self.alike[what] = _Alike(set(), 0, one, {})
        found.services |= one.services
        for source, destination in one.pairs:
            found.pairs.add((source.place, destination.place))
            if destination.routed_by:
                found.outside |= dict.fromkeys(destination.routed_by)

    def answer(self) -> Held:
        counts, pairs = self.conversations.counts, dict[Effect, set[Pair]]()
        left_out = min(counts.pairs, counts.past + len(counts.left_out))
        if self.conversations.is_left_out:
            left_out = counts.pairs
        for what, alike in self.alike.items():
            pairs.setdefault(what.effect, set()).update(alike.pairs)
        changed = len(set[Pair]().union(*pairs.values()))
        groups = list(self._grouped())
        return Held(
            _words(counts.pairs, changed, left_out, len(counts.not_followed)),
            counts.pairs,
            changed,
            [counted(effect, len(pairs[effect])) for effect in EFFECTS if effect in pairs],
            groups[:MOST_GROUPS],
            len(groups),
            left_out,
            len(counts.not_followed),
        )

    def _grouped(self) -> Iterator[HeldGroup]:
        """Groups in the order of their effects, the largest first."""
        for effect in EFFECTS:
            found = defaultdict[str, list[_Alike]](list)
            for key, some in self._by_course(effect):
                found[key] += some
            made = [self._group(effect, what, some) for what, some in found.items()]
            yield from sorted(made, key=lambda group: (-group.pairs, group.what))

    def _by_course(self, effect: Effect) -> Iterator[tuple[str, list[_Alike]]]:
        """What is alike, by its ends; where these are the same as before, by the devices that most of it passes no
        longer, or newly."""
        left: dict[Judged, _Alike] = {}
        for what, alike in self.alike.items():
            if what.effect == effect and what.before != what.after:
                yield f"{what.before} → {what.after}", [alike]
            elif what.effect == effect:
                left[what] = alike
        for _ in range(MOST_GROUPS):
            weight = Counter[tuple[int, int]]()
            for what, alike in left.items():
                for instance in instances_of(what.lost):
                    weight[1, instance] += len(alike.pairs)
                for instance in instances_of(what.gained):
                    weight[0, instance] += len(alike.pairs)
            if not weight:
                break
            # One that is passed no longer, as long as there is any: it is what was taken away.
            (is_lost, instance), _ = max(weight.items(), key=lambda item: (item[0][0], item[1], -item[0][1]))
            name = self.conversations.numbering.name(instance)
            taken = [what for what in left if (what.lost if is_lost else what.gained) >> instance & 1]
            gained = Counter[int]()
            for what in taken:
                for other in instances_of(what.gained):
                    gained[other] += len(left[what].pairs)
            instead = [self.conversations.numbering.name(one) for one, _ in gained.most_common(3)]
            now = f", now through {', '.join(instead)}{' …' if len(gained) > 3 else ''}" if instead else ""
            yield (
                f"no longer through {name}{now}" if is_lost else f"now through {name} too",
                [left.pop(what) for what in taken],
            )
        if left:
            is_by_links = not any(what.lost or what.gained for what in left)
            words = "by other links between the same devices" if is_by_links else "by other devices, each another"
            yield words, list(left.values())

    def _group(self, effect: Effect, what: str, alike: list[_Alike]) -> HeldGroup:
        pairs = set[Pair]().union(*(one.pairs for one in alike))
        services = 0
        for one in alike:
            services |= one.services
        largest = max(alike, key=lambda one: len(one.pairs))
        space = self.conversations.lists.space
        return HeldGroup(
            effect,
            what,
            len(pairs),
            self._place_set(source for source, _ in pairs),
            self._place_set((destination for _, destination in pairs), [name for one in alike for name in one.outside]),
            space.words(services, largest.example.pairs[0][0].place.family),
            self._example(largest.example, TITLES[effect]),
        )

    def _place_set(self, places: Iterable[Place], outside: Iterable[str] = ()) -> PlaceSet:
        found = set(places)
        words, left = list[str](), set(found)
        for site, of_site in sorted(self.places.items(), key=lambda item: item[0] or ""):
            if site is not None and len(of_site) > 1 and of_site <= found:
                words.append(f"all of {self._label(site)}")
                left -= of_site
        prefixes = list(dict.fromkeys(outside))
        if prefixes:
            left = {one for one in left if one.kind != "outside"}
        words += _some(sorted({one.name for one in left}))
        if prefixes:
            words.append(f"outside in {', '.join(_some(prefixes))}")
        names = [
            *sorted({one.name for one in found if one in left or not prefixes or one.kind != "outside"}),
            *prefixes,
        ]
        return PlaceSet(", ".join(words), len(found), names[:MOST_NAMES])

    def _label(self, site: str) -> str:
        sites = self.conversations.states[1].solved.network.sites
        return sites[site].label or site if site in sites else site

    def _example(self, one: Conversation, title: str) -> HeldExample:
        numbering, (source, destination) = self.conversations.numbering, one.pairs[0]
        part = one.between(source, destination)[0]
        service = self.conversations.lists.space.example(part.services, source.place.family)
        name = PROTOCOL_NAMES.get(service.protocol, str(service.protocol))
        device, vrf = numbering.instances[source.instance]
        is_own = source.port < 0
        near = service.source_port
        flow = AskedFlow(
            source=device if is_own else str(_ordinary(part.from_spans)),
            to=str(_ordinary(part.to_spans)),
            service=name if service.destination_port is None else f"{name}/{service.destination_port}",
            source_port=None if near == ORDINARY.low else near,
            enter=None if is_own else str(numbering.ports[source.port]),
            vrf=vrf if is_own and vrf != DEFAULT_INSTANCE else None,
        )
        what = self.judge.judged(one)
        return HeldExample(flow, what.before, what.after if what.after != what.before else title)


def _some(names: list[str]) -> list[str]:
    """The first names of many, and how many more there are."""
    return names if len(names) <= 3 else [*names[:2], f"{len(names) - 2} more"]


def _ordinary(spans: Spans) -> Address:
    """An address out of some that looks like a host's: one for examples where there is one."""
    for prefix in FOR_EXAMPLES:
        low, high = span_of(prefix)
        inside = [(max(first, low), min(last, high)) for first, last in spans if first <= high and low <= last]
        if inside:
            spans = tuple(inside)
            break
    low, high = max(spans, key=lambda span: span[1] - span[0])
    return address_of(low + min(9, (high - low) // 2))


def _counted(pairs: int) -> str:
    return f"{pairs:,} pair{'' if pairs == 1 else 's'}"


def _words(pairs: int, changed: int, left_out: int, not_followed: int) -> str:
    if left_out and left_out == pairs:
        return f"the filters tell so many ports apart that none of {pairs:,} pairs of places was compared"
    words = f"all traffic between {pairs:,} pairs of places goes as before"
    if changed:
        words = f"{changed:,} of {pairs:,} pairs of places change; nothing else does"
    if left_out:
        words += f", but for {left_out:,} pairs that were not compared"
    if not_followed:
        words += f"; {not_followed:,} lead by devices whose own rules decide, and are compared up to there"
    return words
