import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from routrel.model.addresses import BITS, Address, InterfaceAddress, Prefix, link_local_of

families = st.sampled_from((4, 6))


@st.composite
def prefixes(draw, family=None):
    family = family or draw(families)
    length = draw(st.integers(0, BITS[family]))
    return Prefix.of(family, draw(st.integers(0, 2 ** BITS[family] - 1)), length)


@given(prefixes())
def test_a_prefix_survives_its_text(prefix):
    assert Prefix.parse(str(prefix)) == prefix
    assert str(ipaddress.ip_network(str(prefix))) == str(prefix)


@given(prefixes(), prefixes())
def test_cover_and_overlap_agree_with_the_standard_library(one, other):
    first, second = ipaddress.ip_network(str(one)), ipaddress.ip_network(str(other))
    same = one.family == other.family
    assert one.covers(other) == (same and second.subnet_of(first))
    assert one.overlaps(other) == (same and first.overlaps(second))


@pytest.mark.parametrize("text", ["10.0.0.0", "10.0.0.1/24", "10.0.0.0/33", "x/8", "::1/64", "", "10.0.0/8"])
def test_what_is_no_prefix_is_refused(text):
    with pytest.raises(ValueError):
        Prefix.parse(text)


def test_an_interface_address_keeps_its_host_bits():
    address = InterfaceAddress.parse("10.4.0.1/24")
    assert str(address) == "10.4.0.1/24"
    assert str(address.prefix) == "10.4.0.0/24"


def test_link_local_of_a_mac_is_modified_eui_64():
    # RFC 4291 appendix A: the universal/local bit is inverted, fffe put in the middle.
    assert str(link_local_of("34:56:78:9a:bc:de")) == "fe80::3656:78ff:fe9a:bcde"
    assert link_local_of("02:00:00:00:00:01").is_link_local


def test_families_do_not_mix():
    assert not Prefix.parse("0.0.0.0/0").contains(Address.parse("::1"))


PARTS = st.one_of(st.integers(0, 300).map(str), st.sampled_from(["", "00", "007", "1e1", "+1", " 1", "\u0661", "0x1"]))
TEXTS = st.builds(
    lambda parts, length: ".".join(parts) + length,
    st.lists(PARTS, min_size=3, max_size=5),
    st.one_of(st.just(""), PARTS.map(lambda one: f"/{one}"), st.just("/255.255.0.0")),
)


@given(TEXTS)
def test_what_is_read_fast_is_what_the_standard_library_reads(text):
    def outcome(read):
        try:
            return read(text)
        except ValueError:
            return "refused"

    def of_prefix(text):
        found = ipaddress.ip_network(text)
        return found.version, int(found.network_address), found.prefixlen

    def of_interface(text):
        found = ipaddress.ip_interface(text)
        return found.version, int(found.ip), found.network.prefixlen

    assert outcome(Address.parse) == outcome(lambda text: (4, int(ipaddress.IPv4Address(text))))
    if "/" in text:
        assert outcome(Prefix.parse) == outcome(of_prefix)
        assert outcome(InterfaceAddress.parse) == outcome(of_interface)
