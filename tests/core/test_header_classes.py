"""Sets of headers held against the headers themselves, one by one."""

from itertools import product

from hypothesis import given
from hypothesis import strategies as st

from routrel.forwarding.header_classes import HeaderSpace, TooManyPiecesError, subtract
from routrel.model.addresses import Address
from routrel.model.filters import Header, HeaderMatch, PortRange
from tests.core.test_shadowing import matches, packets

V6 = [Address(6, value) for value in range(2)]


def headers():
    yield from packets()
    for source, destination in product(V6, V6):
        yield Header(17, source, destination, 0, 1)


def only(header: Header) -> HeaderMatch:
    """The match of one header alone."""
    ports = [() if port is None else (PortRange(port, port),) for port in (header.source_port, header.destination_port)]
    return HeaderMatch(header.protocol, header.source.host_prefix(), header.destination.host_prefix(), *ports)


def is_in(space: HeaderSpace, header: Header, boxes: list) -> bool:
    (one,) = space.boxes(only(header))
    inside = [box for box in boxes if one.is_inside(box)]
    assert bool(inside) == any(one.meets(box) for box in boxes)
    return bool(inside)


@given(st.lists(matches(), min_size=2, max_size=5))
def test_what_is_left_are_the_headers_of_the_first_without_those_of_the_others(drawn):
    every = list(headers())
    space = HeaderSpace([*drawn, *map(only, every)])
    first, *others = drawn
    taken = [box for match in others for box in space.boxes(match)]
    left = subtract(space.boxes(first), taken, 10_000)
    for header in every:
        expected = first.matches(header) and not any(match.matches(header) for match in others)
        assert is_in(space, header, left) == expected
    for one in range(len(left)):
        assert not any(left[one].meets(other) for other in left[one + 1 :])


def test_more_pieces_than_allowed_are_not_followed():
    whole = HeaderMatch()
    holes = [HeaderMatch(6, source_ports=(PortRange(n, n),), destination_ports=(PortRange(n, n),)) for n in range(9)]
    space = HeaderSpace([whole, *holes])
    taken = [box for match in holes for box in space.boxes(match)]
    assert len(subtract(space.boxes(whole), taken, 100)) > 5
    try:
        subtract(space.boxes(whole), taken, 5)
    except TooManyPiecesError:
        return
    raise AssertionError("it went on")
