"""Networks and their revisions: listed, uploaded, shared, downloaded."""

from collections.abc import Iterable
from typing import Any

import msgspec
from django.contrib.auth import get_user_model
from django.db import transaction
from django.db.models import Max, OuterRef, Q, QuerySet, Subquery
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema
from rest_framework import status
from rest_framework.exceptions import ValidationError
from rest_framework.pagination import PageNumberPagination
from rest_framework.parsers import FormParser, JSONParser, MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from asked.models import AskedFlow
from asked.records import ask_starred, asking_of
from history.example import add_example_history
from networks.access import membership_of, network_of, revision_of
from networks.deletion import KEPT, delete, remove_old, take_back
from networks.example import FILE_NAME, zipped_example
from networks.models import Membership, Network, Revision, Role
from networks.serializers import (
    DeletedNetworkSerializer,
    LoadErrorSerializer,
    MemberSerializer,
    NetworkPageSerializer,
    NetworkSerializer,
    NewNetworkSerializer,
    RevisionPageSerializer,
    RevisionSerializer,
    UploadSerializer,
)
from networks.uploads import Upload, check_quota, create, read_upload, store, upload_of
from questions.answer_schema import SHAPE_OF
from site_settings.problems import CONTENT_TYPE
from work.service import json_response

UPLOAD_PARSERS = [MultiPartParser, FormParser, JSONParser]
PAGE = OpenApiParameter("page", int, description="The page, from 1.")
BAD_LOAD = OpenApiResponse(LoadErrorSerializer, description="Every error of the load; nothing was stored.")


def _described(memberships: Iterable[Membership]) -> list[dict[str, Any]]:
    """Networks with their newest revisions, all of them asked for at once."""
    wanted = list(memberships)
    happened = Network.objects.filter(pk=OuterRef("network_id")).values("pk")
    last_event = happened.annotate(last=Max("event_files__last", filter=Q(event_files__count__gt=0))).values("last")
    newest = (
        Revision.objects.filter(network__in=[membership.network_id for membership in wanted])
        .order_by("network_id", "-number")
        .distinct("network_id")
        .defer("packed")
        .select_related("created_by")
        .annotate(events_until=Subquery(last_event))
    )
    latest = {revision.network_id: revision for revision in newest}
    asked = {
        (flow["network"], flow["user"]): flow["last"]
        for flow in AskedFlow.objects.filter(network__in=[membership.network_id for membership in wanted])
        .values("network", "user")
        .annotate(last=Max("asked_at"))
    }
    return [
        {
            "id": membership.network.id,
            "name": membership.network.name,
            "created_at": membership.network.created_at,
            "role": membership.role,
            "latest": latest.get(membership.network_id),
            "asked_at": asked.get((membership.network_id, membership.user_id)),
            "events_until": getattr(latest.get(membership.network_id), "events_until", None),
        }
        for membership in wanted
    ]


class NetworkListView(APIView):
    """The networks one is a member of."""

    parser_classes = UPLOAD_PARSERS

    @extend_schema(responses=NetworkPageSerializer, parameters=[PAGE], operation_id="networks_list")
    def get(self, request: Request) -> Response:
        memberships = (
            Membership.objects.filter(user=request.user, network__deleted_at=None)
            .select_related("network")
            .order_by("network__name", "id")
        )
        pages = PageNumberPagination()
        page = pages.paginate_queryset(memberships, request, view=self) or []
        return pages.get_paginated_response(NetworkSerializer(_described(page), many=True).data)

    @extend_schema(request=NewNetworkSerializer, responses={201: NetworkSerializer, (400, CONTENT_TYPE): BAD_LOAD})
    def post(self, request: Request) -> Response:
        serializer = NewNetworkSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        values = serializer.validated_data
        check_quota(request.user)
        upload = read_upload(values, request.user)
        return _created(request, upload, values.get("name", ""), values.get("note", ""))


def _created(request: Request, upload: Upload, name: str, note: str) -> Response:
    membership, _ = create(request.user, upload, name, note)
    return Response(NetworkSerializer(_described([membership])[0]).data, status=status.HTTP_201_CREATED)


class ExampleView(APIView):
    """A network of one's own to begin with: the one that ships with Routrel."""

    @extend_schema(request=None, responses={201: NetworkSerializer})
    def post(self, request: Request) -> Response:
        check_quota(request.user)
        upload = upload_of(FILE_NAME, zipped_example(), request.user)
        made = _created(request, upload, "", "the example as shipped")
        add_example_history(Network.objects.get(pk=made.data["id"]), request.user)
        return made


class DeletedListView(APIView):
    """The networks one owned that are deleted and can still be taken back, the last deleted first."""

    @extend_schema(responses=DeletedNetworkSerializer(many=True), operation_id="deleted_list")
    def get(self, request: Request) -> Response:
        remove_old()
        networks = _deleted_of(request).order_by("-deleted_at")
        rows = [
            {
                "id": network.id,
                "name": network.name,
                "deleted_at": network.deleted_at,
                "gone_at": network.deleted_at + KEPT if network.deleted_at else None,
            }
            for network in networks
        ]
        return Response(DeletedNetworkSerializer(rows, many=True).data)


class DeletedView(APIView):
    """A network that is deleted."""

    @extend_schema(request=None, responses=NetworkSerializer)
    def post(self, request: Request, network_id: str) -> Response:
        """Take it back."""
        network = get_object_or_404(_deleted_of(request), pk=network_id)
        take_back(network)
        return Response(NetworkSerializer(_described([membership_of(request, network_id)])[0]).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str) -> Response:
        """Delete it for good."""
        get_object_or_404(_deleted_of(request), pk=network_id).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)


def _deleted_of(request: Request) -> QuerySet[Network]:
    mine = Membership.objects.filter(user=request.user, role=Role.OWNER)
    return Network.objects.filter(memberships__in=mine).exclude(deleted_at=None)


class LoadCheckView(APIView):
    """Try a text or file without storing it: what it would become, or every error in it."""

    parser_classes = UPLOAD_PARSERS

    @extend_schema(
        request=UploadSerializer,
        responses={(200, "application/json"): SHAPE_OF["loaded"], (400, CONTENT_TYPE): BAD_LOAD},
    )
    def post(self, request: Request) -> HttpResponse:
        serializer = UploadSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        upload = read_upload(serializer.validated_data, request.user)
        return json_response(msgspec.json.encode(upload.loaded))


class NetworkView(APIView):
    """One network."""

    @extend_schema(responses=NetworkSerializer)
    def get(self, request: Request, network_id: str) -> Response:
        membership = membership_of(request, network_id)
        return Response(NetworkSerializer(_described([membership])[0]).data)

    @extend_schema(request=NetworkSerializer, responses=NetworkSerializer)
    def patch(self, request: Request, network_id: str) -> Response:
        membership = membership_of(request, network_id, Role.EDITOR)
        serializer = NetworkSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        membership.network.name = serializer.validated_data["name"]
        membership.network.save(update_fields=["name"])
        return Response(NetworkSerializer(_described([membership])[0]).data)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str) -> Response:
        """Out of sight at once; an owner can take it back for a while."""
        delete(network_of(request, network_id, Role.OWNER))
        return Response(status=status.HTTP_204_NO_CONTENT)


class MemberListView(APIView):
    """Who may do what with a network. A network keeps at least one owner."""

    @extend_schema(responses=MemberSerializer(many=True), operation_id="members_list")
    def get(self, request: Request, network_id: str) -> Response:
        network = network_of(request, network_id)
        members = network.memberships.select_related("user").order_by("user__username")
        return Response(MemberSerializer(members, many=True).data)

    @extend_schema(request=MemberSerializer, responses=MemberSerializer)
    def put(self, request: Request, network_id: str) -> Response:
        network = network_of(request, network_id, Role.OWNER)
        serializer = MemberSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        name = serializer.validated_data["user"]["username"]
        user = get_user_model().objects.filter(username=name).first()
        if user is None:
            raise ValidationError({"username": [f"There is no user {name!r}."]})
        role = serializer.validated_data["role"]
        with transaction.atomic():
            _keep_an_owner(network, user, role)
            membership, _ = Membership.objects.update_or_create(network=network, user=user, defaults={"role": role})
        return Response(MemberSerializer(membership).data)


class MemberView(APIView):
    """One member of a network."""

    @extend_schema(responses={204: None})
    def delete(self, request: Request, network_id: str, username: str) -> Response:
        # Anyone may leave; to take out another needs an owner.
        leaving = username == request.user.get_username()
        network = network_of(request, network_id, Role.READER if leaving else Role.OWNER)
        if not username.isprintable():
            raise Http404
        membership = get_object_or_404(network.memberships.select_related("user"), user__username=username)
        with transaction.atomic():
            _keep_an_owner(network, membership.user, None)
            membership.delete()
        return Response(status=status.HTTP_204_NO_CONTENT)


def _keep_an_owner(network: Network, user: Any, role: str | None) -> None:
    owners = network.memberships.select_for_update().filter(role=Role.OWNER)
    if role != Role.OWNER and [owner.user_id for owner in owners] == [user.pk]:
        raise ValidationError("A network needs an owner: name another one first.")


class RevisionListView(APIView):
    """The revisions of a network, newest first; a new one by upload."""

    parser_classes = UPLOAD_PARSERS

    @extend_schema(responses=RevisionPageSerializer, parameters=[PAGE], operation_id="revisions_list")
    def get(self, request: Request, network_id: str) -> Response:
        network = network_of(request, network_id)
        pages = PageNumberPagination()
        revisions = network.revisions.defer("packed").select_related("created_by")
        page = pages.paginate_queryset(revisions, request, view=self) or []
        return pages.get_paginated_response(RevisionSerializer(page, many=True).data)

    @extend_schema(request=UploadSerializer, responses={201: RevisionSerializer, (400, CONTENT_TYPE): BAD_LOAD})
    def post(self, request: Request, network_id: str) -> Response:
        network = network_of(request, network_id, Role.EDITOR)
        serializer = UploadSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        check_quota(request.user)
        upload = read_upload(serializer.validated_data, request.user)
        revision = store(network, upload, request.user, serializer.validated_data.get("note", ""))
        ask_starred(network, revision, asking_of(revision, request.user))
        return Response(RevisionSerializer(revision).data, status=status.HTTP_201_CREATED)


class RevisionView(APIView):
    """One revision."""

    @extend_schema(responses=RevisionSerializer)
    def get(self, request: Request, network_id: str, number: int | None) -> Response:
        return Response(RevisionSerializer(revision_of(request, network_id, number)).data)


class DownloadView(APIView):
    """The upload of a revision, byte for byte."""

    @extend_schema(responses={(200, "application/octet-stream"): OpenApiTypes.BINARY})
    def get(self, request: Request, network_id: str, number: int | None) -> HttpResponse:
        revision: Revision = revision_of(request, network_id, number)
        return HttpResponse(
            revision.original(),
            content_type="application/octet-stream",
            headers={
                "Content-Disposition": f'attachment; filename="{revision.file_name}"',
                "X-Content-Type-Options": "nosniff",
            },
        )
