"""Trials kept, changed, undone; and the changes that a question is asked with."""

import json
from typing import Any

from django.db import transaction
from django.db.models import Max
from django.shortcuts import get_object_or_404
from rest_framework.exceptions import APIException, ValidationError
from rest_framework.request import Request

from networks.models import Network, Revision
from routrel.formats.changes.reading import changes_of
from trials.models import Trial
from work.solved_revision import changes_key

MOST_TRIALS = 500
"""Trials of a network."""
MOST_STEPS = 200
"""Steps that can be undone; the first ones are forgotten."""
MOST_BYTES = 8 * 1024 * 1024
"""All steps of a trial, as JSON."""


class Overtaken(APIException):
    """A trial that somebody else changed meanwhile."""

    status_code = 409
    default_detail = "This trial was changed meanwhile: look at it again before changing it."


def changes_text(changes: list[dict[str, Any]]) -> str:
    """Changes as work processes take them; raises ``LoadError`` where they are none."""
    text = changes_key(changes)
    if len(text) > MOST_BYTES:
        raise ValidationError({"changes": [f"They are too large: {len(text):,} bytes; at most {MOST_BYTES:,}."]})
    changes_of(changes)
    return text


def changes_asked(request: Request, revision: Revision) -> str:
    """The changes of the trial that a question names, as work processes take them; nothing where it names none."""
    number = request.query_params.get("trial")
    if number is None:
        return ""
    if not number.isascii() or not number.isdigit() or len(number) > 9:
        raise ValidationError({"trial": ["The number of a trial is expected here."]})
    return trial_changes(revision, int(number))


def trial_changes(revision: Revision, number: int) -> str:
    """The changes of a trial, as work processes take them."""
    return changes_key(get_object_or_404(Trial, network=revision.network_id, number=number).changes)


def create(network: Network, user: Any, revision: int, values: dict[str, Any]) -> Trial:
    """A new trial of a network; what it begins with can be undone too."""
    changes = values.get("changes", [])
    changes_text(changes)
    with transaction.atomic():
        Network.objects.select_for_update().get(pk=network.pk)
        if network.trials.count() >= MOST_TRIALS:
            raise ValidationError({"detail": f"This network has {MOST_TRIALS} trials; delete one first."})
        last = network.trials.aggregate(last=Max("number"))["last"] or 0
        return Trial.objects.create(
            network=network,
            number=last + 1,
            name=values.get("name", ""),
            note=values.get("note", ""),
            created_by=user,
            revision=revision,
            history=[[], changes] if changes else [[]],
            at=1 if changes else 0,
        )


def change(network: Network, number: int, values: dict[str, Any]) -> Trial:
    """A trial with another list of changes, or gone to another step of what was done in it, or named anew."""
    with transaction.atomic():
        trial: Trial = get_object_or_404(Trial.objects.select_for_update(), network=network, number=number)
        if values.get("version") not in (None, trial.version):
            raise Overtaken
        trial.name, trial.note = values.get("name", trial.name), values.get("note", trial.note)
        if "changes" in values and values["changes"] != trial.changes:
            changes_text(values["changes"])
            trial.history = [*trial.history[: trial.at + 1], values["changes"]][-MOST_STEPS:]
            if len(json.dumps(trial.history)) > MOST_BYTES:
                trial.history = trial.history[-1:]
            trial.at = len(trial.history) - 1
        elif "at" in values:
            if values["at"] >= len(trial.history):
                raise ValidationError({"at": [f"There are {len(trial.history)} steps, counted from 0."]})
            trial.at = values["at"]
        trial.version += 1
        trial.save()
        return trial
