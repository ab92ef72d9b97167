"""What a user asked of a network before: listed, starred, forgotten."""

from django.db.models import Prefetch, QuerySet
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from asked.models import AskedFlow, KeptAnswer
from asked.records import MOST_STARRED
from asked.serializers import AskedSerializer, StarSerializer
from networks.access import network_of

MOST_ANSWERS = 20
"""Answers that are listed of a flow, those of the newest revisions."""


def asked_of(request: Request, network_id: str) -> QuerySet[AskedFlow]:
    """One's own, starred first, then the last asked first."""
    network = network_of(request, network_id)
    return AskedFlow.objects.filter(network=network, user=request.user)


def with_answers(flows: QuerySet[AskedFlow]) -> QuerySet[AskedFlow]:
    """Flows with their newest answers as ``listed``, in one query more."""
    answers = KeptAnswer.objects.select_related("revision")[:MOST_ANSWERS]
    return flows.prefetch_related(Prefetch("answers", answers, to_attr="listed"))


class AskedListView(APIView):
    """The flows that one asked of a network, each with its answer per revision."""

    @extend_schema(responses=AskedSerializer(many=True), operation_id="asked_list")
    def get(self, request: Request, network_id: str) -> Response:
        return Response(AskedSerializer(with_answers(asked_of(request, network_id)), many=True).data)


class AskedView(APIView):
    """One flow asked before."""

    @extend_schema(request=StarSerializer, responses=AskedSerializer)
    def put(self, request: Request, network_id: str, asked_id: int) -> Response:
        """Star it, so that it is asked of every new revision, or no longer."""
        flow = get_object_or_404(asked_of(request, network_id), pk=asked_id)
        serializer = StarSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        flow.starred = serializer.validated_data["starred"]
        if flow.starred and asked_of(request, network_id).filter(starred=True).count() >= MOST_STARRED:
            raise ValidationError({"detail": f"{MOST_STARRED} flows are starred already; take one back first."})
        flow.save(update_fields=["starred"])
        return Response(AskedSerializer(with_answers(asked_of(request, network_id)).get(pk=asked_id)).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str, asked_id: int) -> Response:
        """Forget it."""
        get_object_or_404(asked_of(request, network_id), pk=asked_id).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)
