"""Questions about a revision: the map, walks, tables, problems, and the source text behind them."""

from abc import ABC, abstractmethod
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from networks.access import revision_of
from questions.serializers import (
    FindingSerializer,
    FlowSerializer,
    MapSerializer,
    SourceFileSerializer,
    SourceTextSerializer,
    TableRowSerializer,
    WalkSerializer,
    WordSerializer,
)
from questions.solved import SolvedRevision, solved_revision
from routrel.analysis.answers import finding_json, routes_json
from routrel.analysis.overview import map_json, services
from routrel.forwarding.flow import Flow

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


@extend_schema(parameters=[OpenApiParameter("device", str, required=True)], responses=TableRowSerializer(many=True))
class TableView(QuestionView):
    """The table of one device."""

    def answer(self, solved: SolvedRevision, request: Request) -> Any:
        name = request.query_params.get("device", "")
        number = solved.solved.topology.device_index.get(name)
        if number is None:
            raise NotFound(f"There is no device {name!r} in this network.")
        return list(routes_json(solved.solved, [number]))


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
