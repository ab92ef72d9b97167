"""Files of events as answers of the API."""

from datetime import datetime

from msgspec import Struct

from history.models import EventFile


class EventFileAbout(Struct, frozen=True, kw_only=True):
    """A file of events or samples: ``first`` and ``last`` are the times of the first and the last of them."""

    id: int
    file_name: str
    created_at: datetime
    created_by: str | None
    count: int
    samples: int
    first: datetime
    last: datetime
    size: int


class EventFileStored(EventFileAbout, frozen=True, kw_only=True):
    """A file that was sent, with how many of its events do not fit to the network, and the first of these."""

    unfitting: int
    told: list[str]


def about(one: EventFile) -> dict[str, object]:
    """What is told of a file."""
    return {
        "id": one.pk,
        "file_name": one.file_name,
        "created_at": one.created_at,
        "created_by": None if one.created_by is None else one.created_by.username,
        "count": one.count,
        "samples": one.samples,
        "first": one.first,
        "last": one.last,
        "size": one.size,
    }
