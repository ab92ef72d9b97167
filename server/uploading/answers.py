"""Uploads that workers read, as answers of the API."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from work.process import Stage


class PlacedError(Struct, frozen=True):
    """An error in an upload: where, what was found, and what is allowed."""

    file: str
    line: int
    column: int
    message: str
    found: str
    allowed: str
    nearest: str


class UploadAnswer(Struct, frozen=True, kw_only=True):
    """An upload: ``stage`` is what its worker is at, in the order reading, solving, looking (into what a first view
    asks) and keeping (what was solved); null before and after.

    Once it is done ``network`` and ``revision`` say where it is. Where it failed nothing was stored, and ``problem``
    says why, with every error in the upload. ``seconds`` is how long a worker has been at it, or was; ``workers`` how
    many workers there are: where there are none, it waits.
    """

    id: str
    file_name: str
    size: int
    network: str | None
    name: str
    state: Literal["waiting", "running", "done", "failed"]
    stage: Stage | None
    seconds: float | None
    workers: int
    problem: str
    errors: list[PlacedError]
    revision: int | None
    created_at: datetime
    started_at: datetime | None
    finished_at: datetime | None
