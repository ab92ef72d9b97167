"""What a worker does of an upload: has it read and solved by its work process, and stores it, once."""

from collections.abc import Callable
from contextlib import suppress
from typing import Any

import msgspec
from django.db import DatabaseError, connection, transaction
from django.utils import timezone

from asked.records import ask_starred
from jobs.running import JobFailedError, NotWantedError, ask, patiently, stopping
from networks.access import RANK
from networks.models import Membership, Revision, Role
from networks.uploads import Upload, create, store
from site_settings.failures import FULL, is_full
from uploading.models import UNDER_WAY, UploadJob, UploadState
from work.answering import Loaded
from work.process import Question, Stage
from work.service import Subject


def read(upload: str, is_to_stop: Callable[[], bool]) -> None:
    """Read, solve and store an upload; what is wrong with it is said of it."""
    job = UploadJob.objects.filter(pk=upload, state__in=UNDER_WAY).select_related("created_by", "network").first()
    if job is None:
        return
    data = job.original()
    subject = Subject(job.digest, job.file_name, lambda: data)
    stages = list[Stage]()
    UploadJob.objects.filter(pk=upload, started_at=None).update(started_at=timezone.now())

    def asking(name: str, parameters: dict[str, Any]) -> bytes:
        question = Question(*subject.key, name, parameters, is_kept_first=True)
        return ask(
            question, subject.text, stopping(is_to_stop, lambda: _going_on(upload, stages)), upload, stages.append
        )

    try:
        loaded = msgspec.json.decode(asking("loaded", {}), type=Loaded)
    except NotWantedError:
        return
    except JobFailedError as error:
        fail(upload, str(error), error.errors)
        return
    try:
        revision = patiently(lambda: _store(upload, Upload(job.file_name, data, loaded)))
    except DatabaseError as error:
        if not is_full(error):
            raise
        fail(upload, FULL)
        return
    if revision is not None:
        with suppress(NotWantedError, JobFailedError):  # it is stored; what is asked before keeps its former answers
            ask_starred(revision.network, revision, asking)


def _going_on(upload: str, stages: list[Stage]) -> bool:
    """Say what is done of it; False where nobody wants it any more."""
    try:
        said = {"state": UploadState.RUNNING, "stage": stages[-1] if stages else ""}
        return UploadJob.objects.filter(pk=upload, state__in=UNDER_WAY).update(**said) > 0
    except DatabaseError:
        connection.close()
        return True  # the database is away: that is seen to when there is something to keep


def _store(upload: str, read: Upload) -> Revision | None:
    """Store it whole, unless somebody else did; whoever may not change the network any more is refused."""
    with transaction.atomic():
        jobs = UploadJob.objects.select_for_update().defer("packed").filter(pk=upload, state__in=UNDER_WAY)
        job = jobs.first()
        if job is None:
            return None
        user = job.created_by
        if job.network_id is None:
            membership, revision = create(user, read, job.name, job.note)
            job.network = membership.network
        else:
            mine = Membership.objects.filter(network=job.network_id, network__deleted_at=None, user=user).first()
            if mine is None or RANK[Role(mine.role)] < RANK[Role.EDITOR]:
                fail(upload, "The network was deleted meanwhile, or you may not change it any more.")
                return None
            revision = store(mine.network, read, user, job.note)
        job.revision, job.state, job.stage, job.packed = revision, UploadState.DONE, "", b""
        job.finished_at = timezone.now()
        job.save(update_fields=["network", "revision", "state", "stage", "packed", "finished_at"])
    return revision


def fail(upload: str, problem: str, errors: list[Any] | None = None) -> None:
    """Say of an upload why it was not stored."""
    patiently(
        lambda: UploadJob.objects.filter(pk=upload, state__in=UNDER_WAY).update(
            state=UploadState.FAILED, problem=problem, errors=errors or [], packed=b"", finished_at=timezone.now()
        )
    )
