"""Every device's route for one destination as an answer."""

from typing import Literal

from msgspec import Struct, field

from routrel.analysis.answers.routes import TableRow


class Exit(Struct, frozen=True):
    """Where traffic ends, and how."""

    how: Literal["delivered", "discarded", "unrouted", "unresolved", "leaves", "loops"]
    device: str
    interface: str | None = None

    def __str__(self) -> str:
        return f"{self.device}:{self.interface}" if self.interface else self.device


class ForestStep(Struct, frozen=True):
    """A next device, and the links of the map that lead there."""

    device: str
    interface: str
    links: list[int]


class ForestRow(Struct, frozen=True):
    """One routing instance's route."""

    device: str
    vrf: str
    route: TableRow | None
    steps: list[ForestStep]
    by_default: bool


class ForestGroup(Struct, frozen=True):
    """Rows, by index, whose traffic ends alike."""

    label: str
    by_default: bool
    exits: list[Exit]
    rows: list[int]


class Border(Struct, frozen=True):
    """Where traffic of so many devices of a site passes into another AS."""

    device: str
    interface: str
    onward: str
    number: int = field(name="as")
    devices: int


class SiteExits(Struct, frozen=True):
    """Where traffic of a site leaves the AS, or ends without doing so."""

    site: str
    label: str
    borders: list[Border]
    ends: list[str]


class Forest(Struct, frozen=True):
    """All routes for a destination, in groups; ``sites`` is empty where no traffic passes into another AS."""

    asked: str
    sites: list[SiteExits]
    rows: list[ForestRow]
    groups: list[ForestGroup]
