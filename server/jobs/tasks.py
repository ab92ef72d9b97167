"""What the queue calls: plan a job, look at a part of it, take up what a dead worker left.

Every process knows these; what does them is imported by workers alone, when they are called.
"""

import logging
from collections.abc import Iterator
from contextlib import contextmanager

from django.db import InterfaceError, OperationalError
from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException

log = logging.getLogger("routrel.jobs")

STALLED = 10.0
"""Seconds without a sign of life after which a worker's parts are taken up by others."""


class ToStopError(Exception):
    """The worker is to stop: somebody else goes on."""


AGAIN = (OperationalError, InterfaceError, ConnectorException, ToStopError)
"""What is tried again, by this worker or another."""

RETRY = RetryStrategy(max_attempts=50, wait=1, retry_exceptions=set(AGAIN))


@contextmanager
def _said(job: str) -> Iterator[None]:
    """Whatever goes wrong in a job is said of it, but what somebody else may do better is left to the queue."""
    from jobs import doing

    try:
        yield
    except AGAIN:
        raise
    except Exception:
        log.exception("job %s", job)
        doing.fail(job, f"Something went wrong here, not with you. Reference: {job}")


@app.task(name="jobs.plan", retry=RETRY, pass_context=True)
def plan(context: JobContext, job: str) -> None:
    """Cut a job into parts, and queue them."""
    from jobs import doing

    with _said(job):
        for number, start in enumerate(doing.plan(job, context.should_abort)):
            # Later parts stand back, so that every job has its turn.
            look.configure(priority=-number).defer(job=job, start=start)


@app.task(name="jobs.look", retry=RETRY, pass_context=True)
def look(context: JobContext, job: str, start: int) -> None:
    """Look at one part of a job."""
    from jobs import doing

    with _said(job):
        doing.look(job, start, context.should_abort)


@app.periodic(cron="* * * * * */5")  # seconds come last
@app.task(name="jobs.take_up_stalled", queueing_lock="take up stalled", pass_context=True)
async def take_up_stalled(context: JobContext, timestamp: int) -> None:
    """Queue again what is done by a worker that gives no sign of life."""
    manager = context.app.job_manager
    for stalled in await manager.get_stalled_jobs(seconds_since_heartbeat=STALLED):
        await manager.retry_job(stalled)
