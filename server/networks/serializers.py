"""Shapes of the networks' part of the API."""

from typing import Any

from rest_framework import serializers

from networks.models import Role


class RevisionSerializer(serializers.Serializer[Any]):
    number = serializers.IntegerField(read_only=True)
    created_at = serializers.DateTimeField(read_only=True)
    created_by = serializers.CharField(source="created_by.username", default=None, read_only=True, allow_null=True)
    note = serializers.CharField(read_only=True)
    file_name = serializers.CharField(read_only=True)
    size = serializers.IntegerField(read_only=True)
    digest = serializers.CharField(read_only=True)
    taken_at = serializers.DateTimeField(read_only=True, allow_null=True)
    device_count = serializers.IntegerField(read_only=True)
    is_capture = serializers.BooleanField(read_only=True)
    error_count = serializers.IntegerField(read_only=True, allow_null=True)


class NetworkSerializer(serializers.Serializer[Any]):
    id = serializers.UUIDField(read_only=True)
    name = serializers.CharField(max_length=200)
    created_at = serializers.DateTimeField(read_only=True)
    role = serializers.ChoiceField(choices=Role.choices, read_only=True)
    latest = RevisionSerializer(read_only=True, allow_null=True)
    asked_at = serializers.DateTimeField(read_only=True, allow_null=True)
    events_until = serializers.DateTimeField(
        read_only=True, allow_null=True, help_text="The last of what is known to have happened, by files of events."
    )


class DeletedNetworkSerializer(serializers.Serializer[Any]):
    id = serializers.UUIDField(read_only=True)
    name = serializers.CharField(read_only=True)
    deleted_at = serializers.DateTimeField(read_only=True)
    gone_at = serializers.DateTimeField(read_only=True)


LARGEST_MOVE = 100_000.0


class MoveSerializer(serializers.Serializer[Any]):
    """How far a device is moved from where it is computed to stand, in units of the layout."""

    device = serializers.CharField(max_length=200)
    right = serializers.FloatField(min_value=-LARGEST_MOVE, max_value=LARGEST_MOVE)
    down = serializers.FloatField(min_value=-LARGEST_MOVE, max_value=LARGEST_MOVE)


class PageSerializer(serializers.Serializer[Any]):
    """A page of a list; what it lists is said by those made of it."""

    count = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)
    previous = serializers.CharField(allow_null=True)


class NetworkPageSerializer(PageSerializer):
    results = NetworkSerializer(many=True)


class RevisionPageSerializer(PageSerializer):
    results = RevisionSerializer(many=True)


class UploadSerializer(serializers.Serializer[Any]):
    """A network file, a device's document in an open model, or a zip archive of a folder; or a network file's text."""

    file = serializers.FileField(required=False, allow_empty_file=True)
    text = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False)
    note = serializers.CharField(required=False, allow_blank=True, max_length=500)


class NewNetworkSerializer(UploadSerializer):
    name = serializers.CharField(required=False, allow_blank=True, max_length=200)


class MemberSerializer(serializers.Serializer[Any]):
    username = serializers.CharField(source="user.username", max_length=150)
    role = serializers.ChoiceField(choices=Role.choices)


class InputErrorSerializer(serializers.Serializer[Any]):
    file = serializers.CharField()
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    message = serializers.CharField()
    found = serializers.CharField()
    allowed = serializers.CharField()
    nearest = serializers.CharField()


class LoadErrorSerializer(serializers.Serializer[Any]):
    type = serializers.CharField()
    title = serializers.CharField()
    status = serializers.IntegerField()
    detail = serializers.CharField()
    errors = InputErrorSerializer(many=True)  # type: ignore[assignment]
