"""Large uploads: sent to be read by a worker, looked at, given up."""

from typing import Any

import msgspec
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.views import APIView

from networks.access import network_of
from networks.models import Role
from networks.serializers import NewNetworkSerializer
from networks.uploads import bytes_of_upload
from networks.views import UPLOAD_PARSERS
from questions.answer_schema import shape_of
from uploading.answers import UploadAnswer
from uploading.records import about, begin, uploads_of
from work.service import json_response

UPLOAD = shape_of(UploadAnswer)
SHOWN = 50


class NewUploadSerializer(NewNetworkSerializer):
    network = serializers.UUIDField(
        required=False, help_text="The network that it is a revision of; else it becomes one of its own."
    )


class UploadListView(APIView):
    """One's own uploads of the last day that workers read, the last first."""

    parser_classes = UPLOAD_PARSERS

    @extend_schema(responses={(200, "application/json"): shape_of(list[UploadAnswer])}, operation_id="uploads_list")
    def get(self, request: Request) -> HttpResponse:
        return _answer(about(list(uploads_of(request.user)[:SHOWN])))

    @extend_schema(request=NewUploadSerializer, responses={(202, "application/json"): UPLOAD})
    def post(self, request: Request) -> HttpResponse:
        """Send what a worker reads, solves and stores; how far that is, is asked of it."""
        serializer = NewUploadSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        values = serializer.validated_data
        into = values.get("network")
        network = None if into is None else network_of(request, into, Role.EDITOR)
        sent = bytes_of_upload(values, "network.yaml")
        upload = begin(request.user, network, *sent, values.get("name", ""), values.get("note", ""))
        return _answer(about([upload])[0], 202)


class UploadView(APIView):
    """One of one's own uploads."""

    @extend_schema(responses={(200, "application/json"): UPLOAD})
    def get(self, request: Request, upload: str) -> HttpResponse:
        return _answer(about([get_object_or_404(uploads_of(request.user), pk=upload)])[0])

    @extend_schema(responses={204: None})
    def delete(self, request: Request, upload: str) -> HttpResponse:
        """Give it up, unless it was stored; forget what became of it."""
        get_object_or_404(uploads_of(request.user), pk=upload).delete()
        return HttpResponse(status=204)


def _answer(of: Any, status: int = 200) -> HttpResponse:
    response = json_response(msgspec.json.encode(of))
    response.status_code = status
    response["Cache-Control"] = "no-store"
    return response
