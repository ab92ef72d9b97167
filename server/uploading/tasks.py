"""What the queue calls for uploads; what reads them is imported by workers alone, when they are called."""

import logging

from procrastinate import JobContext
from procrastinate.contrib.django import app

from jobs.tasks import AGAIN, RETRY

log = logging.getLogger("routrel.uploading")


@app.task(name="uploading.read", retry=RETRY, pass_context=True)
def read(context: JobContext, upload: str) -> None:
    """Read, solve and store an upload."""
    from uploading import reading

    try:
        reading.read(upload, context.should_abort)
    except AGAIN:
        raise
    except Exception:
        log.exception("upload %s", upload)
        reading.fail(upload, f"Something went wrong here, not with you. Reference: {upload}")
