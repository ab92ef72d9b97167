"""Files of events kept, and the past that a question is asked with."""

import zlib
from datetime import datetime
from typing import Any

import msgspec
from django.db import transaction
from django.db.models import Count, Sum
from django.shortcuts import get_object_or_404
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request

from history.models import EventFile
from networks.models import Network, Revision
from networks.reigns import Reign, moment_asked, reign_of
from routrel.formats.events_file import MAX_EVENTS
from routrel.formats.samples.gathering import MAX_SAMPLES
from routrel.model.times import rfc3339
from work.answering_past import EventsLoaded
from work.past import EventFileKey, Past
from work.service import PastAsked, Subject, ask

MOST_FILES = 5_000
"""Files of events of a network."""


def past_of(revision: Revision, moment: datetime | None = None, reign: Reign | None = None) -> PastAsked:
    """What is known to have happened to a revision's network; of a moment, where one is given."""
    reign = reign or reign_of(revision)
    files = EventFile.objects.filter(network=revision.network_id).values_list("digest", "file_name")
    past = Past(
        tuple(EventFileKey(*one) for one in files),
        rfc3339(reign.since),
        reign.earliest is None,
        "" if moment is None else rfc3339(moment),
    )

    def text(digest: str) -> bytes:
        return bytes(get_object_or_404(EventFile, network=revision.network_id, digest=digest).original())

    return PastAsked(past, text)


def past_asked(request: Request, revision: Revision) -> PastAsked | None:
    """The past at whose moment a question is asked; None where it is asked of the revision as it is."""
    moment = moment_asked(request)
    if moment is None:
        return None
    reign = reign_of(revision)
    if reign.earliest is not None and moment < reign.earliest:
        raise ValidationError(
            {"as_of": [f"This revision is true since {rfc3339(reign.earliest)}: ask an earlier one."]}
        )
    return past_of(revision, moment, reign)


def loaded(subject: Subject, since: datetime, file_name: str, data: bytes, user: Any) -> EventsLoaded:
    """What a file of events holds, read by a work process; raises what is wrong with it."""
    parameters = {"file_name": file_name, "data": data, "since": rfc3339(since)}
    return msgspec.json.decode(ask(subject, "events-loaded", parameters, user), type=EventsLoaded)


def store(network: Network, digest: str, file_name: str, data: bytes, found: EventsLoaded, user: Any) -> EventFile:
    """A file of events of a network; the same one a second time is there already."""
    with transaction.atomic():
        Network.objects.select_for_update().get(pk=network.pk)
        known: EventFile | None = network.event_files.filter(digest=digest).first()
        if known is not None:
            return known
        kept = network.event_files.aggregate(files=Count("id"), events=Sum("count"), samples=Sum("samples"))
        events, samples = kept["events"] or 0, kept["samples"] or 0
        is_too_much = events + found.count > MAX_EVENTS or samples + found.samples > MAX_SAMPLES
        if kept["files"] >= MOST_FILES or is_too_much:
            raise ValidationError(
                {
                    "detail": f"This network has {events:,} events and {samples:,} samples in {kept['files']:,} files;"
                    f" allowed are {MAX_EVENTS:,} and {MAX_SAMPLES:,} in {MOST_FILES:,}."
                    " Delete files of long ago first."
                }
            )
        return EventFile.objects.create(
            network=network,
            created_by=user,
            file_name=file_name,
            digest=digest,
            packed=zlib.compress(data),
            size=len(data),
            count=found.count,
            samples=found.samples,
            first=found.first,
            last=found.last,
        )
