"""What a worker does of a job: plans it, looks at a part of it, puts together what was found."""

from collections.abc import Callable
from functools import partial

import msgspec
from django.db import DatabaseError, connection, transaction
from django.utils import timezone

from jobs.models import UNDER_WAY, Job, JobPart, JobQuestion, JobState, KeptExpectation
from jobs.running import JobFailedError, NotWantedError, asked, patiently, stopping
from routrel.analysis.answers.expectations import (
    ExpectationHeld,
    ExpectationsHeld,
    FailuresPart,
    FailuresPlanned,
    PlacesUnderFailures,
)
from routrel.analysis.answers.held import HeldSoFar
from routrel.analysis.expectations.holding import together
from routrel.analysis.held.under_failures import places_together
from work.failures_asked import SURVIVED, FailuresAsked

PART = 4
"""Failures in a part: some seconds of a large network, so that many workers have their share."""


def plan(job: str, is_to_stop: Callable[[], bool]) -> list[int]:
    """Look at the network as it is, and cut what there is to look at into parts; the starts of those to be queued."""
    found = _wanted(job)
    if found is None:
        return []
    if found.question == JobQuestion.TRAFFIC:
        _hold_traffic(found, is_to_stop)
        return []
    try:
        text = asked(found, "failures-planned", {"failures": found.failures}, _is_wanted(job, is_to_stop))
    except NotWantedError:
        return []
    except JobFailedError as error:
        fail(job, str(error))
        return []
    planned = msgspec.json.decode(text, type=FailuresPlanned)
    count = planned.failures
    starts = range(0, count, PART)
    parts = [JobPart(job_id=job, start=start, stop=min(start + PART, count)) for start in starts]

    def keep() -> None:
        with transaction.atomic():
            locked = Job.objects.select_for_update().get(pk=job)
            if locked.state == JobState.WAITING:
                locked.state, locked.count = JobState.RUNNING, count
                locked.as_it_is, locked.started_at = msgspec.json.encode(planned.as_it_is), timezone.now()
                locked.save(update_fields=["state", "count", "as_it_is", "started_at"])
                JobPart.objects.bulk_create(parts)

    patiently(keep)
    if not parts:
        patiently(lambda: _finish(job))
    # What was planned before and is not looked at is queued again: who died in between may have queued none of it.
    return list(JobPart.objects.filter(job=job, found=None).values_list("start", flat=True))


def _hold_traffic(job: Job, is_to_stop: Callable[[], bool]) -> None:
    """Hold all traffic with a trial against that without it, said step by step how far that is."""
    mine = Job.objects.filter(pk=job.pk, state__in=UNDER_WAY)
    began = timezone.now()
    try:
        while True:
            text = asked(job, "held", {}, _is_wanted(str(job.pk), is_to_stop))
            found = msgspec.json.decode(text, type=HeldSoFar)
            if found.held is not None:
                break
            said = {"state": JobState.RUNNING, "count": found.of, "steps": found.done, "started_at": began}
            patiently(partial(mine.update, **said))
    except NotWantedError:
        return
    except JobFailedError as error:
        fail(str(job.pk), str(error))
        return
    done = {"state": JobState.DONE, "count": found.of, "steps": found.of, "finished_at": timezone.now()}
    patiently(partial(mine.update, result=msgspec.json.encode(found.held), **done))


def look(job: str, start: int, is_to_stop: Callable[[], bool]) -> None:
    """Look at one part of a job."""
    found = _wanted(job)
    part = JobPart.objects.filter(job=job, start=start, found=None).first()
    if found is None or part is None:
        return
    parts = list[FailuresPart]()
    try:
        while part.start + len(parts) < part.stop:
            words = {"failures": found.failures, "start": part.start + len(parts), "stop": part.stop}
            text = asked(found, "failures-part", words, _is_wanted(job, is_to_stop))
            parts += msgspec.json.decode(text, type=list[FailuresPart])
    except NotWantedError:
        return
    except JobFailedError as error:
        fail(job, str(error))
        return

    def keep() -> None:
        JobPart.objects.filter(pk=part.pk, found=None).update(found=msgspec.json.encode(parts), found_at=timezone.now())
        if not JobPart.objects.filter(job=job, found=None).exists():
            _finish(job)

    patiently(keep)


def _wanted(job: str) -> Job | None:
    return Job.objects.select_related("revision").defer("revision__packed").filter(pk=job, state__in=UNDER_WAY).first()


def _is_wanted(job: str, is_to_stop: Callable[[], bool]) -> Callable[[], bool]:
    def is_wanted() -> bool:
        try:
            return Job.objects.filter(pk=job, state__in=UNDER_WAY).exists()
        except DatabaseError:
            connection.close()
            return True  # the database is away: that is seen to when there is something to keep

    return stopping(is_to_stop, is_wanted)


def _finish(job: str) -> None:
    """Put together what the parts found, once."""
    with transaction.atomic():
        done = Job.objects.select_for_update().get(pk=job)
        if done.state != JobState.RUNNING or done.as_it_is is None:
            return
        found = found_so_far(done)
        done.result, done.as_it_is = msgspec.json.encode(found), None
        done.state, done.finished_at = JobState.DONE, timezone.now()
        done.save(update_fields=["result", "as_it_is", "state", "finished_at"])
        done.parts.all().delete()
        if isinstance(found, ExpectationsHeld) and done.failures == SURVIVED and not done.changes:
            KeptExpectation.objects.bulk_create(
                [
                    KeptExpectation(revision_id=done.revision_id, name=one.name, state=one.state, words=_why(one))
                    for one in found.expectations
                ]
            )


def found_so_far(job: Job) -> ExpectationsHeld | PlacesUnderFailures:
    """What was found by now of failures."""
    found = [bytes(part.found) for part in job.parts.all() if part.found is not None]
    parts = [one for text in found for one in msgspec.json.decode(text, type=list[FailuresPart])]
    if FailuresAsked.of_text(job.failures).places:
        return places_together(parts)
    return together(msgspec.json.decode(bytes(job.as_it_is or b""), type=ExpectationsHeld), parts)


def _why(one: ExpectationHeld) -> str:
    """The first reasons why something does not hold."""
    reasons = [
        f"{flow.flow.source} > {flow.flow.to} {flow.flow.service}: {'; '.join(flow.reasons)}" for flow in one.flows
    ]
    reasons += [f"does not survive {failure.name}: {', '.join(failure.flows)}" for failure in one.not_survived]
    return "\n".join(reasons[:3])


def fail(job: str, problem: str) -> None:
    """Say of a job why it is not done."""
    Job.objects.filter(pk=job, state__in=UNDER_WAY).update(
        state=JobState.FAILED, problem=problem, finished_at=timezone.now()
    )
