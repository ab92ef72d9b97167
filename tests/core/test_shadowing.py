from itertools import product

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.shadowing import shadowed_entries
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import ICMP, TCP, UDP, Header, HeaderMatch, PortRange
from tests.examples import examples

# A world small enough to try every packet: four addresses a side, two ports, three protocols.
ADDRESSES = [Address(4, value) for value in range(4)]
PORTS = (0, 1)
PREFIXES = st.one_of(
    st.none(), st.builds(lambda value, length: Prefix.of(4, value, length), st.integers(0, 3), st.integers(30, 32))
)
RANGES = st.one_of(
    st.just(()), st.just((PortRange(0, 0),)), st.just((PortRange(1, 1),)), st.just((PortRange(0, 65535),))
)


@st.composite
def matches(draw):
    protocol = draw(st.sampled_from((None, TCP, UDP, ICMP)))
    ported = protocol in (TCP, UDP)
    return HeaderMatch(
        protocol,
        draw(PREFIXES),
        draw(PREFIXES),
        draw(RANGES) if ported else (),
        draw(RANGES) if ported else (),
    )


def packets():
    for source, destination in product(ADDRESSES, ADDRESSES):
        yield Header(ICMP, source, destination, None, None)
        for protocol, source_port, destination_port in product((TCP, UDP), PORTS, PORTS):
            yield Header(protocol, source, destination, source_port, destination_port)


@given(st.lists(matches(), max_size=7))
@settings(max_examples=examples(150))
def test_no_packet_meets_a_shadowed_entry_first_and_none_does_without_those_named(entries):
    found = {shadow.entry: shadow.by for shadow in shadowed_entries(entries)}
    for index, entry in enumerate(entries):
        reached = [p for p in packets() if entry.matches(p) and not any(e.matches(p) for e in entries[:index])]
        if index in found:
            assert not reached
            by = [entries[i] for i in found[index]]
            assert all(any(e.matches(p) for e in by) for p in packets() if entry.matches(p))


def test_an_entry_covered_by_two_earlier_ones_together_is_found():
    halves = [HeaderMatch(TCP, Prefix.parse("10.0.0.0/9")), HeaderMatch(TCP, Prefix.parse("10.128.0.0/9"))]
    shadows = list(shadowed_entries([*halves, HeaderMatch(TCP, Prefix.parse("10.0.0.0/8"))]))
    assert [(s.entry, s.by) for s in shadows] == [(2, (0, 1))]


def test_an_entry_that_one_packet_still_reaches_is_not():
    first = HeaderMatch(TCP, destination_ports=(PortRange(0, 79), PortRange(81, 65535)))
    assert not list(shadowed_entries([first, HeaderMatch(TCP)]))
    second = HeaderMatch(TCP, destination_ports=(PortRange(80, 80),))
    assert [s.by for s in shadowed_entries([first, second, HeaderMatch(TCP)])] == [(0, 1)]


def test_any_protocol_is_covered_only_with_both_families():
    every = HeaderMatch()
    assert not list(shadowed_entries([HeaderMatch(source=Prefix.parse("0.0.0.0/0")), every]))
    both = [HeaderMatch(source=Prefix.parse("0.0.0.0/0")), HeaderMatch(source=Prefix.parse("::/0")), every]
    assert [s.entry for s in shadowed_entries(both)] == [2]
