"""What is collected into a network: its inventories with their last rounds, and one more round now."""

from typing import Any

import msgspec
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.views import APIView

from collecting.answers import InventoryAbout, RoundAbout
from collecting.models import Round
from collecting.tasks import ask
from networks.access import network_of
from networks.models import Network, Role
from questions.answer_schema import shape_of
from work.service import json_response

SHOWN = 10
"""Rounds of an inventory."""


class RoundNowSerializer(serializers.Serializer[Any]):
    inventory = serializers.CharField(help_text="An inventory that was collected into this network before.")


class CollectingView(APIView):
    """The inventories that are collected into a network, with their last rounds."""

    @extend_schema(responses={(200, "application/json"): shape_of(list[InventoryAbout])}, operation_id="collecting")
    def get(self, request: Request, network_id: str) -> HttpResponse:
        return _answer(network_of(request, network_id))

    @extend_schema(
        request=RoundNowSerializer,
        responses={(200, "application/json"): shape_of(list[InventoryAbout])},
        operation_id="collect_now",
    )
    def post(self, request: Request, network_id: str) -> HttpResponse:
        """Ask the devices of an inventory now."""
        network = network_of(request, network_id, Role.EDITOR)
        serializer = RoundNowSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        inventory = serializer.validated_data["inventory"]
        if not network.rounds.filter(inventory=inventory).exists():
            raise NotFound("No inventory of this name is collected into this network.")
        ask(inventory)
        return _answer(network)


def _answer(network: Network) -> HttpResponse:
    found = []
    for name in network.rounds.order_by("inventory").values_list("inventory", flat=True).distinct():
        rounds = network.rounds.filter(inventory=name).select_related("revision").defer("revision__packed")[:SHOWN]
        last = list(rounds)
        found.append(InventoryAbout(inventory=name, every=last[0].every, rounds=_about(last)))
    response = json_response(msgspec.json.encode(found))
    response["Cache-Control"] = "no-store"
    return response


def _about(rounds: list[Round]) -> list[RoundAbout]:
    return [
        RoundAbout(
            began_at=one.began_at,
            ended_at=one.ended_at,
            answered=one.answered,
            failed=one.failed,
            unknown=one.unknown,
            problem=one.problem,
            revision=None if one.revision is None else one.revision.number,
        )
        for one in rounds
    ]
