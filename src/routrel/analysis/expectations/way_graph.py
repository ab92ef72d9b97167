"""Ways of a network that share no link, or no device, as a flow (Menger's theorem; Ford and Fulkerson 1956).

Every device and every segment is an edge that as many ways may pass as its capacity says: a segment one, or a device
one. Made once for a network, and asked about any two of its devices.
"""

from typing import Literal

import numpy as np

from routrel.topology.segments import Topology

MANY = 1_000
"""Stands for as many ways as one likes."""


class WayGraph:
    """The devices and segments of a network as far as they are up."""

    def __init__(self, topology: Topology, apart: Literal["links", "devices"]):
        devices = len(topology.devices)
        forwards = np.array([device.forwards for device in topology.devices], bool)
        on = sorted({(port.device, topology.segment_of[port.index]) for port in topology.ports if port.up})
        stands = np.array([pair for pair in on if pair[1] >= 0], np.int64).reshape(-1, 2)
        device, segment = stands[:, 0], 2 * devices + 2 * stands[:, 1]
        every, segments = np.arange(devices), 2 * devices + 2 * np.arange(len(topology.segments))
        many = np.full(len(stands), MANY)
        # Into a device and out of it, into a segment and out of it; a host passes nothing on.
        rows = np.concatenate([2 * every, segments, 2 * device + 1, segment + 1])
        columns = np.concatenate([2 * every + 1, segments + 1, segment, 2 * device])
        one = 1 if apart == "devices" else MANY
        capacity = np.concatenate(
            [np.where(forwards, one, 0), np.full(len(segments), 1 if apart == "links" else MANY), many, many]
        )
        order = np.lexsort((columns, rows))
        size = 2 * devices + 2 * len(segments)
        self._own = np.empty(devices, np.int64)
        """By device, the place of its own edge among all."""
        place = np.empty(len(order), np.int64)
        place[order] = np.arange(len(order))
        self._own[:] = place[:devices]
        self._capacity = capacity[order].astype(np.int32)
        self._columns = columns[order].astype(np.int32)
        self._starts = np.searchsorted(rows[order], np.arange(size + 1)).astype(np.int32)

    def count(self, source: int, target: int, enough: int) -> int:
        """Separate ways between two devices, by number, up to ``enough``."""
        return int(self._flow(source, target, enough).flow_value)

    def _flow(self, source: int, target: int, enough: int):  # type: ignore[no-untyped-def]
        from scipy.sparse import csr_array
        from scipy.sparse.csgraph import maximum_flow

        capacity = self._capacity.copy()
        capacity[self._own[source]] = enough
        size = len(self._starts) - 1
        graph = csr_array((capacity, self._columns, self._starts), shape=(size, size))
        return maximum_flow(graph, 2 * source, 2 * target)
