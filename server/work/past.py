"""What a work process has to know of a network's past to answer of it."""

from typing import NamedTuple


class EventFileKey(NamedTuple):
    """A file of events by the digest of its bytes, with its name."""

    digest: str
    file_name: str


class Past(NamedTuple):
    """The events of a network, and which time its revision stands for; moments are text of RFC 3339.

    ``since`` is when the revision was true, ``reaches_back`` says that none went before it. ``moment``, where there is
    one, is when the question is asked of.
    """

    files: tuple[EventFileKey, ...]
    since: str
    reaches_back: bool
    moment: str = ""
