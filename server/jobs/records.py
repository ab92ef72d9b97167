"""Jobs begun, cancelled and described; expectations over revisions."""

import hashlib
import json
from collections import defaultdict
from contextlib import suppress
from datetime import timedelta
from typing import Any

import msgspec
from django.db import transaction
from django.db.models import F, Max, Sum
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateWorker
from procrastinate.exceptions import AlreadyEnqueued
from rest_framework.exceptions import APIException

from jobs.answers import ExpectationHistory, JobAbout, JobAnswer, RevisionHeld
from jobs.doing import found_so_far
from jobs.models import UNDER_WAY, Job, JobQuestion, JobState, KeptExpectation
from jobs.tasks import STALLED, plan
from networks.models import Network, Revision
from routrel.analysis.answers.expectations import ExpectationsHeld, PlacesUnderFailures
from routrel.analysis.answers.held import Held
from work.failures_asked import SURVIVED, FailuresAsked

MOST_UNDER_WAY = 20
"""Jobs of one user that are not finished."""

LONG_WAIT = timedelta(seconds=30)
"""After so long without being planned a job is queued again: the database may have died before it was."""

MOST_KEPT = 100
"""Finished jobs of a network."""


class TooManyJobs(APIException):
    """More jobs at once than one user may have."""

    status_code = 429
    default_detail = f"You have {MOST_UNDER_WAY} jobs under way; cancel one, or wait for one to end."


def begin(
    revision: Revision,
    user: Any,
    failures: str,
    changes: str = "",
    trial: int | None = None,
    question: JobQuestion = JobQuestion.FAILURES,
) -> Job:
    """A job that asks this: the one there is, where somebody asked the same, else a new one.

    Of all traffic with a trial, what its user asked of it as it was before is given up.
    """
    asked = json.dumps([revision.digest, revision.file_name, failures, changes, question])
    key = hashlib.sha256(asked.encode()).hexdigest()
    with transaction.atomic():
        Network.objects.select_for_update().get(pk=revision.network_id)
        known = Job.objects.filter(revision=revision, key=key, state__in=(*UNDER_WAY, JobState.DONE)).first()
        if known is not None:
            if known.state == JobState.WAITING and timezone.now() - known.created_at > LONG_WAIT:
                transaction.on_commit(lambda: _queue(known))
            return known
        mine = Job.objects.filter(created_by=user, state__in=UNDER_WAY)
        if question == JobQuestion.TRAFFIC:
            former = mine.filter(network=revision.network_id, trial=trial, question=question)
            former.update(state=JobState.CANCELLED, finished_at=timezone.now())
        if mine.count() >= MOST_UNDER_WAY:
            raise TooManyJobs
        job = Job.objects.create(
            network_id=revision.network_id,
            revision=revision,
            question=question,
            failures=failures,
            changes=changes,
            trial=trial,
            key=key,
            created_by=user,
        )
        finished = Job.objects.filter(network_id=revision.network_id).exclude(state__in=UNDER_WAY)
        old = finished.order_by("-created_at").values_list("pk", flat=True)[MOST_KEPT : MOST_KEPT + 50]
        Job.objects.filter(pk__in=list(old)).delete()
        transaction.on_commit(lambda: _queue(job))
    return job


def _queue(job: Job) -> None:
    """Put a job into the queue, unless it waits there."""
    with suppress(AlreadyEnqueued):
        plan.configure(queueing_lock=f"plan {job.pk}").defer(job=str(job.pk))


def hold_expectations(revision: Revision, count: int, user: Any) -> None:
    """Hold what is expected of a new revision, where that is anything, for its history."""
    if count and not Job.objects.filter(created_by=user, state__in=UNDER_WAY).count() >= MOST_UNDER_WAY:
        begin(revision, user, SURVIVED)


def cancel(job: Job) -> None:
    """Nobody wants it any more: its worker gives up what it is at."""
    Job.objects.filter(pk=job.pk, state__in=UNDER_WAY).update(state=JobState.CANCELLED, finished_at=timezone.now())
    job.refresh_from_db()
    job.parts.all().delete()


def about(job: Job, workers: int) -> dict[str, Any]:
    """What is said of a job, by name."""
    done, left = job.count or 0, None
    if job.question == JobQuestion.TRAFFIC:
        done = job.steps  # how long one takes differs too much to tell when all are done
    elif job.state == JobState.RUNNING:
        looked = job.parts.exclude(found=None).aggregate(done=Sum(F("stop") - F("start")), last=Max("found_at"))
        done = looked["done"] or 0
        if done and job.count and job.started_at:
            left = (looked["last"] - job.started_at).total_seconds() / done * (job.count - done)
    return {
        "id": str(job.pk),
        "revision": job.revision.number,
        "trial": job.trial,
        "question": job.question,
        "failures": job.failures,
        "state": job.state,
        "done": done,
        "of": job.count,
        "seconds_left": left,
        "workers": workers,
        "problem": job.problem,
        "created_by": None if job.created_by is None else job.created_by.get_username(),
        "created_at": job.created_at,
        "finished_at": job.finished_at,
    }


def described(job: Job) -> JobAnswer:
    """A job with what it found so far."""
    found: ExpectationsHeld | PlacesUnderFailures | None = None
    if job.question == JobQuestion.TRAFFIC:
        traffic = None if job.result is None else msgspec.json.decode(bytes(job.result), type=Held)
        return JobAnswer(**about(job, workers_there()), held=None, places=None, traffic=traffic)
    if job.result is not None:
        result = bytes(job.result)
        if FailuresAsked.of_text(job.failures).places:
            found = msgspec.json.decode(result, type=PlacesUnderFailures)
        else:
            found = msgspec.json.decode(result, type=ExpectationsHeld)
    elif job.as_it_is is not None:
        found = found_so_far(job)
    held, places = (None, found) if isinstance(found, PlacesUnderFailures) else (found, None)
    return JobAnswer(**about(job, workers_there()), held=held, places=places, traffic=None)


def listed(network: Network) -> list[JobAbout]:
    """The jobs of a network, the last first."""
    jobs = network.jobs.defer("result", "as_it_is", "changes", "revision__packed")
    workers = workers_there()
    return [JobAbout(**about(job, workers)) for job in jobs.select_related("revision", "created_by")[:MOST_KEPT]]


def workers_there() -> int:
    """How many workers gave a sign of life lately."""
    since = timezone.now() - timedelta(seconds=STALLED)
    count: int = ProcrastinateWorker.objects.filter(last_heartbeat__gt=since).count()
    return count


def history(network: Network) -> list[ExpectationHistory]:
    """Each expectation over the revisions in which it was held."""
    of = defaultdict[str, list[RevisionHeld]](list)
    kept = KeptExpectation.objects.filter(revision__network=network).select_related("revision")
    for one in kept.defer("revision__packed").order_by("revision__number", "pk"):
        of[one.name].append(RevisionHeld(one.revision.number, one.revision.created_at, one.state, one.words))  # type: ignore[arg-type]
    return [_history(name, held) for name, held in of.items()]


def _history(name: str, held: list[RevisionHeld]) -> ExpectationHistory:
    since, until = None, None
    for one in reversed(held):
        if one.state != "fails":
            until = one.revision if since is not None and one.state == "holds" else None
            break
        since = one.revision
    return ExpectationHistory(name, held, since, until)
