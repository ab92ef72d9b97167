"""Keeping what was asked, and asking what is starred again."""

import logging
from collections.abc import Callable
from typing import Any

import msgspec
from django.contrib.auth.models import AbstractBaseUser, AnonymousUser
from django.utils import timezone
from rest_framework.exceptions import APIException

from asked.models import AskedFlow, KeptAnswer
from networks.access import subject_of
from networks.models import Network, Revision
from routrel.analysis.answers.walks import FlowAnswer
from work.service import ask

log = logging.getLogger("routrel.asked")

MOST_KEPT = 200
"""Flows that are kept per user and network, the longest ago asked forgotten first; starred ones stay."""
MOST_STARRED = 50
"""Starred flows per user and network."""
LONGEST_CAUSE = 500

User = AbstractBaseUser | AnonymousUser


class _Cause(msgspec.Struct):
    message: str


class _Strand(msgspec.Struct):
    verdict: str
    causes: list[_Cause]


class _Walk(msgspec.Struct):
    """What is kept of a walk."""

    forward: _Strand
    back: _Strand | None = msgspec.field(name="return")


def keep(
    user: User, revision: Revision, words: dict[str, Any], answer: bytes | None, again: Callable[[], bytes]
) -> None:
    """Keep an answer of the API; one that was not sent, since the client has it, is asked ``again`` unless kept."""
    flow, _ = AskedFlow.objects.update_or_create(
        user=user,
        network_id=revision.network_id,
        source=words["source"],
        destination=words["destination"],
        service=words["service"],
        enter=words.get("enter") or "",
        defaults={"asked_at": timezone.now()},
    )
    if answer is None and not flow.answers.filter(revision=revision).exists():
        answer = again()
    if answer is not None:
        _keep(flow, revision, msgspec.json.decode(answer, type=_Walk))
    kept = AskedFlow.objects.filter(user=user, network_id=revision.network_id, starred=False)
    old = kept.order_by("-asked_at").values_list("pk", flat=True)[MOST_KEPT : MOST_KEPT + 50]
    AskedFlow.objects.filter(pk__in=list(old)).delete()


def _keep(flow: AskedFlow, revision: Revision, walk: _Walk) -> None:
    causes = [cause for strand in (walk.forward, walk.back) if strand is not None for cause in strand.causes]
    KeptAnswer.objects.update_or_create(
        flow=flow,
        revision=revision,
        defaults={
            "forward": walk.forward.verdict,
            "back": "" if walk.back is None else walk.back.verdict,
            "cause": causes[0].message[:LONGEST_CAUSE] if causes else "",
            "asked_at": timezone.now(),
        },
    )


def words_of(flow: AskedFlow) -> dict[str, Any]:
    """A kept flow as a work process takes it."""
    return {
        "source": flow.source,
        "destination": flow.destination,
        "service": flow.service,
        "source_port": None,
        "enter": flow.enter or None,
        "source_address": None,
        "vrf": None,
    }


Asking = Callable[[str, dict[str, Any]], bytes]
"""Asks a question by its name and parameters of a revision; gives the answer's JSON text."""


def asking_of(revision: Revision, user: Any) -> Asking:
    """Asks the work processes of this process."""
    return lambda name, parameters: ask(subject_of(revision), name, parameters, user)


def ask_starred(network: Network, revision: Revision, asking: Asking) -> None:
    """Ask all members' starred flows of a new revision; what cannot be asked any more keeps its former answers."""
    flows = list(AskedFlow.objects.filter(network=network, starred=True))
    if not flows:
        return
    words = [words_of(flow) for flow in flows]
    try:
        text = asking("walks", {"flows": words})
    except APIException as error:
        log.warning("starred flows of %s were not asked: %s", network.pk, error)
        return
    for flow, answer in zip(flows, msgspec.json.decode(text, type=list[FlowAnswer]), strict=True):
        if answer.walk is not None:
            _keep(flow, revision, msgspec.convert(msgspec.to_builtins(answer.walk), _Walk))
