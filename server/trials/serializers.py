"""Shapes of the trials' part of the API."""

from typing import Any

from rest_framework import serializers

from routrel.formats.changes.reading import MOST_CHANGES


class ChangesSerializer(serializers.Serializer[Any]):
    """A list of changes, each as docs/changes.md has it."""

    changes = serializers.ListField(child=serializers.DictField(), max_length=MOST_CHANGES)


class TrialSerializer(serializers.Serializer[Any]):
    """A trial; ``at`` of its ``steps`` holds now, and can be undone while it is above 0."""

    number = serializers.IntegerField()
    name = serializers.CharField()
    note = serializers.CharField()
    created_by = serializers.CharField(source="created_by.username", default=None, allow_null=True)
    created_at = serializers.DateTimeField()
    changed_at = serializers.DateTimeField()
    revision = serializers.IntegerField()
    changes = serializers.ListField(child=serializers.DictField())
    at = serializers.IntegerField()
    steps = serializers.SerializerMethodField()
    version = serializers.IntegerField()

    def get_steps(self, trial: Any) -> int:
        return len(trial.history)


class NewTrialSerializer(serializers.Serializer[Any]):
    """A trial to be kept; ``revision`` is the number of the revision that it is written on."""

    name = serializers.CharField(required=False, allow_blank=True, max_length=200)
    note = serializers.CharField(required=False, allow_blank=True, max_length=4000)
    revision = serializers.IntegerField(min_value=1)
    changes = serializers.ListField(child=serializers.DictField(), required=False, max_length=MOST_CHANGES)


class TrialChangeSerializer(serializers.Serializer[Any]):
    """What is to be another: the changes, the step that holds (counted from 0), the name, the note.

    ``add`` are changes that come to those that hold, ``line`` is one of them as it is typed. With ``revision``,
    entries that changes mean are written out as they stand there. With ``version``, a trial that was changed since is
    not changed.
    """

    name = serializers.CharField(required=False, allow_blank=True, max_length=200)
    note = serializers.CharField(required=False, allow_blank=True, max_length=4000)
    changes = serializers.ListField(child=serializers.DictField(), required=False, max_length=MOST_CHANGES)
    add = serializers.ListField(child=serializers.DictField(), required=False, max_length=MOST_CHANGES)
    line = serializers.CharField(required=False, max_length=2000)
    revision = serializers.IntegerField(required=False, min_value=1)
    at = serializers.IntegerField(required=False, min_value=0)
    version = serializers.IntegerField(required=False, min_value=1)


class TrialRevisionSerializer(serializers.Serializer[Any]):
    """``revision`` is the one that the changes are made to."""

    revision = serializers.IntegerField(min_value=1)
    note = serializers.CharField(required=False, allow_blank=True, max_length=500)
