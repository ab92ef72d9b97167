"""Which revision a network is known by at a moment: each from when it was true to when the next one was."""

from datetime import datetime
from typing import NamedTuple

from django.db.models.functions import Coalesce
from django.http import Http404
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request

from networks.models import Network, Revision
from routrel.formats.events_file import parse_time


class Reign(NamedTuple):
    """``since`` is when the revision was true; ``earliest`` is None where none went before it, ``latest`` where none
    came after."""

    since: datetime
    earliest: datetime | None
    latest: datetime | None


def moment_asked(request: Request) -> datetime | None:
    """The moment that a question is asked of; None where it says none."""
    text = request.query_params.get("as_of")
    return None if not text else moment_of("as_of", text)


def moment_of(name: str, text: str) -> datetime:
    """A moment as it stands in an address."""
    found = parse_time(text)
    if found is None:
        raise ValidationError({name: ["A time is expected here, like 2026-11-20T03:12:44Z."]})
    return found


def _moments(network_id: object) -> list[tuple[datetime, int]]:
    """When each revision was true, or was sent where it says no time, in that order."""
    revisions = Revision.objects.filter(network=network_id).annotate(true_at=Coalesce("taken_at", "created_at"))
    return sorted(revisions.values_list("true_at", "number"))


def true_at(network: Network, moment: datetime) -> Revision:
    """The revision that was true at a moment, or the first one, which reaches back."""
    known = _moments(network.pk)
    if not known:
        raise Http404("This network has no revision.")
    number = next((number for since, number in reversed(known) if since <= moment), known[0][1])
    found: Revision = network.revisions.defer("packed").get(number=number)
    return found


def reign_of(revision: Revision) -> Reign:
    """The time that a revision stands for."""
    known = _moments(revision.network_id)
    at = next(at for at, (_, number) in enumerate(known) if number == revision.number)
    later = (since for since, _ in known[at + 1 :] if since > known[at][0])
    return Reign(known[at][0], known[at][0] if at else None, next(later, None))
