"""Addresses and prefixes of both families, as (family, integer).

Each value is complete: it parses, prints, compares and contains. Parsing either gives a valid value or
raises ``ValueError`` quoting the input. Text forms: RFC 4632 for IPv4 prefixes, RFC 4291 section 2.2 and
RFC 5952 for IPv6.
"""

import ipaddress
from socket import AF_INET, inet_pton
from typing import NamedTuple

BITS = {4: 32, 6: 128}


def _ipv4(text: str) -> int | None:
    """Dotted decimals, as most addresses are, in a tenth of the time; None leaves all else to ``ipaddress``."""
    try:
        return int.from_bytes(inet_pton(AF_INET, text), "big")
    except (OSError, ValueError):
        return None


def _ipv4_with_length(text: str) -> tuple[int, int] | None:
    address, _, length = text.partition("/")
    value = _ipv4(address)
    if value is None or not (length.isascii() and length.isdigit() and len(length) < 3 and int(length) <= 32):
        return None
    return value, int(length)


class Address(NamedTuple):
    """One IPv4 or IPv6 address: ``family`` is 4 or 6, ``value`` the address as an integer."""

    family: int
    value: int

    @classmethod
    def parse(cls, text: str) -> "Address":
        value = _ipv4(text)
        if value is not None:
            return cls(4, value)
        parsed = ipaddress.ip_address(text)
        return cls(parsed.version, int(parsed))

    def __str__(self) -> str:
        if self.family == 4:
            value = self.value
            return f"{value >> 24}.{value >> 16 & 255}.{value >> 8 & 255}.{value & 255}"
        return str(ipaddress.IPv6Address(self.value))

    @property
    def is_multicast(self) -> bool:
        """RFC 5771, RFC 4291 section 2.7."""
        return self.value >> 28 == 0xE if self.family == 4 else self.value >> 120 == 0xFF

    @property
    def is_link_local(self) -> bool:
        """RFC 4291 section 2.5.6. IPv4's (RFC 3927) are ordinary addresses to routers."""
        return self.family == 6 and self.value >> 118 == 0x3FA

    def host_prefix(self) -> "Prefix":
        return Prefix(self.family, self.value, BITS[self.family])


class Prefix(NamedTuple):
    """A prefix: ``network`` is its lowest address as an integer, ``length`` its mask length."""

    family: int
    network: int
    length: int

    @classmethod
    def parse(cls, text: str) -> "Prefix":
        """Read ``10.0.0.0/8``; host bits set, or a missing length, raise ``ValueError``."""
        if "/" not in text:
            raise ValueError(f"{text!r} has no prefix length")
        found = _ipv4_with_length(text)
        if found is not None and found[0] & (1 << 32 - found[1]) - 1 == 0:
            return cls(4, *found)
        parsed = ipaddress.ip_network(text)
        return cls(parsed.version, int(parsed.network_address), parsed.prefixlen)

    @classmethod
    def of(cls, family: int, value: int, length: int) -> "Prefix":
        """The prefix of ``length`` bits that holds the address ``value``."""
        shift = BITS[family] - length
        return cls(family, value >> shift << shift, length)

    def __str__(self) -> str:
        return f"{Address(self.family, self.network)}/{self.length}"

    @property
    def last(self) -> int:
        """The highest address as an integer."""
        return self.network + (1 << BITS[self.family] - self.length) - 1

    @property
    def is_host(self) -> bool:
        return self.length == BITS[self.family]

    @property
    def is_default(self) -> bool:
        return self.length == 0

    @property
    def is_link_local(self) -> bool:
        """RFC 4291 section 2.5.6 (fe80::/10); IPv4 link-local prefixes are ordinary here."""
        return self.family == 6 and self.length >= 10 and self.network >> 118 == 0x3FA

    def contains(self, address: Address) -> bool:
        return (
            address.family == self.family
            and address.value >> (BITS[self.family] - self.length) == self.network >> BITS[self.family] - self.length
        )

    def covers(self, other: "Prefix") -> bool:
        return (
            other.family == self.family
            and other.length >= self.length
            and self.contains(Address(other.family, other.network))
        )

    def overlaps(self, other: "Prefix") -> bool:
        return self.covers(other) or other.covers(self)


class InterfaceAddress(NamedTuple):
    """An address as an interface carries it: with the length of its subnet, host bits kept."""

    family: int
    value: int
    length: int

    @classmethod
    def parse(cls, text: str) -> "InterfaceAddress":
        if "/" not in text:
            raise ValueError(f"{text!r} has no prefix length")
        found = _ipv4_with_length(text)
        if found is not None:
            return cls(4, *found)
        parsed = ipaddress.ip_interface(text)
        return cls(parsed.version, int(parsed.ip), parsed.network.prefixlen)

    def __str__(self) -> str:
        return f"{self.address}/{self.length}"

    @property
    def address(self) -> Address:
        return Address(self.family, self.value)

    @property
    def prefix(self) -> Prefix:
        shift = BITS[self.family] - self.length
        return Prefix(self.family, self.value >> shift << shift, self.length)

    def is_on_subnet_with(self, address: Address) -> bool:
        """Whether another address is of the same subnet."""
        differing = self.value ^ address.value
        return differing != 0 and address.family == self.family and not differing >> BITS[self.family] - self.length


def link_local_of(mac: str) -> Address:
    """The IPv6 link-local address formed from a MAC address: modified EUI-64, RFC 4291 appendix A."""
    octets = [int(part, 16) for part in mac.split(":")]
    identifier = [octets[0] ^ 2, *octets[1:3], 0xFF, 0xFE, *octets[3:]]
    return Address(6, (0xFE80 << 112) | int.from_bytes(bytes(identifier), "big"))
