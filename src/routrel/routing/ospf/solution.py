"""The areas joined: border routers, inter-area routes and address ranges.

RFC 2328 sections 12.4.3 (what a border router passes on), 16.2 (inter-area routes), 11.1 and 16.2 (3)
(active ranges and their discard entries), 16.1 (intra-area before inter-area).
"""

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.model.devices import OspfRange
from routrel.model.places import Place
from routrel.routing.ospf.area import UNREACHED, WORD, Area, Masks, Metrics
from routrel.routing.ospf.database import Database
from routrel.routing.prefixes import PrefixIndex
from routrel.topology.segments import Topology

BACKBONE = 0
NONE, INTRA, INTER, DISCARD = 0, 1, 2, 3
KIND_NAMES = {INTRA: "intra-area", INTER: "inter-area", DISCARD: "range"}

Kinds = npt.NDArray[np.int8]


@dataclass(slots=True)
class DeviceRoutes:
    """One router's OSPF routes over all p prefixes.

    ``kind`` int8 (p,): NONE, INTRA, INTER or DISCARD. ``metric`` int32 (p,). ``masks`` uint64 (w, p): bit
    b of word k stands for ``hops[64 k + b]``, a (port, neighbour's address) or None.
    """

    kind: Kinds
    metric: Metrics
    masks: Masks
    hops: list[tuple[int, Address] | None]

    def next_hops(self, number: int) -> list[tuple[int, Address]]:
        """The next hops to a prefix, by its number, in the order of the edges."""
        found = []
        for word in range(len(self.masks)):
            mask = int(self.masks[word, number])
            while mask:
                bit = (mask & -mask).bit_length() - 1
                mask &= mask - 1
                hop = self.hops[word * WORD + bit]
                assert hop is not None
                found.append(hop)
        return found


class OspfSolution:
    """OSPF solved: areas hold matrices, border routers their summaries; rows are made when asked for."""

    def __init__(self, topology: Topology, database: Database, prefixes: PrefixIndex):
        self.topology = topology
        self.database = database
        self.index = prefixes
        self.areas = {number: Area(area, prefixes) for number, area in sorted(database.areas.items())}
        self.areas_of: dict[int, list[int]] = defaultdict(list)
        for number, area in self.areas.items():
            for router in area.routers:
                self.areas_of[router].append(number)
        self.borders = [router for router, areas in sorted(self.areas_of.items()) if len(areas) > 1]
        self.ranges: dict[tuple[int, int], tuple[OspfRange, ...]] = {}
        for device in self.borders:
            routing = topology.devices[device].routing
            assert routing is not None and routing.ospf is not None
            for configured in routing.ospf.areas:
                self.ranges[device, configured.number] = configured.ranges
        self.summaries: dict[int, tuple[list[int], Metrics]] = {}
        """Per area: the border routers (device numbers) and what each passes into it, int32 (b, p)."""
        self._intra_rows: dict[int, DeviceRoutes] = {}
        self._pass_on()

    def runs_on(self, device: int) -> bool:
        return device in self.areas_of

    def routes_of(self, device: int) -> DeviceRoutes:
        """All OSPF routes of a router: intra-area, then inter-area where there is no other, then ranges."""
        kept = self._intra_rows.get(device)
        intra = kept or self._intra(device)
        kind, metric, masks = intra.kind, intra.metric, intra.masks
        if kept is not None:
            kind, metric, masks = kind.copy(), metric.copy(), masks.copy()
        words = self._word_offsets(device)
        areas = self.areas_of[device]
        # Section 16.2: a border router looks at the backbone's summaries only.
        looked_at = areas if len(areas) == 1 else [number for number in areas if number == BACKBONE]
        own_ranges = [number for number, _, _, _ in self.active_ranges(device)]
        for number in looked_at if self.borders else ():
            inter, inter_masks = self._inter(device, number)
            if own_ranges:
                inter[own_ranges] = UNREACHED
            chosen = (kind == NONE) & (inter < UNREACHED)
            kind[chosen] = INTER
            metric[chosen] = inter[chosen]
            offset = words[number]
            masks[offset : offset + len(inter_masks)][:, chosen] = inter_masks[:, chosen]
        for prefix_number, _, cost, _ in self.active_ranges(device):
            if kind[prefix_number] != INTRA:
                kind[prefix_number] = DISCARD
                metric[prefix_number] = cost
                masks[:, prefix_number] = 0
        return DeviceRoutes(kind, metric, masks, intra.hops)

    def range_place(self, device: int, number: int) -> Place | None:
        """Where the range stands that a router's discard entry for a prefix comes from."""
        prefix = self.index.prefixes[number]
        for (owner, _), ranges in self.ranges.items():
            for configured in ranges:
                if owner == device and configured.prefix == prefix:
                    return configured.place
        return None

    def active_ranges(self, device: int) -> list[tuple[int, OspfRange, int, int]]:
        """(prefix number, range, cost, area) of each range with a route of its area inside."""
        if len(self.areas_of[device]) < 2:
            return []
        active = []
        for number in self.areas_of[device]:
            ranges = self.ranges[device, number]
            if not ranges:
                continue
            area = self.areas[number]
            costs, _ = area.row(area.local[device])
            for configured in ranges:
                inside = costs[self._within(area, configured)]
                inside = inside[inside < UNREACHED]
                if len(inside):
                    cost = int(inside.max()) if configured.cost is None else configured.cost
                    active.append((self.index.number[configured.prefix], configured, cost, number))
        return active

    def _within(self, area: Area, configured: OspfRange) -> npt.NDArray[np.bool_]:
        return np.array([configured.prefix.covers(self.index.prefixes[number]) for number in area.prefixes], dtype=bool)

    def _word_offsets(self, device: int) -> dict[int, int]:
        offsets, offset = {}, 0
        for number in self.areas_of[device]:
            offsets[number] = offset
            offset += len(self.areas[number].masks)
        return offsets

    def _intra(self, device: int) -> DeviceRoutes:
        p = len(self.index)
        offsets = self._word_offsets(device)
        width = sum(len(self.areas[number].masks) for number in self.areas_of[device])
        kind = np.zeros(p, np.int8)
        metric = np.full(p, UNREACHED, np.int32)
        masks = np.zeros((width, p), np.uint64)
        hops: list[tuple[int, Address] | None] = []
        for number in self.areas_of[device]:
            area = self.areas[number]
            local = area.local[device]
            costs, words = area.row(local)
            if len(self.areas_of[device]) == 1:
                metric[area.prefixes] = costs
                masks[:, area.prefixes] = words
                kind[area.prefixes] = np.where(costs < UNREACHED, INTRA, NONE)
            else:
                better = costs < metric[area.prefixes]
                equal = (costs == metric[area.prefixes]) & (costs < UNREACHED)
                masks[:, area.prefixes[better]] = 0
                chosen = better | equal
                offset = offsets[number]
                masks[offset : offset + len(words)][:, area.prefixes[chosen]] = words[:, chosen]
                metric[area.prefixes[better]] = costs[better]
                kind[area.prefixes[chosen]] = INTRA
            hops.extend(area.hops[local])
            hops.extend([None] * (len(words) * WORD - len(area.hops[local])))
        return DeviceRoutes(kind, metric, masks, hops)

    def _inter(self, device: int, number: int) -> tuple[Metrics, Masks]:
        """Section 16.2: cost to each border router plus what it advertises; equal ones are merged."""
        area = self.areas[number]
        borders, costs = self.summaries.get(number, ([], np.empty((0, len(self.index)), np.int32)))
        local = area.local[device]
        others = [row for row, border in enumerate(borders) if border != device]
        columns = [area.local[borders[row]] for row in others]
        if not others:
            return (
                np.full(len(self.index), UNREACHED, np.int32),
                np.zeros((len(area.masks), len(self.index)), np.uint64),
            )
        total = area.distance[local, columns][:, None] + costs[others]
        best = total.min(axis=0)
        is_best = (total == best) & (total < UNREACHED)
        masks = np.zeros((len(area.masks), len(self.index)), np.uint64)
        for word in range(len(masks)):
            choice = np.where(is_best, area.masks[word, local, columns][:, None], np.uint64(0))
            masks[word] = np.bitwise_or.reduce(choice, axis=0)
        return np.minimum(best, UNREACHED), masks

    def _pass_on(self) -> None:
        """Fill ``summaries``: the backbone's first, since what it carries is passed on from there."""
        for device in self.borders:
            self._intra_rows[device] = self._intra(device)
        for number in sorted(self.areas, key=lambda area: area != BACKBONE):
            borders = [device for device in self.borders if number in self.areas_of[device]]
            if borders:
                rows = [self._advertised(device, number) for device in borders]
                self.summaries[number] = (borders, np.stack(rows))

    def _advertised(self, device: int, into: int) -> Metrics:
        """Section 12.4.3: what a border router advertises into one of its areas."""
        result = np.full(len(self.index), UNREACHED, np.int32)
        for number in self.areas_of[device]:
            if number != into:
                self._condense(device, number, result)
        if into != BACKBONE and BACKBONE in self.areas_of[device]:
            inter, _ = self._inter(device, BACKBONE)
            inter[[number for number, _, _, _ in self.active_ranges(device)]] = UNREACHED
            passed = (self._intra_rows[device].kind == NONE) & (inter < UNREACHED)
            result[passed] = np.minimum(result[passed], inter[passed])
        return result

    def _condense(self, device: int, number: int, result: Metrics) -> None:
        """Intra-area routes of an area, those within its ranges replaced by the active ranges."""
        area = self.areas[number]
        costs, _ = area.row(area.local[device])
        # The route itself may be of another area, at a lower cost: only the best is advertised.
        shown = (costs < UNREACHED) & (costs == self._intra_rows[device].metric[area.prefixes])
        for configured in self.ranges[device, number]:
            shown &= ~self._within(area, configured)
        numbers = area.prefixes[shown]
        result[numbers] = np.minimum(result[numbers], costs[shown])
        for prefix_number, configured, cost, owner in self.active_ranges(device):
            if owner == number and configured.advertise:
                result[prefix_number] = min(int(result[prefix_number]), cost)
