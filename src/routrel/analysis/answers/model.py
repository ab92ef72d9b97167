"""The model itself as answers: the map, words of a question, problems, drift."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from routrel.analysis.answers.offers import Offer
from routrel.model.findings import Severity
from routrel.model.places import Place


class Site(Struct, frozen=True):
    """A site, with its place on the map where the file gives one."""

    name: str
    label: str
    x: float | None
    y: float | None


class Device(Struct, frozen=True):
    """A device of the map."""

    name: str
    kind: str
    site: str | None


class CableEnd(Struct, frozen=True):
    """One end of a cable."""

    device: str
    interface: str


class Cable(Struct, frozen=True):
    """A link by its number, or, with None, interfaces that share a subnet."""

    link: int | None
    name: str
    up: bool
    ends: list[CableEnd]


class Map(Struct, frozen=True):
    """Sites, devices and cables."""

    name: str
    taken_at: datetime | None
    sites: list[Site]
    devices: list[Device]
    cables: list[Cable]


class Word(Struct, frozen=True):
    """What an end or the service of a flow may be called."""

    word: str
    kind: str
    detail: str


class Found(Struct, frozen=True):
    """What a search finds: ``device`` and ``vrf`` say where it is looked at, '' where nowhere; ``place`` its line."""

    word: str
    kind: str
    detail: str
    device: str
    vrf: str
    place: Place | None


class Count(Struct, frozen=True):
    """How many there are of a kind."""

    kind: str
    count: int


class ProtocolCount(Struct, frozen=True):
    """A protocol: the routing instances that run it, and its interfaces (sessions of BGP, static routes)."""

    protocol: str
    instances: int
    spoken: int


class GapCount(Struct, frozen=True):
    """Something that inputs state and the model cannot hold: how often, and on which devices."""

    message: str
    count: int
    devices: list[str]


class OpenEnd(Struct, frozen=True):
    """A neighbour or next hop that no device of the network has, or a cable in doubt: what is known ends there.

    ``offers`` are links that would settle it.
    """

    device: str
    what: str
    place: Place | None
    offers: list[Offer] = []


class DeviceUnderstood(Struct, frozen=True):
    """Of a device known by documents: its statements, how many of them are in the model, how many it cannot hold.

    The rest decides nothing of where packets go.
    """

    device: str
    statements: int
    used: int
    not_represented: int
    place: Place | None


class MissingDevice(Struct, frozen=True):
    """An address that sessions and routes lead to, and no device has: to know whose it is would answer more."""

    address: str
    sessions: int
    routes: int
    devices: list[str]


class HeardNeighbor(Struct, frozen=True):
    """A BGP neighbour that no device is, and how many paths of its are known; ``file`` is where they stand."""

    device: str
    address: str
    number: int
    paths: int
    file: str
    place: Place | None


class Understanding(Struct, frozen=True, kw_only=True):
    """What was understood of an input.

    ``observed`` counts devices with a table read off them, ``known_by`` devices by how they came in. Of kinds of gaps
    and of open ends the first are listed, and all are counted. ``by_documents`` has the devices of whose documents
    something is not represented, most first; ``whole_count`` counts all others. ``heard`` are neighbours outside whose
    paths are known. ``add_first`` has the addresses that
    most leads to.
    """

    devices: list[Count]
    sites: int
    links: int
    links_down: int
    interfaces: int
    addresses: int
    prefixes: int
    vrfs: int
    protocols: list[ProtocolCount]
    acls: int
    filter_programs: int
    policies: int
    observed: int
    endpoints: int
    services: int
    known_by: list[Count]
    by_documents: list[DeviceUnderstood]
    by_documents_count: int
    whole_count: int
    not_represented: list[GapCount]
    not_represented_count: int
    open_ends: list[OpenEnd]
    open_ends_count: int
    heard: list[HeardNeighbor]
    heard_count: int
    add_first: list[MissingDevice]


class Finding(Struct, frozen=True):
    """A problem of the model; ``places`` together make it, ``offers`` can be tried against it."""

    code: str
    severity: Severity
    message: str
    device: str | None
    interface: str | None
    places: list[Place]
    offers: list[Offer]


class Instance(Struct, frozen=True):
    """A routing instance besides the default one."""

    device: str
    vrf: str


class Difference(Struct, frozen=True):
    """A prefix at which the table read off a device and the computed one differ."""

    prefix: str
    what: Literal["missing", "extra", "changed"]
    computed: str
    observed: str
    place: Place | None


class Drift(Struct, frozen=True):
    """``compared`` is False where there are not both tables."""

    compared: bool
    differences: list[Difference]
