"""Flows as query parameters, and as the body of a request."""

from typing import Any

from rest_framework import serializers

MOST_FLOWS = 1000
"""Flows of one request."""


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


class FlowsSerializer(serializers.Serializer[Any]):
    """Several questions."""

    flows = FlowSerializer(many=True, allow_empty=False, max_length=MOST_FLOWS)  # type: ignore[call-arg]

    def validate_flows(self, flows: list[Any]) -> list[Any]:
        """Refuse keys that a flow does not have."""
        known = list(FlowSerializer().fields)
        for number, flow in enumerate(self.initial_data["flows"]):
            unknown = sorted(set(flow) - set(known))
            if unknown:
                raise serializers.ValidationError(
                    f"flow {number + 1}: unknown key {unknown[0]!r}; allowed: {', '.join(known)}"
                )
        return flows


def flow_of(asked: dict[str, Any]) -> dict[str, Any]:
    """What the core is asked."""
    return {
        "source": asked["from"],
        "destination": asked["to"],
        "service": asked["service"],
        "source_port": asked.get("source_port"),
        "enter": asked.get("enter") or None,
        "source_address": asked.get("source") or None,
        "vrf": asked.get("vrf") or None,
    }
