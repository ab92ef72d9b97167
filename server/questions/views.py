"""Questions about a revision: the map, walks, tables, problems, and the source text behind them."""

from abc import ABC, abstractmethod
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from networks.access import revision_of
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
from questions.solved import SolvedRevision, solved_revision
from routrel.analysis.answers import finding_json, place_json, routes_json
from routrel.analysis.contest.answer import WhyError, parse_prefix
from routrel.analysis.drift import drift, has_both
from routrel.analysis.forest import forest_json
from routrel.analysis.overview import map_json, services
from routrel.analysis.policy_view import PolicyView as PolicyReport
from routrel.analysis.policy_view import policies_json
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import DEFAULT_INSTANCE

TYPED = OpenApiParameter("q", str, description="What was typed so far.")


class QuestionView(APIView, ABC):
    """A view on a solved revision, which its ``answer`` gets while no other thread uses it."""

    def get(self, request: Request, network_id: str, number: int) -> Response:
        solved = solved_revision(revision_of(request, network_id, number))
        with solved.lock:
            return Response(self.answer(solved, request))

    @abstractmethod
    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        """The answer as plain data."""


@extend_schema(responses=MapSerializer)
class MapView(QuestionView):
    """Sites, devices and cables."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return map_json(solved.solved)


@extend_schema(parameters=[FlowSerializer], responses=WalkSerializer)
class WalkView(QuestionView):
    """Whether a flow gets through, both ways, with all evidence."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        serializer = FlowSerializer(data=request.query_params)
        serializer.is_valid(raise_exception=True)
        asked = serializer.validated_data
        flow = Flow(
            asked["from"],
            asked["to"],
            asked["service"],
            asked.get("source_port"),
            asked.get("enter") or None,
            asked.get("source") or None,
            asked.get("vrf") or None,
        )
        return solved.evidence.walk(solved.answerer.asker.ask(flow))


@extend_schema(responses=FindingSerializer(many=True))
class FindingsView(QuestionView):
    """Problems of the model itself."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return [finding_json(finding) for finding in solved.findings()]


@extend_schema(parameters=[TYPED], responses=WordSerializer(many=True))
class WordsView(QuestionView):
    """Places that what was typed could mean."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return solved.words().matching(request.query_params.get("q", "")[:200])


@extend_schema(responses=WordSerializer(many=True))
class ServicesView(QuestionView):
    """Services that can be asked about."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return services(solved.solved)


DEVICE = OpenApiParameter("device", str, required=True)
POLICY = OpenApiParameter("policy", str, required=True, description="A policy of the device, by name.")
VRF = OpenApiParameter("vrf", str, description="A routing instance; the default one where it is left out.")
PREFIX = OpenApiParameter("prefix", str, required=True, description="A prefix, or an address to look up.")


def instance_of(solved: SolvedRevision, request: Request) -> int:
    """The routing instance that the query names."""
    name, vrf = request.query_params.get("device", ""), request.query_params.get("vrf") or DEFAULT_INSTANCE
    topology = solved.solved.topology
    if name not in topology.device_index:
        raise NotFound(f"There is no device {name!r} in this network.")
    number = topology.instance_index.get((name, vrf))
    if number is None:
        raise NotFound(f"There is no routing instance {vrf!r} on {name}.")
    return number


def prefix_of(request: Request) -> Prefix | Address:
    """What the query asks about."""
    try:
        return parse_prefix(request.query_params.get("prefix", "").strip())
    except WhyError as error:
        raise ValidationError({"prefix": [str(error)]}) from None


@extend_schema(parameters=[DEVICE, VRF], responses=TableRowSerializer(many=True))
class TableView(QuestionView):
    """The table of one routing instance."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return list(routes_json(solved.solved, [instance_of(solved, request)]))


@extend_schema(responses=InstanceSerializer(many=True))
class InstancesView(QuestionView):
    """The routing instances besides the default ones."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        topology = solved.solved.topology
        return [
            {"device": topology.devices[instance.device].name, "vrf": instance.vrf}
            for instance in topology.instances
            if instance.vrf != DEFAULT_INSTANCE
        ]


@extend_schema(parameters=[DEVICE, VRF, PREFIX], responses=ContestSerializer)
class ContestView(QuestionView):
    """Why a route stands in a table, or why none does: candidates, rounds, trails."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        asked = prefix_of(request)
        return solved.why().why_json(instance_of(solved, request), asked, with_tipping=False)


@extend_schema(parameters=[DEVICE, VRF, PREFIX], responses=TippingPointSerializer(many=True))
class TippingView(QuestionView):
    """The values at which a winning route would change."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        asked = prefix_of(request)
        return solved.why().tipping_json(instance_of(solved, request), asked)


@extend_schema(parameters=[PREFIX], responses=ForestSerializer)
class ForestView(QuestionView):
    """Every device's best route for one destination, grouped by where they lead."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return forest_json(solved.solved, prefix_of(request))


@extend_schema(responses=PolicySerializer(many=True))
class PoliciesView(QuestionView):
    """All routing policies, by device."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return policies_json(solved.solved)


@extend_schema(parameters=[DEVICE, POLICY], responses=PolicyReportSerializer)
class PolicyView(QuestionView):
    """What a policy does to every route that meets it, wherever it is asked."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        instance_of(solved, request)
        device, name = request.query_params["device"], request.query_params.get("policy", "")
        if name not in solved.solved.network.devices[device].policies:
            raise NotFound(f"{device} has no policy {name!r}.")
        return PolicyReport(solved.solved, device, name).report()


@extend_schema(parameters=[DEVICE, VRF], responses=DriftSerializer)
class DriftView(QuestionView):
    """Where a table read off a device and the computed one differ."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        instance = instance_of(solved, request)
        return {
            "compared": has_both(solved.solved, instance),
            "differences": [
                {
                    "prefix": str(one.prefix),
                    "what": one.what,
                    "computed": one.computed,
                    "observed": one.observed,
                    "place": place_json(one.place),
                }
                for one in drift(solved.solved, instance)
            ],
        }


@extend_schema(responses=SourceFileSerializer(many=True))
class SourceListView(QuestionView):
    """The source files of a revision."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        return [{"file": name, "size": len(data)} for name, data in sorted(solved.files.items())]


@extend_schema(parameters=[OpenApiParameter("file", str, required=True)], responses=SourceTextSerializer)
class SourceTextView(QuestionView):
    """The text of one source file."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        name = request.query_params.get("file", "")
        if name not in solved.files:
            raise NotFound(f"There is no file {name!r} in this revision.")
        return {"file": name, "text": solved.files[name].decode("utf-8-sig", "replace")}
