"""What was asked before, as the API gives it."""

from typing import Any

from rest_framework import serializers

from asked.models import AskedFlow, KeptAnswer


class KeptAnswerSerializer(serializers.ModelSerializer[KeptAnswer]):
    revision = serializers.IntegerField(source="revision.number")

    class Meta:
        model = KeptAnswer
        fields = ("revision", "forward", "back", "cause", "asked_at")


class AskedSerializer(serializers.ModelSerializer[AskedFlow]):
    to = serializers.CharField(source="destination")
    answers = KeptAnswerSerializer(many=True, source="listed")

    class Meta:
        model = AskedFlow
        fields = ("id", "to", "service", "enter", "starred", "asked_at", "answers")

    def get_fields(self) -> dict[str, Any]:
        return {"from": serializers.CharField(source="source"), **super().get_fields()}


class StarSerializer(serializers.Serializer[Any]):
    starred = serializers.BooleanField()
