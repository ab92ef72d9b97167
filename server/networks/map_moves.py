"""Devices moved by hand on the map of a network: the same for all its members, moved by those who may edit."""

from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from networks.access import network_of
from networks.models import Role
from networks.serializers import MoveSerializer

MOST_MOVED = 20_000


class MapMovesView(APIView):
    """What was moved on the map of a network."""

    @extend_schema(responses=MoveSerializer(many=True), operation_id="map_moves_list")
    def get(self, request: Request, network_id: str) -> Response:
        moved = network_of(request, network_id).moved_devices.order_by("device")
        return Response(MoveSerializer(moved, many=True).data)

    @extend_schema(request=MoveSerializer, responses=MoveSerializer)
    def put(self, request: Request, network_id: str) -> Response:
        """Move a device; its former move is forgotten."""
        network = network_of(request, network_id, Role.EDITOR)
        serializer = MoveSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        values = serializer.validated_data
        if network.moved_devices.exclude(device=values["device"]).count() >= MOST_MOVED:
            raise ValidationError(f"{MOST_MOVED:,} devices are moved already; put them back first.")
        move, _ = network.moved_devices.update_or_create(
            device=values["device"], defaults={"right": values["right"], "down": values["down"]}
        )
        return Response(MoveSerializer(move).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str) -> Response:
        """Put all devices back where they are computed to stand."""
        network_of(request, network_id, Role.EDITOR).moved_devices.all().delete()
        return Response(status=status.HTTP_204_NO_CONTENT)
