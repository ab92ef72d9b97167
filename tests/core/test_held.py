"""What held: the same as every single header walked before and after."""

from collections.abc import Iterable, Iterator
from random import Random

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.held.conversation import Conversation, Sides
from routrel.analysis.held.conversations import Conversations
from routrel.analysis.held.effects import Judge
from routrel.analysis.held.entry_lists import Spans, address_of, number_of, span_of
from routrel.analysis.held.places import AddressClass
from routrel.model.addresses import Address
from routrel.solving import solve
from tests.core.held_networks import changed, networks
from tests.core.held_reference import SERVICES, Reference, cell_of, header_of
from tests.core.mixed_networks import read
from tests.examples import examples


def cells(found: Conversations, spans: Spans) -> Iterator[Address]:
    """An address of each part of a place that some entry of any filter tells apart."""
    matches = [entry.match for entries in found.lists.lists for entry in entries]
    named = [one for match in matches for one in (match.source, match.destination) if one is not None]
    begins = sorted({begin for low, high in map(span_of, named) for begin in (low, high + 1)})
    for low, high in spans:
        yield from (address_of(one) for one in [low, *(begin for begin in begins if low < begin <= high)])


def ends(found: Conversations, way) -> frozenset[tuple[str, object, str]]:
    """The ends of a way as the reference says them; loops are said apart."""
    names = found.numbering
    return frozenset(
        (end.verdict, names.ports[end.port] if end.port >= 0 else None, names.instances[end.instance][0])
        for end in way.ends
        if end.verdict not in ("loops",)
    )


def come(some: Iterable[tuple[str, object, str]]) -> set[tuple[str, object, str]]:
    """Ends, whatever came to where it was meant for the same: classes are looked at together that it tells apart."""
    came = ("arrives", "delivered")
    return {("come", None, device) if verdict in came else (verdict, port, device) for verdict, port, device in some}


MOST_HEADERS = 8_000
"""Of more, so many are walked, drawn by lot."""


def held_against_every_header(before_document: dict, after_document: dict, is_again: bool) -> None:
    before = solve(read(before_document))
    after = solve(read(after_document), before if is_again else None)
    found = Conversations(before, after)
    items: dict[tuple[int, int], list[Conversation]] = {}
    numbers = {id(source): number for number, source in enumerate(found.places.sources)}
    judge = Judge(found.numbering)
    for one in found.changed():
        if one is not None:
            assert len({judge.judged(one._replace(pairs=[pair])) for pair in one.pairs}) == 1
            for source, destination in one.pairs:
                items.setdefault((numbers[id(source)], destination.number), []).append(one)
    moving = moved(found)
    references = Reference(before), Reference(after)
    bits = {service: cell_of(found.lists.space, service) for service in SERVICES}
    # One service of each cell that entries tell apart is enough.
    services = list({bit: service for service, bit in bits.items()}.values())
    froms = [list(cells(found, source.addresses.spans)) for source in found.places.sources]
    tos = {one.number: list(cells(found, one.spans)) for one in found.places.classes}
    every = 1 + sum(map(len, froms)) * sum(map(len, tos.values())) * len(services) // MOST_HEADERS
    lot = Random(every)
    for number, source in enumerate(found.places.sources):
        device = found.numbering.instances[source.instance][0]
        port = None if source.port < 0 else found.numbering.ports[source.port].interface
        for destination in found.places.classes:
            if source.place is destination.place:
                continue
            said = items.get((number, destination.number), [])
            if number in moving:
                assert not said
                continue
            for from_address in froms[number]:
                for to_address in tos[destination.number]:
                    for service in services:
                        if lot.randrange(every):
                            continue
                        header = header_of(service, from_address, to_address)
                        courses = [one.conversation(device, port, header) for one in references]
                        matching = [
                            one
                            for one in said
                            for part in one.between(source, destination)
                            if part.services & bits[service]
                            and any(low <= number_of(from_address) <= high for low, high in part.from_spans)
                            and any(low <= number_of(to_address) <= high for low, high in part.to_spans)
                        ]
                        assert len(matching) == (courses[0] != courses[1]), (header, courses, matching)
                        for one in matching:
                            for course, sides in zip(courses, (one.before, one.after), strict=True):
                                held_against(found, course, sides, (destination, source.addresses))


def moved(found: Conversations) -> set[int]:
    """Sources of places where whoever is there only goes by another port in the other state."""
    up = [(found.is_up(source, 0), found.is_up(source, 1)) for source in found.places.sources]
    at = [{source.place for source, one in zip(found.places.sources, up, strict=True) if one[side]} for side in (0, 1)]
    return {
        number
        for number, (source, one) in enumerate(zip(found.places.sources, up, strict=True))
        if one[0] != one[1] and source.place in at[0] & at[1]
    }


def held_against(found: Conversations, course, sides: Sides, classes: tuple[AddressClass, AddressClass]) -> None:
    names = [(one[0] if isinstance(one, tuple) else one) for one in course]
    for expected, way, addresses in zip(course, sides, classes, strict=True):
        if expected is None or expected == "cut off":
            assert way is None or {end.verdict for end in way.ends} == {"cut off"}
            continue
        said = {(verdict, port, found.states[0].topology.devices[device].name) for verdict, port, device in expected[0]}
        has_own = found.ways(addresses).decisions.addresses is addresses
        assert (ends(found, way) == said) if has_own else (come(ends(found, way)) == come(said)), names
        assert any(end.verdict == "loops" for end in way.ends) == expected[2]


@given(document=networks(), data=st.data(), is_again=st.booleans())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_changed_is_what_single_headers_say(document, data, is_again):
    held_against_every_header(document, data.draw(changed(document)), is_again)
