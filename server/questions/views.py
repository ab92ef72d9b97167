"""Questions about a revision: the map, walks, tables, problems, and the source text behind them."""

from typing import Any

from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter
from rest_framework.request import Request
from rest_framework.views import APIView

from networks.access import revision_of
from networks.models import Revision
from questions.answer_schema import answers
from questions.flows import FlowSerializer
from work.service import ask, json_response

TYPED = OpenApiParameter("q", str, description="What was typed so far.")


class QuestionView(APIView):
    """A question about a revision, answered by a work process."""

    question: str
    """Its name there."""
    keys: tuple[str, ...]
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


@answers("map")
class MapView(QuestionView):
    """Sites, devices and cables."""


@answers("understanding")
class UnderstandingView(QuestionView):
    """What was understood of the revision: counts by kind, what is not represented, where knowledge ends."""


@answers("walk", FlowSerializer)
class WalkView(QuestionView):
    """Whether a flow gets through, both ways, with all evidence."""

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


@answers("findings")
class FindingsView(QuestionView):
    """Problems of the model itself."""


@answers("words", TYPED)
class WordsView(QuestionView):
    """Places that what was typed could mean."""


@answers("services")
class ServicesView(QuestionView):
    """Services that can be asked about."""


DEVICE = OpenApiParameter("device", str, required=True)
POLICY = OpenApiParameter("policy", str, required=True, description="A policy of the device, by name.")
VRF = OpenApiParameter("vrf", str, description="A routing instance; the default one where it is left out.")
PREFIX = OpenApiParameter("prefix", str, required=True, description="A prefix, or an address to look up.")


@answers("table", DEVICE, VRF)
class TableView(QuestionView):
    """The table of one routing instance."""


@answers("instances")
class InstancesView(QuestionView):
    """The routing instances besides the default ones."""


@answers("contest", DEVICE, VRF, PREFIX)
class ContestView(QuestionView):
    """Why a route stands in a table, or why none does: candidates, rounds, trails."""


@answers("tipping", DEVICE, VRF, PREFIX)
class TippingView(QuestionView):
    """The values at which a winning route would change."""


@answers("forest", PREFIX)
class ForestView(QuestionView):
    """Every device's best route for one destination, grouped by where they lead."""


@answers("policies")
class PoliciesView(QuestionView):
    """All routing policies, by device."""


@answers("policy", DEVICE, POLICY)
class PolicyView(QuestionView):
    """What a policy does to every route that meets it, wherever it is asked."""


@answers("drift", DEVICE, VRF)
class DriftView(QuestionView):
    """Where a table read off a device and the computed one differ."""


@answers("sources")
class SourceListView(QuestionView):
    """The source files of a revision."""


@answers("source", OpenApiParameter("file", str, required=True))
class SourceTextView(QuestionView):
    """The text of one source file."""
