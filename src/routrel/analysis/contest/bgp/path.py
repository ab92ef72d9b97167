"""One BGP path in plain form, and what policies make of it (RFC 4271 section 5)."""

from dataclasses import dataclass

from routrel.analysis.contest.policies import Decision, PathSeen
from routrel.model.addresses import Address
from routrel.model.fields import replace
from routrel.model.places import NOWHERE, Place
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE


@dataclass(frozen=True, slots=True)
class Path:
    """A path's attributes (RFC 4271 section 5); ``next_hop`` None is the router that says it itself."""

    as_path: tuple[int, ...] = ()
    origin: str = "igp"
    med: int | None = None
    local_preference: int = DEFAULT_LOCAL_PREFERENCE
    communities: frozenset[str] = frozenset()
    next_hop: Address | None = None
    originator: int | None = None
    clusters: tuple[int, ...] = ()
    weight: int = 0
    tag: int | None = None
    preference: int | None = None

    def seen(self, neighbor: Address | None) -> PathSeen:
        return PathSeen(self.as_path, self.med, self.communities, neighbor)


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why a path goes no further."""

    text: str
    place: Place = NOWHERE


def changed_by(path: Path, decision: Decision) -> Path:
    """A path with what a policy set."""
    sets = decision.set
    med = path.med if sets.metric is None else sets.metric
    return replace(
        path,
        med=decision.path.med if decision.path is not None else med,
        as_path=decision.path.as_path if decision.path is not None else path.as_path,
        communities=decision.path.communities if decision.path is not None else path.communities,
        local_preference=path.local_preference if sets.local_preference is None else sets.local_preference,
        weight=path.weight if sets.weight is None else sets.weight,
        origin=path.origin if sets.origin is None else sets.origin,
        next_hop=path.next_hop if sets.next_hop is None else sets.next_hop,
        tag=path.tag if sets.tag is None else sets.tag,
        preference=path.preference if sets.preference is None else sets.preference,
    )


def differences(sent: Path, kept: Path) -> dict[str, str]:
    """What import changed: as sent, and now."""
    found = {}
    for name, words in (
        ("local_preference", "local preference"),
        ("med", "MED"),
        ("weight", "weight"),
        ("origin", "origin"),
        ("as_path", "AS path"),
        ("communities", "communities"),
        ("next_hop", "next hop"),
    ):
        before, after = getattr(sent, name), getattr(kept, name)
        if before != after:
            found[f"{words} as sent"] = _shown(before)
    return found


def _shown(value: object) -> str:
    if value is None:
        return "none"
    if isinstance(value, tuple):
        return " ".join(map(str, value)) or "empty"
    if isinstance(value, frozenset):
        return ", ".join(sorted(value)) or "none"
    return str(value)
