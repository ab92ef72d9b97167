"""What filters do with sets of services between addresses, held against asking them of single headers."""

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.held.entry_lists import ACCEPTS, ACCEPTS_STATEFULLY, DROPS, EntryLists, number_of, span_of
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Acl, AclEntry, ForwardingPolicy, HeaderMatch, PortRange, SteeringEntry
from tests.core.held_reference import SERVICES, cell_of, header_of
from tests.examples import examples

PREFIXES = [*map(Prefix.parse, ("0.0.0.0/0", "10.0.0.0/8", "10.1.0.0/16", "10.1.1.1/32", "192.0.2.0/25"))]
ADDRESSES = [*map(Address.parse, ("10.1.1.1", "10.1.1.2", "10.2.0.1", "192.0.2.127", "192.0.2.128", "203.0.113.1"))]
PORTS = st.sampled_from([(), (PortRange(22, 22),), (PortRange(80, 443), PortRange(1024, 65535))])


@st.composite
def matches(draw) -> HeaderMatch:
    protocol = draw(st.sampled_from([None, 1, 6, 17, 89]))
    prefix = st.none() | st.sampled_from(PREFIXES)
    ports = (draw(PORTS), draw(PORTS)) if protocol in (6, 17) else ((), ())
    return HeaderMatch(protocol, draw(prefix), draw(prefix), *ports)


ACLS = st.lists(
    st.builds(AclEntry, st.sampled_from(["accept", "drop"]), matches(), stateful=st.booleans()), max_size=5
).map(lambda entries: Acl("a", tuple(entries)))
POLICIES = st.lists(st.builds(SteeringEntry, st.sampled_from(["discard", "table"]), matches()), max_size=4).map(
    lambda entries: ForwardingPolicy("p", tuple(entries))
)


def expected(acl: Acl, header) -> str:
    index = acl.first_match(header)
    if index is None or acl.entries[index].action != "accept":
        return DROPS
    return ACCEPTS_STATEFULLY if acl.entries[index].stateful else ACCEPTS


@given(acl=ACLS, other=ACLS, policy=POLICIES, is_answer=st.booleans(), data=st.data())
@settings(max_examples=examples(150), deadline=None)
def test_sets_of_services_are_treated_as_each_header_is(acl, other, policy, is_answer, data):
    lists = EntryLists()
    numbers = lists.number_of_acl(acl), lists.number_of_acl(other), lists.number_of_policy(policy)
    assert lists.number_of_acl(None) == -1 and lists.number_of_acl(Acl("b", acl.entries)) == numbers[0]
    lists.close()
    source, destination = data.draw(st.sampled_from(ADDRESSES)), data.draw(st.sampled_from(ADDRESSES))
    every = (span_of(PREFIXES[0]),)
    holding = []
    for address, of_sources in ((source, True), (destination, False)):
        parts = lists.parted(numbers, every, of_sources)
        # Every address is in one part.
        assert sum(high - low + 1 for spans in parts.values() for low, high in spans) == 1 << 32
        at = number_of(address)
        (covered,) = [key for key, spans in parts.items() if any(low <= at <= high for low, high in spans)]
        holding.append(covered)
    entries = {number: a & b for number, a, b in zip(numbers, *holding, strict=True)}
    apart = lists.told_apart(numbers, entries, is_answer)
    # Every service is in one part.
    assert sum(services for services, _ in apart) == lists.space.everything
    for service in SERVICES:
        protocol, near, far = service
        header = header_of((protocol, far, near) if is_answer else service, source, destination)
        cell = cell_of(lists.space, service)
        (does,) = [does for services, does in apart if services & cell]
        steered = next((n for n, one in enumerate(policy.entries) if one.match.matches(header)), None)
        assert does == (expected(acl, header), expected(other, header), steered)
