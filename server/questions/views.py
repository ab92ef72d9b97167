"""Questions about a revision: the map, walks, tables, problems, and the source text behind them."""

from typing import Any

from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from networks.access import revision_of
from networks.models import Revision
from questions.serializers import (
    ContestSerializer,
    DriftSerializer,
    FindingSerializer,
    FlowSerializer,
    ForestSerializer,
    InstanceSerializer,
    MapSerializer,
    PolicyReportSerializer,
    PolicySerializer,
    SourceFileSerializer,
    SourceTextSerializer,
    TableRowSerializer,
    TippingPointSerializer,
    WalkSerializer,
    WordSerializer,
)
from work.service import ask, json_response

TYPED = OpenApiParameter("q", str, description="What was typed so far.")


class QuestionView(APIView):
    """A question about a revision, answered by a work process; ``question`` is its name there."""

    question: str
    keys: tuple[str, ...] = ()
    """Query parameters that are handed on."""

    def get(self, request: Request, network_id: str, number: int) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        parameters = self.parameters(request)
        answer = ask(
            revision.digest,
            revision.file_name,
            self.question,
            parameters,
            lambda: bytes(Revision.objects.get(pk=revision.pk).original()),
            request.user,
        )
        return json_response(answer)

    def parameters(self, request: Request) -> dict[str, Any]:
        return {key: request.query_params.get(key) for key in self.keys}


@extend_schema(responses=MapSerializer)
class MapView(QuestionView):
    """Sites, devices and cables."""

    question = "map"


@extend_schema(parameters=[FlowSerializer], responses=WalkSerializer)
class WalkView(QuestionView):
    """Whether a flow gets through, both ways, with all evidence."""

    question = "walk"

    def parameters(self, request: Request) -> dict[str, Any]:
        serializer = FlowSerializer(data=request.query_params)
        serializer.is_valid(raise_exception=True)
        asked = serializer.validated_data
        return {
            "source": asked["from"],
            "destination": asked["to"],
            "service": asked["service"],
            "source_port": asked.get("source_port"),
            "enter": asked.get("enter") or None,
            "source_address": asked.get("source") or None,
            "vrf": asked.get("vrf") or None,
        }


@extend_schema(responses=FindingSerializer(many=True))
class FindingsView(QuestionView):
    """Problems of the model itself."""

    question = "findings"


@extend_schema(parameters=[TYPED], responses=WordSerializer(many=True))
class WordsView(QuestionView):
    """Places that what was typed could mean."""

    question = "words"
    keys = ("q",)


@extend_schema(responses=WordSerializer(many=True))
class ServicesView(QuestionView):
    """Services that can be asked about."""

    question = "services"


DEVICE = OpenApiParameter("device", str, required=True)
POLICY = OpenApiParameter("policy", str, required=True, description="A policy of the device, by name.")
VRF = OpenApiParameter("vrf", str, description="A routing instance; the default one where it is left out.")
PREFIX = OpenApiParameter("prefix", str, required=True, description="A prefix, or an address to look up.")


@extend_schema(parameters=[DEVICE, VRF], responses=TableRowSerializer(many=True))
class TableView(QuestionView):
    """The table of one routing instance."""

    question = "table"
    keys = ("device", "vrf")


@extend_schema(responses=InstanceSerializer(many=True))
class InstancesView(QuestionView):
    """The routing instances besides the default ones."""

    question = "instances"


@extend_schema(parameters=[DEVICE, VRF, PREFIX], responses=ContestSerializer)
class ContestView(QuestionView):
    """Why a route stands in a table, or why none does: candidates, rounds, trails."""

    question = "contest"
    keys = ("device", "vrf", "prefix")


@extend_schema(parameters=[DEVICE, VRF, PREFIX], responses=TippingPointSerializer(many=True))
class TippingView(QuestionView):
    """The values at which a winning route would change."""

    question = "tipping"
    keys = ("device", "vrf", "prefix")


@extend_schema(parameters=[PREFIX], responses=ForestSerializer)
class ForestView(QuestionView):
    """Every device's best route for one destination, grouped by where they lead."""

    question = "forest"
    keys = ("prefix",)


@extend_schema(responses=PolicySerializer(many=True))
class PoliciesView(QuestionView):
    """All routing policies, by device."""

    question = "policies"


@extend_schema(parameters=[DEVICE, POLICY], responses=PolicyReportSerializer)
class PolicyView(QuestionView):
    """What a policy does to every route that meets it, wherever it is asked."""

    question = "policy"
    keys = ("device", "policy")


@extend_schema(parameters=[DEVICE, VRF], responses=DriftSerializer)
class DriftView(QuestionView):
    """Where a table read off a device and the computed one differ."""

    question = "drift"
    keys = ("device", "vrf")


@extend_schema(responses=SourceFileSerializer(many=True))
class SourceListView(QuestionView):
    """The source files of a revision."""

    question = "sources"


@extend_schema(parameters=[OpenApiParameter("file", str, required=True)], responses=SourceTextSerializer)
class SourceTextView(QuestionView):
    """The text of one source file."""

    question = "source"
    keys = ("file",)
