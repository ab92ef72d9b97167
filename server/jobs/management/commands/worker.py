"""Do jobs until told to stop; a database that is away is waited for."""

import asyncio
import logging
import os
import time
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import DatabaseError
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException

from jobs import running
from jobs.tasks import STALLED
from work import service

log = logging.getLogger("routrel.jobs")

NICE = 10
"""How much a worker stands back behind what answers people."""

DEFAULT_QUEUE = "default"
HEARTBEAT = 2.0
STOPPING = 2.0
"""Seconds that a part may take to end when the worker is to stop: then somebody else begins it anew."""


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def handle(self, **options: Any) -> None:
        os.nice(NICE)
        try:
            while not _worked():
                time.sleep(1)
        finally:
            running.close()
            service.pool.close()


def _worked() -> bool:
    """Work until told to stop; False where the database went away."""
    connector = app.connector.get_worker_connector()  # type: ignore[attr-defined]
    try:
        with app.replace_connector(connector) as here:
            asyncio.run(_work(here))
    except (ConnectorException, DatabaseError, OSError, ExceptionGroup) as error:
        log.warning("the database is away: %s", error)
        return False
    return True


async def _work(here: Any) -> None:
    async with here.open_async():
        await here.run_worker_async(
            name=f"{os.uname().nodename} {os.getpid()}",
            # Whoever has no inventories leaves their devices to others.
            queues=None if settings.COLLECT else [DEFAULT_QUEUE],
            update_heartbeat_interval=HEARTBEAT,
            stalled_worker_timeout=STALLED,
            shutdown_graceful_timeout=STOPPING,
            fetch_job_polling_interval=2.0,
            delete_jobs="successful",
        )
