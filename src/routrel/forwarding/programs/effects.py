"""What rules do to a packet: marks and fields that are set, ends that are translated."""

from collections.abc import Callable
from typing import Any, Literal

from routrel.forwarding.programs.packets import ABSENT, UNSAID, Packet, Unknown
from routrel.forwarding.programs.values import PORTED_ROOMS, Surroundings, getter
from routrel.model.addresses import Address
from routrel.model.filter_programs import Range, SetField, SetMark, Translation
from routrel.model.filters import Header

Step = Callable[[Packet], Any]


def mark_setter(statement: SetMark, around: Surroundings) -> Step:
    """A function that sets a mark."""
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


def field_setter(statement: SetField, around: Surroundings) -> Step:
    """A function that writes a header field; False where the packet has none such."""
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
