"""BGP configuration (RFC 4271, 4456, 4760); the network file's page in docs/ says what each key means."""

from datetime import datetime

from msgspec import Struct, field

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.received import ReceivedPaths
from routrel.model.redistribution import Redistribution


class BgpNeighbor(Struct, frozen=True):
    """One side of a session. ``families`` is None where the session's address says which it carries."""

    address: Address
    number: int
    description: str = ""
    enabled: bool = True
    local_address: Address | None = None
    update_source: str | None = None
    multihop: int = 1
    import_policy: str | None = None
    export_policy: str | None = None
    weight: int = 0
    next_hop_self: bool = False
    route_reflector_client: bool = False
    originate_default: bool = False
    allow_own_as: int = 0
    remove_private_as: bool = False
    established_at: datetime | None = None
    families: tuple[int, ...] | None = None
    received: tuple[ReceivedPaths, ...] = ()
    """What it says where no device of the network is this neighbour: of each prefix the first path, the second, ..."""
    withdrawn: tuple[Prefix, ...] = ()
    """Prefixes of which what a dump has of it counts no more."""
    place: Place = NOWHERE

    @property
    def carried(self) -> tuple[int, ...]:
        """The address families of the session."""
        return (self.address.family,) if self.families is None else self.families


class BgpAggregate(Struct, frozen=True):
    prefix: Prefix
    summary_only: bool = False
    place: Place = NOWHERE


class BgpDecision(Struct, frozen=True):
    """The switches of the decision process."""

    compare_med_between_as: bool = False
    deterministic_med: bool = True
    missing_med_is_worst: bool = False
    prefer_oldest: bool = False
    ignore_as_path_length: bool = False


class Bgp(Struct, frozen=True):
    """``number`` is the AS number."""

    number: int
    router_id: Address | None = None
    cluster_id: Address | None = None
    networks: tuple[tuple[Prefix, Place], ...] = ()
    aggregates: tuple[BgpAggregate, ...] = ()
    redistribute: tuple[Redistribution, ...] = ()
    external_paths: int = 1
    internal_paths: int = 1
    decision: BgpDecision = field(default_factory=BgpDecision)
    neighbors: tuple[BgpNeighbor, ...] = ()
    require_policies: bool = False
    announce_unused: bool = False
    """Whether paths are announced where the table uses another protocol's route."""
    place: Place = NOWHERE
