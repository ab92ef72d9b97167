"""Questions about the text behind a revision: its source files, what stands in them, and what is written of it anew."""

import io
import zipfile
from http import HTTPStatus
from typing import Any

import msgspec
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers
from rest_framework.request import Request

from networks.access import revision_of
from networks.models import Revision
from questions.answer_schema import answers
from questions.views import DEVICE, QuestionView, words_said
from routrel.formats.mrt.dumped_tables import split_dumps
from routrel.formats.sources import files_of_upload
from work.answering import SourceText

MOST_COLUMNS = 2**31 - 1
WRITTEN_AT = (2026, 1, 1, 0, 0, 0)
"""The time of files in an archive: the same files make the same archive."""
FILE = OpenApiParameter("file", str, required=True)


@answers("difference")
class DifferenceView(QuestionView):
    """What a trial makes of the files: a unified difference, and the one that takes it back."""


@answers("models", OpenApiParameter("as", str, enum=["zip"]))
class ModelsView(QuestionView):
    """The revision, or a trial of it, as documents of its devices in the IETF's models, with its topology.

    Refused with the devices that are known by captures. With ``as=zip`` the answer is an archive of them.
    """

    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        found = super().get(request, network_id, number)
        if request.query_params.get("as") != "zip" or found.status_code != HTTPStatus.OK:
            return found
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            for one in msgspec.json.decode(found.content, type=list[SourceText]):
                archive.writestr(zipfile.ZipInfo(one.file, WRITTEN_AT), one.text, zipfile.ZIP_DEFLATED)
            for name, dump in _dumps_of(revision_of(request, network_id, number)).items():
                archive.writestr(zipfile.ZipInfo(name, WRITTEN_AT), dump, zipfile.ZIP_DEFLATED)
        answer = HttpResponse(packed.getvalue(), content_type="application/zip")
        answer["Content-Disposition"] = 'attachment; filename="models.zip"'
        return answer


def _dumps_of(revision: Revision) -> dict[str, bytes]:
    """The dumps of BGP tables that stand beside a revision's devices."""
    return split_dumps(files_of_upload(revision.file_name, revision.original()))[1]


@answers("patches")
class PatchesView(QuestionView):
    """What a trial changes on each device, as devices take it: a YANG patch and an edit-config, and their reverses."""


@answers("device-text", DEVICE)
class DeviceTextView(QuestionView):
    """A device's own text, as it is edited."""


@answers("sources")
class SourceListView(QuestionView):
    """The source files of a revision."""


class SpanSerializer(serializers.Serializer[Any]):
    """A part of a line of a file, from a column up to another; all of the line where no columns are given."""

    file = serializers.CharField()
    line = serializers.IntegerField(min_value=1)
    column = serializers.IntegerField(min_value=1, default=1)
    end = serializers.IntegerField(min_value=1, default=MOST_COLUMNS)


@answers("statements", SpanSerializer)
class StatementsView(QuestionView):
    """What stands in a line of the source text and what it does; where nothing begins there, what began last."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(SpanSerializer, request)


@answers("outline", FILE)
class OutlineView(QuestionView):
    """The devices that a source file states, and where each begins."""


class SourceSerializer(serializers.Serializer[Any]):
    """A source file, and of a dump the record that is looked at."""

    file = serializers.CharField(allow_blank=True)
    line = serializers.IntegerField(min_value=1, default=1)


@answers("source", SourceSerializer)
class SourceTextView(QuestionView):
    """The text of one source file; of a dump its records around one, as lines."""

    def parameters(self, request: Request) -> dict[str, Any]:
        return words_said(SourceSerializer, request)
