"""Uploads begun, described and given up."""

import hashlib
import zlib
from contextlib import suppress
from datetime import timedelta
from typing import Any

import msgspec
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from procrastinate.exceptions import AlreadyEnqueued
from rest_framework.exceptions import APIException

from jobs.records import LONG_WAIT, workers_there
from networks.models import Network
from networks.uploads import check_quota
from uploading.answers import PlacedError, UploadAnswer
from uploading.models import UNDER_WAY, UploadJob, UploadState
from uploading.tasks import read

MOST_UNDER_WAY = 5
"""Uploads of one user that are not read yet."""

KEPT = timedelta(days=1)
"""How long it is said what became of an upload."""


class TooManyUploads(APIException):
    """More uploads at once than one user may have."""

    status_code = 429
    default_detail = f"You have {MOST_UNDER_WAY} uploads that are not read yet; wait for one, or give one up."


def begin(user: Any, network: Network | None, file_name: str, data: bytes, name: str, note: str) -> UploadJob:
    """An upload for a worker to read: the one there is, where the same was sent and is not read yet."""
    digest = hashlib.sha256(data).hexdigest()
    with transaction.atomic():
        mine = UploadJob.objects.filter(created_by=user)
        mine.filter(finished_at__lt=timezone.now() - KEPT).delete()
        waiting = list(mine.filter(state__in=UNDER_WAY).defer("packed").select_for_update())
        same = (digest, file_name, network and network.pk, name, note)
        for known in waiting:
            if (known.digest, known.file_name, known.network_id, known.name, known.note) == same:
                if known.state == UploadState.WAITING and timezone.now() - known.created_at > LONG_WAIT:
                    transaction.on_commit(lambda known=known: _queue(known))
                return known
        if len(waiting) >= MOST_UNDER_WAY:
            raise TooManyUploads
        check_quota(user)
        upload = UploadJob.objects.create(
            created_by=user,
            network=network,
            name=name,
            note=note,
            file_name=file_name,
            packed=zlib.compress(data),
            size=len(data),
            digest=digest,
        )
        transaction.on_commit(lambda: _queue(upload))
    return upload


def _queue(upload: UploadJob) -> None:
    """Put an upload into the queue, unless it waits there; somebody waits for it, so it goes before parts of jobs."""
    with suppress(AlreadyEnqueued):
        read.configure(queueing_lock=f"read {upload.pk}", priority=10).defer(upload=str(upload.pk))


def uploads_of(user: Any) -> QuerySet[UploadJob]:
    """The uploads of a user, the last first, without their bytes."""
    return UploadJob.objects.filter(created_by=user).select_related("revision").defer("packed", "revision__packed")


def about(uploads: list[UploadJob]) -> list[UploadAnswer]:
    """What is said of uploads."""
    workers, now = workers_there(), timezone.now()
    return [
        UploadAnswer(
            id=str(one.pk),
            file_name=one.file_name,
            size=one.size,
            network=None if one.network_id is None else str(one.network_id),
            name=one.name,
            state=one.state,  # type: ignore[arg-type]
            stage=one.stage if one.state == UploadState.RUNNING and one.stage else None,  # type: ignore[arg-type]
            seconds=None if one.started_at is None else ((one.finished_at or now) - one.started_at).total_seconds(),
            workers=workers,
            problem=one.problem,
            errors=msgspec.convert(one.errors, list[PlacedError]),
            revision=None if one.revision is None else one.revision.number,
            created_at=one.created_at,
            started_at=one.started_at,
            finished_at=one.finished_at,
        )
        for one in uploads
    ]
