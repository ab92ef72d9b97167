"""Trials of a network: listed, kept, changed, undone, and made into new revisions."""

import io
import zipfile
from typing import Any

import msgspec
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.exceptions import PermissionDenied
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from asked.records import ask_starred, asking_of
from networks.access import membership_of, network_of, revision_of, subject_of
from networks.models import Revision, Role
from networks.serializers import RevisionSerializer
from networks.uploads import check_quota, store, upload_of
from routrel.formats.archives import is_zip
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import files_of_upload
from trials.models import Trial
from trials.records import change, changes_text, create
from trials.serializers import (
    NewTrialSerializer,
    TrialChangeSerializer,
    TrialRevisionSerializer,
    TrialSerializer,
)
from work.answering import SourceText
from work.service import ask


def _valid(serializer: Any) -> dict[str, Any]:
    serializer.is_valid(raise_exception=True)
    values: dict[str, Any] = serializer.validated_data
    return values


class TrialListView(APIView):
    """The trials of a network, the last changed first; every member may try."""

    @extend_schema(responses=TrialSerializer(many=True), operation_id="trials_list")
    def get(self, request: Request, network_id: str) -> Response:
        trials = network_of(request, network_id).trials.select_related("created_by")
        return Response(TrialSerializer(trials, many=True).data)

    @extend_schema(request=NewTrialSerializer, responses={201: TrialSerializer})
    def post(self, request: Request, network_id: str) -> Response:
        """Keep a new one."""
        network_of(request, network_id)
        values = _valid(NewTrialSerializer(data=request.data))
        revision = revision_of(request, network_id, values["revision"])
        values["changes"] = _written_out(revision, values.get("changes", []), request.user)
        trial = create(revision.network, request.user, revision.number, values)
        return Response(TrialSerializer(trial).data, status=status.HTTP_201_CREATED)


class TrialView(APIView):
    """One trial."""

    @extend_schema(responses=TrialSerializer)
    def get(self, request: Request, network_id: str, trial: int) -> Response:
        return Response(TrialSerializer(_trial_of(request, network_id, trial)).data)

    @extend_schema(request=TrialChangeSerializer, responses=TrialSerializer)
    def patch(self, request: Request, network_id: str, trial: int) -> Response:
        """Change it, or undo or redo what was done in it."""
        found = _trial_of(request, network_id, trial)
        values = _valid(TrialChangeSerializer(data=request.data))
        added = [*values.get("add", [])]
        if "line" in values:
            added.append(read_change(values["line"], "what was typed").data())
        if added:
            values["changes"] = [*values.get("changes", found.changes), *added]
        if "changes" in values and "revision" in values:
            revision = revision_of(request, network_id, values["revision"])
            values["changes"] = _written_out(revision, values["changes"], request.user)
        return Response(TrialSerializer(change(found.network, trial, values)).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str, trial: int) -> Response:
        """Delete it: one's own, or any where one may edit."""
        found = _trial_of(request, network_id, trial)
        if found.created_by != request.user and membership_of(request, network_id).role == Role.READER:
            raise PermissionDenied("Readers delete only their own trials.")
        found.delete()
        return Response(status=status.HTTP_204_NO_CONTENT)


class TrialRevisionView(APIView):
    """A trial made into a new revision."""

    @extend_schema(request=TrialRevisionSerializer, responses={201: RevisionSerializer})
    def post(self, request: Request, network_id: str, trial: int) -> Response:
        network = network_of(request, network_id, Role.EDITOR)
        values = _valid(TrialRevisionSerializer(data=request.data))
        found = _trial_of(request, network_id, trial)
        check_quota(request.user)
        base = revision_of(request, network_id, values["revision"])
        text = ask(subject_of(base), "changed-files", {}, request.user, None, changes_text(found.changes))
        data = _with_changed(base, msgspec.json.decode(text, type=list[SourceText]))
        name = base.file_name
        if is_zip(data) and not is_zip(base.original()):
            name = f"{name.rpartition('.')[0] or name}.zip"  # a device known by a document got a file of its own
        upload = upload_of(name, data, request.user)
        note = values.get("note") or f"trial {found.number}{f', {found.name}' if found.name else ''}"
        revision = store(network, upload, request.user, note[:500])
        ask_starred(network, revision, asking_of(revision, request.user))
        return Response(RevisionSerializer(revision).data, status=status.HTTP_201_CREATED)


def _written_out(revision: Revision, changes: list[dict[str, Any]], user: Any) -> list[dict[str, Any]]:
    """Changes with the entries that they mean, so that they mean the same in another revision."""
    text = ask(subject_of(revision), "tried", {}, user, None, changes_text(changes)) if changes else b'{"changes": []}'
    return [one.change for one in msgspec.json.decode(text, type=_Tried).changes]


class _Change(msgspec.Struct):
    change: dict[str, Any]


class _Tried(msgspec.Struct):
    changes: list[_Change]


def _trial_of(request: Request, network_id: str, number: int) -> Trial:
    trials = Trial.objects.select_related("created_by")
    found: Trial = get_object_or_404(trials, network=network_of(request, network_id), number=number)
    return found


def _with_changed(base: Revision, changed: list[SourceText]) -> bytes:
    """The upload of a revision with files changed in it, or come to it."""
    original = base.original()
    files = files_of_upload(base.file_name, original) | {one.file: one.text.encode() for one in changed}
    if not is_zip(original) and len(files) == 1:
        return files[base.file_name]
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(files):
            archive.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), files[name], zipfile.ZIP_DEFLATED)
    return buffer.getvalue()
