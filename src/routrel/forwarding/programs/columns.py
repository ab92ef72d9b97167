"""What the rules of a long chain ask of a packet at least, by columns: most are passed over at once."""

import numpy as np
import numpy.typing as npt

from routrel.forwarding.programs.packets import Packet
from routrel.forwarding.programs.values import PORTED_ROOMS
from routrel.model.filter_programs import Condition, Range, Rule, SetMark, UnsaidCondition, ValueSet


class Columns:
    """Of each rule of a chain: family, protocol, interfaces and ranges of numbers, -1 to anything for all."""

    def __init__(self, rules: tuple[Rule, ...]):
        n = len(rules)
        self.family = np.zeros(n, np.int8)
        self.protocol = np.full(n, -1, np.int16)
        self.interfaces = np.full((2, n), -1, np.int32)
        self.ranges = np.empty((4, 2, n), np.int64)
        """Source and destination (IPv4 only), source and destination ports: (field, low or high, rule)."""
        self.ranges[:, 0], self.ranges[:, 1] = -1, 2**62
        self._names: dict[str, int] = {}
        for index, rule in enumerate(rules):
            for statement in rule.statements:
                if not isinstance(statement, Condition | UnsaidCondition | SetMark):
                    break  # what stands behind a verdict is asked of nobody
                if isinstance(statement, Condition):
                    self._note(index, statement)

    def _note(self, index: int, found: Condition) -> None:
        field = found.left
        room, name = getattr(field, "room", ""), getattr(field, "name", "")
        if room in ("ip", "ip6"):
            self.family[index] = 4 if room == "ip" else 6
        if room in PORTED_ROOMS:
            self.protocol[index] = PORTED_ROOMS[room][0]
        if room == "meta" and name in ("iifname", "oifname") and found.operator == "==":
            assert isinstance(found.right, str)
            number = self._names.setdefault(found.right, len(self._names))
            self.interfaces[0 if name == "iifname" else 1, index] = number
        if (
            found.operator == "=="
            and isinstance(found.right, int)
            and ((room, name) in (("meta", "l4proto"), ("ip", "protocol")))
        ):
            self.protocol[index] = found.right if 0 <= found.right < 256 else self.protocol[index]
        at = {("ip", "saddr"): 0, ("ip", "daddr"): 1}.get((room, name))
        if at is None and room in (*PORTED_ROOMS, "th"):
            at = {"sport": 2, "dport": 3}.get(name)
        bounds = _bounds(found)
        if at is not None and bounds is not None and room != "th":
            self.ranges[at, 0, index] = max(self.ranges[at, 0, index], bounds.low)
            self.ranges[at, 1, index] = min(self.ranges[at, 1, index], bounds.high)

    def candidates(self, packet: Packet, start: int) -> list[int]:
        """The rules from one on that may match a packet, in their order."""
        header = packet.header
        family = header.source.family
        met: npt.NDArray[np.bool_] = (self.family == 0) | (self.family == family)
        met &= (self.protocol < 0) | (self.protocol == header.protocol)
        for column, name in zip(self.interfaces, (packet.iif, packet.oif), strict=True):
            met &= (column < 0) | (column == self._names.get(name, -2))
        values = (
            header.source.value if family == 4 else None,
            header.destination.value if family == 4 else None,
            header.source_port,
            header.destination_port,
        )
        for (low, high), value in zip(self.ranges, values, strict=True):
            if value is not None:
                met &= (low <= value) & (value <= high)
        met[:start] = False
        return np.flatnonzero(met).tolist()


def _bounds(found: Condition) -> Range | None:
    """The numbers between which a condition can hold, where that is easily said."""
    right = found.right
    if found.operator == "==" and isinstance(right, int):
        return Range(right, right)
    if found.operator == "in" and isinstance(right, ValueSet) and not right.unsaid and not right.boxes:
        numbers = [one for one in right.single if isinstance(one, int)]
        if len(numbers) != len(right.single) or right.wildcards:
            return None
        lows = [*numbers, *(one.low for one in right.ranges)]
        highs = [*numbers, *(one.high for one in right.ranges)]
        return Range(min(lows), max(highs)) if lows else None
    return None
