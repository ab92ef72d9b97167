"""What happened to a network: files of events, flows over time, the state at a moment."""

import hashlib
from typing import Any, get_args

import msgspec
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from history.answers import EventFileAbout, EventFileStored, about
from history.models import EventFile
from history.records import loaded, past_of, store
from networks.access import network_of, revision_of, subject_of
from networks.models import Revision, Role
from networks.reigns import Reign, moment_of, reign_of, true_at
from networks.serializers import UploadSerializer
from networks.uploads import bytes_of_upload
from networks.views import BAD_LOAD, UPLOAD_PARSERS
from questions.answer_schema import AS_OF, answers, shape_of
from questions.flows import FlowSerializer, flow_of
from questions.views import AskingView, flows_asked, words_said
from routrel.analysis.answers.health import MeasuredKind
from routrel.model.samples import MEASURES
from routrel.model.times import rfc3339
from site_settings.problems import CONTENT_TYPE
from work.service import ask, json_response

EVENTS_FILE = "events.jsonl"


class EventFilesView(APIView):
    """Files of events of a network, those that begin first before others."""

    parser_classes = UPLOAD_PARSERS

    @extend_schema(responses={(200, "application/json"): shape_of(list[EventFileAbout])}, operation_id="event_files")
    def get(self, request: Request, network_id: str) -> HttpResponse:
        files = network_of(request, network_id).event_files.defer("packed").select_related("created_by")
        return json_response(msgspec.json.encode([EventFileAbout(**about(one)) for one in files]))  # type: ignore[arg-type]

    @extend_schema(
        request=UploadSerializer,
        responses={(201, "application/json"): shape_of(EventFileStored), (400, CONTENT_TYPE): BAD_LOAD},
        operation_id="event_files_add",
    )
    def post(self, request: Request, network_id: str) -> HttpResponse:
        """Send what happened (docs/events.md): events, one on a line, updates of BGP, or samples of what was measured.
        All of it is stored or nothing; the same file sent again is stored once."""
        network = network_of(request, network_id, Role.EDITOR)
        revision = revision_of(request, network_id, None)
        serializer = UploadSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        name, data = bytes_of_upload(serializer.validated_data, EVENTS_FILE)
        found = loaded(subject_of(revision), reign_of(revision).since, name, data, request.user)
        stored = store(network, hashlib.sha256(data).hexdigest(), name, data, found, request.user)
        answer = EventFileStored(**about(stored), unfitting=found.unfitting, told=found.told)  # type: ignore[arg-type]
        return HttpResponse(msgspec.json.encode(answer), status=201, content_type="application/json")


class EventFileView(APIView):
    """A file of events."""

    @extend_schema(responses={(200, "application/jsonl"): OpenApiTypes.BINARY}, operation_id="event_file_download")
    def get(self, request: Request, network_id: str, file_id: int) -> HttpResponse:
        """The file, byte for byte."""
        found = get_object_or_404(EventFile, network=network_of(request, network_id), pk=file_id)
        response = HttpResponse(found.original(), content_type="application/jsonl")
        response["Content-Disposition"] = f'attachment; filename="{found.file_name}"'
        return response

    @extend_schema(responses={204: None}, operation_id="event_file_remove")
    def delete(self, request: Request, network_id: str, file_id: int) -> Response:
        """Take it out: what it says happened is no more known of."""
        get_object_or_404(EventFile, network=network_of(request, network_id, Role.EDITOR), pk=file_id).delete()
        return Response(status=204)


class WindowSerializer(serializers.Serializer[Any]):
    """A window of time; where it is left out, all that is known of."""

    start = serializers.CharField(required=False, default="", help_text="From when on, like 2026-11-20T03:00:00Z.")
    end = serializers.CharField(required=False, default="", help_text="Up to when.")


class PastQuestionView(AskingView):
    """A question about a network over time, of what happened alone: no trial changes the past. With ``latest`` and a
    moment it is asked of the revision that was true then."""

    serializer: type[serializers.Serializer[Any]]

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        words = words_said(self.serializer, request)
        reign = reign_of(revision)
        parameters = {
            "reign": [None if one is None else rfc3339(one) for one in (reign.earliest, reign.latest)],
            "window": [rfc3339(moment_of(name, words[name])) if words.get(name) else None for name in ("start", "end")],
            **self.parameters(request, revision, words),
        }
        past, earlier = past_of(revision, None, reign), self.earlier(revision, reign, words)
        since = None if earlier is None else subject_of(earlier)
        response = json_response(ask(subject_of(revision), self.question, parameters, request.user, since, past=past))
        response["Cache-Control"] = "no-store"
        return response

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        """What else is asked."""
        return {}

    def earlier(self, revision: Revision, reign: Reign, words: dict[str, Any]) -> Revision | None:
        """The revision that the first of two moments is of, where that is an earlier one."""
        return None


class StripSerializer(FlowSerializer, WindowSerializer):
    """A flow, over a window of time."""


@answers("strip", StripSerializer, beside=(AS_OF,))
class StripView(PastQuestionView):
    """A flow over time: in which state it was when, by which ways, what began each, where it fell back, and all of it
    in sentences. Each call goes on for about a second and says how far it is, until `held` is there. A revision tells
    of the time from when it was true to when the next one was; the first one reaches back."""

    serializer = StripSerializer

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        return {"flows": [flow_of(words)]}


class RouteSerializer(WindowSerializer):
    """A prefix at a routing instance, over a window of time."""

    device = serializers.CharField(max_length=200)
    vrf = serializers.CharField(required=False, default="", max_length=200, help_text="The default one where left out.")
    prefix = serializers.CharField(max_length=100, help_text="A prefix, or an address to look up.")


@answers("route-over-time", RouteSerializer, beside=(AS_OF,))
class RouteOverTimeView(PastQuestionView):
    """A table's route for a prefix over time: what it went by when, what began each change, and the events that concern
    it, counted. Each call goes on for about a second and says how far it is, until `held` is there."""

    serializer = RouteSerializer

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        return {key: words[key] for key in ("device", "vrf", "prefix")}


@answers("happened", WindowSerializer, beside=(AS_OF,))
class HappenedView(PastQuestionView):
    """What happened in a window, to all that the revision has, before it was true as well: what is down at the window's
    end, since when, what goes down most, the longest outages, and the events, the newest first."""

    serializer = WindowSerializer


@answers("between", WindowSerializer, beside=(AS_OF,))
class BetweenView(PastQuestionView):
    """Two moments held against each other, `start` and `end`: what happened after the one up to the other, and which
    routes and flows, of those one asked before or starred, that moved. `start` may be of an earlier revision."""

    serializer = WindowSerializer

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        earlier = self.earlier(revision, reign_of(revision), words)
        then = None if earlier is None else reign_of(earlier)
        return {
            "flows": flows_asked(request, revision),
            "earlier": None if then is None else {"since": rfc3339(then.since), "reaches_back": then.earliest is None},
        }

    def earlier(self, revision: Revision, reign: Reign, words: dict[str, Any]) -> Revision | None:
        start = moment_of("start", words["start"]) if words.get("start") else None
        if start is None or reign.earliest is None or start >= reign.earliest:
            return None
        return true_at(revision.network, start)


@answers("between-held", WindowSerializer, beside=(AS_OF,))
class BetweenHeldView(BetweenView):
    """All traffic between places of the network at two moments, `start` and `end`: what of it changed, and that nothing
    else did. Each call goes on for about a second and says how far it is, until `held` is there."""


class MeasureSerializer(WindowSerializer):
    """One measure of one thing, over a window of time."""

    what = serializers.ChoiceField(choices=get_args(MeasuredKind))
    at = serializers.CharField(
        max_length=400, help_text="A device, an interface, or a link by its name or an end: r1, r1:e2."
    )
    measure = serializers.ChoiceField(choices=list(MEASURES))


@answers("measured", MeasureSerializer, beside=(AS_OF,))
class MeasuredView(PastQuestionView):
    """One measure of a device, link or interface over a window, in as many points as a chart has: the lowest, the
    median, the highest, and what was usual at the same hours of the weeks before."""

    serializer = MeasureSerializer

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        return {key: words[key] for key in ("what", "at", "measure")}


class MomentSerializer(serializers.Serializer[Any]):
    """A moment."""

    moment = serializers.CharField(help_text="Like 2026-11-20T03:12:44Z.")


@answers("state", MomentSerializer, beside=(AS_OF,))
class StateView(PastQuestionView):
    """The state at a moment: what is otherwise than the revision says, since which event, and the changes that make the
    revision so. Any other question is asked of that moment by `as_of`."""

    serializer = MomentSerializer

    def parameters(self, request: Request, revision: Revision, words: dict[str, Any]) -> dict[str, Any]:
        return {"moment": rfc3339(moment_of("moment", words["moment"]))}
