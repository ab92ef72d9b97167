"""What one speaker says to another of its best paths, and what of that the other lets in.

RFC 4271 sections 5.1 (attributes), 9.1.3 and 9.2 (what is sent to whom), 9.1.2 (loops); RFC 4456 sections
6 and 8 (reflection); RFC 1997 (communities); RFC 8212 (policies required).
"""

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.model.policies import ORIGINS, Policy
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE
from routrel.routing.arrays import Column, Flags, distinct
from routrel.routing.bgp.paths import (
    ABSENT,
    AS_PATH,
    CLUSTERS,
    COMMUNITIES,
    IS_LOCAL,
    LOCAL_PREFERENCE,
    MED,
    NEXT_HOP,
    ORIGIN,
    ORIGINATOR,
    OWN,
    PREFERENCE,
    TAG,
    WEIGHT,
    PathRows,
    Paths,
    Rows,
    without_private,
)
from routrel.routing.bgp.sessions import BgpDatabase
from routrel.routing.bgp.speakers import Channel, Outside
from routrel.routing.policies import evaluate, matching
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.topology.segments import Topology

LOCALLY = -1
"""Stands for a channel where a router says a path itself."""


class Messages:
    """Paths handed from speaker to speaker."""

    def __init__(self, topology: Topology, database: BgpDatabase, paths: Paths, columns: PrefixClasses):
        self.topology = topology
        self.database = database
        self.paths = paths
        self.columns = columns
        self.channels: list[Channel] = []
        self._is_internal: Flags = np.zeros(1, bool)
        self._is_client: Flags = np.zeros(1, bool)
        self._ports: npt.NDArray[np.int64] = np.zeros(1, np.int64)
        self._identifiers: Column = np.zeros(1, np.int64)
        self._kinds: dict[tuple[int, str] | None, Column] = {}
        """By device and policy."""
        self._received: dict[int, tuple[Column, Column]] = {}
        self._own_hops: dict[int, Flags] = {}
        """By process, which next hops (by their numbers) are addresses of its own."""
        self._family = np.where(columns.is_ipv6, 6, 4)

    def use(self, channels: list[Channel]) -> None:
        """The channels that are up; the place after the last stands for ``LOCALLY``."""
        self.channels = channels
        self._is_internal = np.array([not one.external for one in channels] + [False])
        self._is_client = np.array([one.receiving.neighbor.route_reflector_client for one in channels] + [False])
        self._ports = np.array([channels[one.reverse].port for one in channels] + [-2])
        self._identifiers = np.array([self.database.speakers[one.sender].identifier for one in channels] + [0])

    def send(
        self, channels: Sequence[Channel], columns: Column, ids: Column, via: Column
    ) -> Iterator[tuple[Channel, Column]]:
        """What the receivers hold of one sender's paths after import: path numbers or ABSENT, (m,) per channel.

        ``columns``, ``ids`` and ``via`` are (m,): columns, the sender's paths or ABSENT, the channels they came by.
        Neighbours that are told alike are told once.
        """
        alike: dict[tuple[object, ...], list[tuple[Channel, Flags]]] = defaultdict(list)
        values = self.paths.next_hops.values
        named = {values[hop] for hop in distinct([self.paths.attribute(NEXT_HOP)[ids[ids >= 0]]], len(values)).tolist()}
        for channel in channels:
            neighbor = channel.sending.neighbor
            how = (
                channel.external,
                channel.port if channel.external else -1,
                neighbor.address if neighbor.export_policy is not None or neighbor.address in named else None,
                neighbor.next_hop_self,
                neighbor.remove_private_as,
                channel.next_hops,
            )
            alike[how].append((channel, self.may_send(channel, columns, ids, via)))
        for members in alike.values():
            told = np.logical_or.reduce([allowed for _, allowed in members])
            sent = self._sent_numbers(members[0][0], columns, np.where(told, ids, ABSENT), via)
            for channel, allowed in members:
                yield channel, self._held_numbers(channel, columns, np.where(allowed, sent, ABSENT))

    def _sent_numbers(self, channel: Channel, columns: Column, ids: Column, via: Column) -> Column:
        """Path numbers as a channel carries them, ABSENT where the export policy lets none out."""
        if self.database.speakers[channel.sender].outside is not None:
            return ids  # as it was received
        result = np.full(len(columns), ABSENT, np.int64)
        known = np.flatnonzero(ids >= 0)
        if not len(known):
            return result
        kind = self._kind_of(channel.sender, channel.sending.neighbor.export_policy)[columns[known]]
        kind = kind * 2 + (self._family[columns[known]] == 6)
        key = (ids[known] * (len(self.channels) + 1) + via[known] + 1) * (kind.max() + 1) + kind
        _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
        at = known[first]
        accepted, rows = self.sent(channel, columns[at], ids[at], via[at])
        numbers = np.full(len(at), ABSENT, np.int64)
        numbers[accepted] = self.paths.numbers_of(rows[accepted])
        result[known] = numbers[inverse.reshape(-1)]
        return result

    def _held_numbers(self, channel: Channel, columns: Column, sent: Column) -> Column:
        """Path numbers as the receiver keeps them."""
        known = np.flatnonzero(sent >= 0)
        neighbor = channel.receiving.neighbor
        if not len(known):
            return sent
        result = np.full(len(columns), ABSENT, np.int64)
        if neighbor.import_policy is None and not neighbor.weight:
            held = self.is_held(channel, self.paths.rows.take(sent[known], axis=0))
            result[known[held]] = sent[known[held]]
            return result
        kind = self._kind_of(channel.receiver, neighbor.import_policy)[columns[known]]
        _, first, inverse = np.unique(sent[known] * (kind.max() + 1) + kind, return_index=True, return_inverse=True)
        at = known[first]
        held, rows = self.let_in(channel, columns[at], self.paths.rows.take(sent[at], axis=0))
        numbers = np.full(len(at), ABSENT, np.int64)
        numbers[held] = self.paths.numbers_of(rows[held])
        result[known] = numbers[inverse.reshape(-1)]
        return result

    def may_send(self, channel: Channel, columns: Column, ids: Column, via: Column) -> Flags:
        """Which paths may go out before any policy is asked: split horizon, reflection, communities, families."""
        allowed: Flags = (ids >= 0) & (via != channel.reverse)
        if self.database.speakers[channel.sender].outside is not None:
            return allowed & np.isin(self._family[columns], channel.families)
        families = {family for family, _ in channel.next_hops}
        if len(families) < 2:
            allowed &= self._family[columns] == max(families, default=0)
        if channel.external:
            if (
                self.database.speakers[channel.sender].bgp.require_policies
                and not channel.sending.neighbor.export_policy
            ):
                allowed[:] = False
        elif not channel.sending.neighbor.route_reflector_client:
            # RFC 4456 section 6: what comes from a non-client goes to clients alone.
            allowed &= ~self._is_internal[via] | self._is_client[via]
        return allowed & ~self.paths.kept(channel.external)[ids]

    def sent(self, channel: Channel, columns: Column, ids: Column, via: Column) -> tuple[Flags, Rows]:
        """Paths as a channel carries them: whether the export policy lets each out, and its attributes."""
        paths, sender = self.paths, self.database.speakers[channel.sender]
        neighbor = channel.sending.neighbor
        rows = paths.rows.take(ids, axis=0)
        if sender.outside is not None:
            return np.ones(len(rows), bool), rows  # as it was received
        said_here = rows[:, IS_LOCAL] > 0
        given = PathRows(paths, rows, neighbor.address)
        accepted = self._ask(channel.sender, neighbor.export_policy, columns, given)
        own_hop = self._own_next_hops(channel, columns)
        reflected = self._is_internal[via]
        # Section 5.1.3: not with an address of the peer for next hop.
        is_own = (rows[:, NEXT_HOP] == OWN) | (
            (said_here | channel.external) & (rows[:, NEXT_HOP] == paths.next_hops.number(neighbor.address))
        )
        if channel.external:
            # Section 5.1.4: a MED from elsewhere stays here. Section 5.1.5: so does the local preference.
            rows[~said_here & ~given.set_med, MED] = ABSENT
            rows[:, LOCAL_PREFERENCE] = DEFAULT_LOCAL_PREFERENCE
            rows[:, [ORIGINATOR, CLUSTERS]] = ABSENT, 0
            if neighbor.remove_private_as:
                rows[:, AS_PATH] = paths.map_as_paths("no private", rows[:, AS_PATH], without_private)
            number = sender.bgp.number
            rows[:, AS_PATH] = paths.map_as_paths(number, rows[:, AS_PATH], lambda path: (number, *path))
            # Section 5.1.3 (2): a next hop on the subnet of the session stays.
            kept = (self._ports[via] == channel.port) & (channel.port >= 0)
            kept |= said_here & self._is_on(channel.port, rows[:, NEXT_HOP])
            changed = ~given.set_next_hop & (~kept | is_own | neighbor.next_hop_self)
        else:
            originator = rows[:, ORIGINATOR]
            rows[:, ORIGINATOR] = np.where(reflected & (originator == ABSENT), self._identifiers[via], originator)
            rows[reflected, CLUSTERS] = paths.add_cluster(sender.cluster, rows[reflected, CLUSTERS])
            changed = ~given.set_next_hop & (is_own | (neighbor.next_hop_self & ~reflected))
        rows[:, NEXT_HOP] = np.where(changed | given.set_self, own_hop, rows[:, NEXT_HOP])
        rows[:, [WEIGHT, TAG, PREFERENCE, IS_LOCAL]] = 0, ABSENT, ABSENT, 0
        return accepted, rows

    def default_sent(self, channel: Channel, column: int) -> Rows:
        """The default route a speaker says to one neighbour whatever it has; no export policy is asked."""
        rows = self.paths.blank(1, "igp")
        rows[:, [IS_LOCAL, NEXT_HOP]] = 0, self._own_next_hops(channel, np.array([column]))[0]
        if channel.external:
            rows[:, AS_PATH] = self.paths.as_paths.number((self.database.speakers[channel.sender].bgp.number,))
        return rows

    def let_in(self, channel: Channel, columns: Column, rows: Rows) -> tuple[Flags, Rows]:
        """Paths as the receiver keeps them: loops dropped, then its import policy asked."""
        neighbor = channel.receiving.neighbor
        held = self.is_held(channel, rows)
        rows = rows.copy()
        rows[:, WEIGHT] = neighbor.weight
        given = PathRows(self.paths, rows, neighbor.address)
        held &= self._ask(channel.receiver, neighbor.import_policy, columns, given)
        return held, rows

    def is_held(self, channel: Channel, rows: Rows) -> Flags:
        """Which paths are no loops, have a fitting next hop, and may come in without a policy where there is none."""
        paths, receiver = self.paths, self.database.speakers[channel.receiver]
        neighbor = channel.receiving.neighbor
        held: Flags = paths.times_in(receiver.bgp.number, rows[:, AS_PATH]) <= neighbor.allow_own_as
        held &= ~self._are_own(channel.receiver, rows[:, NEXT_HOP])
        if channel.external:
            if receiver.bgp.require_policies and not neighbor.import_policy:
                held[:] = False
            # RFC 4271 sections 5.1.3 and 6.3: of a neighbour one hop away only what is on the subnet shared with it.
            port = self.channels[channel.reverse].port
            if port >= 0:
                held &= self._is_on(port, rows[:, NEXT_HOP])
        else:
            # RFC 4456 section 8: what comes back to where it was reflected is dropped.
            held &= rows[:, ORIGINATOR] != receiver.identifier
            if receiver.is_reflector:
                held &= ~paths.has_cluster(receiver.cluster, rows[:, CLUSTERS])
        return held

    def _are_own(self, process: int, next_hops: Column) -> Flags:
        """Which next hops are addresses of a router itself (RFC 4271 section 6.3)."""
        values, own = self.paths.next_hops.values, self._own_hops.get(process)
        if own is None or len(own) < len(values):
            addresses = self.topology.addresses_of(self.database.speakers[process].instance)
            own = self._own_hops[process] = np.array([value in addresses for value in values], bool)
        return own[next_hops]

    def policies_of(self, process: int) -> Mapping[str, Policy]:
        """All policies of a speaker's device, by name."""
        return {} if self.database.speakers[process].outside is not None else self._device(process).policies

    def _policy(self, process: int, name: str | None) -> Policy | None:
        return None if name is None else self._device(process).policies[name]

    def received(self, process: int, outside: Outside) -> tuple[Column, Column]:
        """The paths of a neighbour outside the network: columns, and the numbers of their paths, (m,) each."""
        if process not in self._received:
            self._received[process] = self._read(outside)
        return self._received[process]

    def _read(self, outside: Outside) -> tuple[Column, Column]:
        given, paths = outside.received, self.paths
        # Prefixes of one column have one path.
        of_prefix = self.columns.column[self.columns.whole.numbers_of(given.prefixes)]
        columns, first = np.unique(of_prefix, return_index=True)
        wanted, inverse = np.unique(np.array(given.numbers, np.int64)[first], return_inverse=True)
        rows = paths.blank(len(wanted), "igp")
        rows[:, IS_LOCAL] = 0
        for row, number in zip(rows, wanted.tolist(), strict=True):
            one = given.attributes[number]
            row[AS_PATH] = paths.as_paths.number(one.as_path)
            row[ORIGIN] = ORIGINS.index(one.origin)
            row[MED] = ABSENT if one.med is None else one.med
            row[LOCAL_PREFERENCE] = one.local_preference
            row[COMMUNITIES] = paths.communities.number(one.communities)
            row[NEXT_HOP] = paths.next_hops.number(one.next_hop)
            row[ORIGINATOR] = ABSENT if one.originator is None else one.originator
            row[CLUSTERS] = paths.clusters.number(one.clusters)
        if outside.external:
            # RFC 4271 section 5.1.5: of another AS it counts for nothing.
            rows[:, LOCAL_PREFERENCE] = DEFAULT_LOCAL_PREFERENCE
        return columns, paths.numbers_of(rows)[inverse.reshape(-1)]

    def _device(self, process: int) -> Device:
        return self.topology.devices[self.topology.instances[self.database.speakers[process].instance].device]

    def _ask(self, process: int, name: str | None, columns: Column, given: PathRows) -> Flags:
        policy = self._policy(process, name)
        if policy is None:
            return np.ones(len(columns), bool)
        med = np.maximum(given.rows[:, MED], 0)
        return evaluate(
            policy, self.columns, columns, "bgp", med, given.rows[:, TAG], given.has_next_hop, given
        ).accepted

    def _kind_of(self, process: int, name: str | None) -> Column:
        """Columns of which a policy's prefix matches say the same have one kind: int64 (c,)."""
        policy = self._policy(process, name)
        key = (
            (self.topology.instances[self.database.speakers[process].instance].device, policy.name) if policy else None
        )
        if key not in self._kinds:
            kinds = np.zeros(len(self.columns), np.int64)
            for statement in policy.statements if policy is not None else ():
                if statement.match.prefixes is not None:
                    kinds = kinds * 2 + matching(statement.match.prefixes, self.columns)
                    kinds = np.unique(kinds, return_inverse=True)[1].reshape(-1)
            self._kinds[key] = kinds
        return self._kinds[key]

    def _own_next_hops(self, channel: Channel, columns: Column) -> Column:
        number = {family: self.paths.next_hops.number(address) for family, address in channel.next_hops}
        return np.where(self._family[columns] == 4, number.get(4, OWN), number.get(6, OWN))

    def _is_on(self, port: int, next_hops: Column) -> Flags:
        """Which next hops are on a subnet of a port."""
        if port < 0:
            return np.zeros(len(next_hops), bool)
        addresses = self.topology.ports[port].interface.addresses

        def is_on(address: Address | None) -> bool:
            return address is not None and any(own.is_on_subnet_with(address) for own in addresses)

        distinct, inverse = np.unique(next_hops, return_inverse=True)
        found = np.array([is_on(self.paths.next_hops.values[number]) for number in distinct.tolist()], bool)
        return found[inverse.reshape(-1)]
