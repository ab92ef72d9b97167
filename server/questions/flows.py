"""A flow as query parameters."""

from typing import Any

from rest_framework import serializers


class FlowSerializer(serializers.Serializer[Any]):
    """A question, as query parameters."""

    to = serializers.CharField(max_length=200)
    service = serializers.CharField(max_length=100, default="icmp")
    source_port = serializers.IntegerField(required=False, allow_null=True, min_value=0, max_value=65535)
    enter = serializers.CharField(max_length=200, required=False, allow_blank=True)
    source = serializers.CharField(max_length=60, required=False, allow_blank=True)  # type: ignore[assignment]
    vrf = serializers.CharField(max_length=200, required=False, allow_blank=True)

    def get_fields(self) -> dict[str, Any]:
        return {"from": serializers.CharField(max_length=200), **super().get_fields()}
