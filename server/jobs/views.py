"""Jobs of a network: begun, looked at, cancelled; what became of expectations over its revisions."""

from typing import Any

import msgspec
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.views import APIView

from jobs.answers import ExpectationHistory, JobAbout, JobAnswer
from jobs.models import Job, JobQuestion
from jobs.records import begin, cancel, described, history, listed
from networks.access import network_of, revision_of
from questions.answer_schema import shape_of
from trials.records import trial_changes
from work.failures_asked import FailuresAsked, FailuresAskedError
from work.service import json_response

JOB = shape_of(JobAnswer)


class NewJobSerializer(serializers.Serializer[Any]):
    """What to look at in a revision under failures, or what a trial changes of all its traffic."""

    revision = serializers.IntegerField(min_value=1)
    question = serializers.ChoiceField(
        JobQuestion.choices,
        default=JobQuestion.FAILURES,
        help_text="`failures`, or all `traffic` with a trial against that without it.",
    )
    failures = serializers.CharField(
        default="survived",
        help_text="`survived`: those that expectations name; or kinds with commas between, all of which are tried: "
        "links, interfaces, devices, sites, risk_groups, sessions.",
    )
    two_at_once = serializers.BooleanField(
        default=False, help_text="Each two of the failures at once: what neither of them does alone."
    )
    against = serializers.ChoiceField(
        ["expectations", "places"],
        default="expectations",
        help_text="What is expected, or all traffic between two places.",
    )
    trial = serializers.IntegerField(min_value=1, required=False, help_text="A trial whose changes are made first.")

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if attrs["question"] == JobQuestion.TRAFFIC:
            if "trial" not in attrs:
                raise serializers.ValidationError({"trial": ["All traffic is held with a trial: name one."]})
            return {**attrs, "failures": ""}
        try:
            asked = FailuresAsked.of(attrs["failures"], attrs["two_at_once"], attrs["against"] == "places")
        except FailuresAskedError as error:
            raise serializers.ValidationError({"failures": [str(error)]}) from None
        return {**attrs, "failures": asked.text}


class JobListView(APIView):
    """Jobs of a network, the last first."""

    @extend_schema(responses={(200, "application/json"): shape_of(list[JobAbout])}, operation_id="jobs_list")
    def get(self, request: Request, network_id: str) -> HttpResponse:
        return _answer(listed(network_of(request, network_id)))

    @extend_schema(request=NewJobSerializer, responses={(200, "application/json"): JOB})
    def post(self, request: Request, network_id: str) -> HttpResponse:
        """Look at failures one after the other, with results as they come. What was asked before is not done again."""
        network_of(request, network_id)
        serializer = NewJobSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        asked = serializer.validated_data
        revision = revision_of(request, network_id, asked["revision"])
        trial = asked.get("trial")
        changes = "" if trial is None else trial_changes(revision, trial)
        return _answer(described(begin(revision, request.user, asked["failures"], changes, trial, asked["question"])))


class JobView(APIView):
    """How far a job is, and what it found so far."""

    @extend_schema(responses={(200, "application/json"): JOB})
    def get(self, request: Request, network_id: str, job: str) -> HttpResponse:
        return _answer(described(_job_of(request, network_id, job)))


class JobCancelView(APIView):
    """Give a job up."""

    @extend_schema(request=None, responses={(200, "application/json"): JOB})
    def post(self, request: Request, network_id: str, job: str) -> HttpResponse:
        found = _job_of(request, network_id, job)
        cancel(found)
        return _answer(described(found))


class ExpectationHistoryView(APIView):
    """Each expectation over the revisions of a network: since when it fails."""

    @extend_schema(
        responses={(200, "application/json"): shape_of(list[ExpectationHistory])}, operation_id="expectation_history"
    )
    def get(self, request: Request, network_id: str) -> HttpResponse:
        return _answer(history(network_of(request, network_id)))


def _job_of(request: Request, network_id: str, job: str) -> Job:
    jobs = Job.objects.select_related("revision", "created_by").defer("revision__packed")
    found: Job = get_object_or_404(jobs, network=network_of(request, network_id), pk=job)
    return found


def _answer(of: Any) -> HttpResponse:
    response = json_response(msgspec.json.encode(of))
    response["Cache-Control"] = "no-store"
    return response
