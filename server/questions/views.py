"""Questions about a revision: the map, walks, tables, problems; those about its texts are in ``text_views``."""

from collections.abc import Callable
from typing import Any

import msgspec
from django.http import HttpResponse
from django.utils.cache import get_conditional_response
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request
from rest_framework.views import APIView

from asked.models import AskedFlow
from asked.records import keep, words_of
from history.records import past_asked
from networks.access import revision_of, subject_of
from networks.models import Revision
from questions.answer_schema import SHAPE_OF, answers
from questions.answer_tags import tag_of
from questions.flows import FlowSerializer, FlowsSerializer, flow_of
from trials.records import changes_asked, changes_text
from trials.serializers import ChangesSerializer
from work.service import ask, json_response

MOST_FLOWS_COMPARED = 40
"""Flows asked before that a trial is held against."""
TYPED = OpenApiParameter("q", str, description="What was typed so far.")


class AskingView(APIView):
    """Questions about a revision, answered by a work process."""

    question: str
    """Its name there."""
    keys: tuple[str, ...]
    """Query parameters that are handed on."""
    known: tuple[str, ...]
    """All query parameters that there are."""

    def answer(self, request: Request, revision: Revision, parameters: dict[str, Any]) -> bytes:
        changes, past = changes_asked(request, revision), past_asked(request, revision)
        return ask(subject_of(revision), self.question, parameters, request.user, None, changes, past)

    def initial(self, request: Request, *args: Any, **kwargs: Any) -> None:
        """Refuse parameters that this question does not have: a misspelt one would change the answer unseen."""
        super().initial(request, *args, **kwargs)
        unknown = sorted(set(request.query_params) - set(self.known))
        if unknown:
            allowed = ", ".join(self.known)
            raise ValidationError({"detail": f"unknown parameter {unknown[0]!r}; allowed: {allowed}"})


def tagged(request: Request, tag: str, answer: Callable[[], bytes]) -> tuple[HttpResponse, bytes | None]:
    """An answer with its text; none where the one that the client has is still right, since no revision changes."""
    response = get_conditional_response(request, etag=tag)
    text = None
    if response is None:
        text = answer()
        response = json_response(text)
    response["ETag"] = tag
    response["Cache-Control"] = "private, no-cache"
    return response, text


class QuestionView(AskingView):
    """A question whose words stand in its address."""

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        parameters = self.parameters(request)
        changes, past = changes_asked(request, revision), past_asked(request, revision)
        tag = tag_of(revision, self.question, [parameters, changes, past and past.past])
        answer, text = tagged(request, tag, lambda: self.answer(request, revision, parameters))
        if not changes and past is None:
            self.answered(request, revision, parameters, text)
        return answer

    def answered(self, request: Request, revision: Revision, parameters: dict[str, Any], text: bytes | None) -> None:
        """After an answer about the revision as it is; ``text`` is None where the client has it already."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return {key: request.query_params.get(key) for key in self.keys}


def words_said(serializer: type[serializers.Serializer[Any]], request: Request) -> dict[str, Any]:
    """What a question's address says, read by a serializer."""
    read = serializer(data=request.query_params)
    read.is_valid(raise_exception=True)
    return dict(read.validated_data)


@answers("map")
class MapView(QuestionView):
    """Sites, devices and cables."""


@answers("understanding")
class UnderstandingView(QuestionView):
    """What was understood of the revision: counts by kind, what is not represented, where knowledge ends."""


class FlowQuestionView(QuestionView):
    """A question about one flow."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return flow_of(words_said(FlowSerializer, request))


@answers("walk", FlowSerializer)
class WalkView(FlowQuestionView):
    """Whether a flow gets through, both ways, with all evidence."""

    def answered(self, request: Request, revision: Revision, parameters: dict[str, Any], text: bytes | None) -> None:
        """What a person asks is kept; what scripts ask, or with more words than the sentence has, is not."""
        if request.auth is None and not any(parameters[key] for key in ("source_port", "source_address", "vrf")):
            keep(request.user, revision, parameters, text, lambda: self.answer(request, revision, parameters))


@answers("remedies", FlowSerializer)
class RemediesView(FlowQuestionView):
    """What is offered against what stops a flow, each tried: first what cures it, by how little else it moves."""


class WantedWaySerializer(FlowSerializer):
    """A flow, and the devices that it is to pass and to avoid: by name, commas between."""

    passing = serializers.CharField(required=False, default="")
    avoiding = serializers.CharField(required=False, default="")


@answers("wanted-way", WantedWaySerializer)
class WantedWayView(QuestionView):
    """What would lead a flow by some devices, or past them, each tried: what moves least first."""

    def parameters(self, request: Request) -> dict[str, Any]:
        values = words_said(WantedWaySerializer, request)
        passes, avoids = (
            [name for one in values.pop(key).split(",") if (name := one.strip())] for key in ("passing", "avoiding")
        )
        return {"flow": flow_of(values), "passes": passes, "avoids": avoids}


@answers("walks", request=FlowsSerializer)
class WalksView(AskingView):
    """Many flows in one call: what became of each, both ways."""

    def post(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        serializer = FlowsSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        flows = [flow_of(one) for one in serializer.validated_data["flows"]]
        return json_response(self.answer(request, revision, {"flows": flows}))


@answers("findings")
class FindingsView(QuestionView):
    """Problems of the model itself."""

    def answered(self, request: Request, revision: Revision, parameters: dict[str, Any], text: bytes | None) -> None:
        """How many are errors is kept, for the list of networks."""
        if text is None:
            return
        found = sum(one.severity == "error" for one in msgspec.json.decode(text, type=list[_Severity]))
        if found != revision.error_count:
            Revision.objects.filter(pk=revision.pk).update(error_count=found)


class _Severity(msgspec.Struct):
    severity: str


@answers("words", TYPED)
class WordsView(QuestionView):
    """Places that what was typed could mean."""


@answers("find", TYPED)
class FindView(QuestionView):
    """Whatever was typed could mean: devices, interfaces, endpoints, prefixes with who brings them, sessions, lists and
    policies, entries, routing instances; of an address, who owns it and what covers it."""


@answers("services")
class ServicesView(QuestionView):
    """Services that can be asked about."""


DEVICE = OpenApiParameter("device", str, required=True)
POLICY = OpenApiParameter("policy", str, required=True, description="A policy of the device, by name.")
VRF = OpenApiParameter("vrf", str, description="A routing instance; the default one where it is left out.")
PREFIX = OpenApiParameter("prefix", str, required=True, description="A prefix, or an address to look up.")


class TableSerializer(serializers.Serializer[Any]):
    """A routing instance, and how much of its table."""

    device = serializers.CharField()
    vrf = serializers.CharField(required=False, allow_blank=True, default="")
    within = serializers.CharField(
        required=False,
        allow_blank=True,
        default="",
        help_text="A prefix: the routes inside it, and those that cover it.",
    )
    most = serializers.IntegerField(min_value=1, required=False, help_text="So many routes at most; else all.")


@answers("table", TableSerializer)
class TableView(QuestionView):
    """The table of one routing instance, or a part of it."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(TableSerializer, request)


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


class SinceSerializer(serializers.Serializer[Any]):
    since = serializers.IntegerField(min_value=1, help_text="The number of the revision that it is held against.")


@answers("comparison", SinceSerializer)
class ComparisonView(AskingView):
    """What differs from another revision: of the model, of all tables, and of one's starred flows."""

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        since = revision_of(request, network_id, words_said(SinceSerializer, request)["since"])
        starred = AskedFlow.objects.filter(network=revision.network_id, user=request.user, starred=True)
        parameters = {"flows": [words_of(flow) for flow in starred]}
        changes = changes_asked(request, revision)
        past = past_asked(request, revision)
        asked = {**parameters, "since": [since.digest, since.file_name], "changes": changes, "past": past and past.past}
        tag = tag_of(revision, self.question, asked)
        of, before = subject_of(revision), subject_of(since)
        return tagged(request, tag, lambda: ask(of, self.question, parameters, request.user, before, changes, past))[0]


class ExpectationSerializer(serializers.Serializer[Any]):
    """One of what is expected."""

    expectation = serializers.CharField(help_text="An expectation, by name.")


class TurnedSerializer(SinceSerializer, ExpectationSerializer):
    """An expectation that held in one revision and fails in another."""


@answers("turned", TurnedSerializer)
class TurnedView(AskingView):
    """What made an expectation fail that held in an earlier revision: the differences that mend it when taken back
    alone, each found by solving with it."""

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        words = words_said(TurnedSerializer, request)
        since, changes = revision_of(request, network_id, words["since"]), changes_asked(request, revision)
        past = past_asked(request, revision)
        tag = tag_of(revision, self.question, [words, since.digest, since.file_name, changes, past and past.past])
        of, before = subject_of(revision), subject_of(since)
        asked = {"expectation": words["expectation"]}
        return tagged(request, tag, lambda: ask(of, self.question, asked, request.user, before, changes, past))[0]


@answers("tried")
class TriedView(QuestionView):
    """What becomes of each change of a trial on this revision: in words, made or not, and why not."""

    @extend_schema(request=ChangesSerializer, responses={(200, "application/json"): SHAPE_OF["tried"]})
    def post(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        """The same of any list of changes, which is not kept."""
        revision = revision_of(request, network_id, number)
        serializer = ChangesSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        changes = changes_text(serializer.validated_data["changes"])
        past = past_asked(request, revision)
        return json_response(ask(subject_of(revision), self.question, {}, request.user, None, changes, past))


def flows_asked(request: Request, revision: Revision) -> list[dict[str, Any]]:
    """The flows that one asked before of a network, starred ones first."""
    flows = AskedFlow.objects.filter(network=revision.network_id, user=request.user)
    return [words_of(flow) for flow in flows.order_by("-starred", "-asked_at")[:MOST_FLOWS_COMPARED]]


@answers("moved")
class MovedView(QuestionView):
    """What a trial moves: routes of all tables, and what one asked before or starred."""

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision = revision_of(request, network_id, number)
        return json_response(self.answer(request, revision, {"flows": flows_asked(request, revision)}))


class SteppedView(QuestionView):
    """A question that takes a while: each call goes on for about a second and says how far it is, until ``held`` is
    there."""

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        parameters = self.parameters(request)
        response = json_response(self.answer(request, revision_of(request, network_id, number), parameters))
        response["Cache-Control"] = "no-store"
        return response


@answers("held")
class HeldView(SteppedView):
    """What of all traffic a trial changes, and that nothing else does. It takes a while where much does: each call goes
    on for about a second and says how far it is, until `held` is there."""


class FailuresSerializer(serializers.Serializer[Any]):
    """Under which single failures expectations are held."""

    failures = serializers.CharField(
        default="survived",
        help_text="`survived`: those that they name; `none`; or kinds with commas between, all of which are tried: "
        "links, interfaces, devices, sites, risk_groups, sessions.",
    )


@answers("expectations", FailuresSerializer)
class ExpectationsView(SteppedView):
    """What is expected of the network, by its `expectations.yaml`, and whether it holds. Under failures that takes a
    while: each call goes on for about a second and says how far it is, until `held` is there."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(FailuresSerializer, request)


class ShutSerializer(serializers.Serializer[Any]):
    """What is to be shut."""

    shut = serializers.CharField(
        help_text="Things with commas between, each with what it is: `device bw-core2, link core`. There are link, "
        "interface, device, site, risk group and session."
    )


@answers("maintenance", ShutSerializer)
class MaintenanceView(SteppedView):
    """In which order to drain and shut things so that nothing expected breaks at any step, or what does. Each call goes
    on for about a second and says how far it is, until `held` is there."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(ShutSerializer, request)


@answers("leaning", ExpectationSerializer)
class LeaningView(SteppedView):
    """What an expectation leans on: the routes, entries and policies that lead its flows, and what carries them,
    decides about them or stands by, with what becomes of them without each. Each call goes on for about a second and
    says what was found so far, until `held` is there."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(ExpectationSerializer, request)


@answers(
    "endangered",
    *(OpenApiParameter(name, str) for name in ("link", "interface", "device", "site", "risk_group", "session")),
)
class EndangeredView(QuestionView):
    """What of all that is expected hangs on one thing, named as a change names it: what fails without it, goes round,
    leaves by another exit or takes another way, the worst first. One call for who hears of an event."""
