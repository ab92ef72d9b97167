"""What is kept of a network beside its revisions: its deletion for a while, what was seen of it, what was moved on its map."""

from datetime import timedelta

import pytest
from django.core.management import CommandError, call_command
from django.utils import timezone

from networks.deletion import KEPT
from networks.models import MovedDevice, Network, Revision


def names(client) -> list[str]:
    return [one["name"] for one in client.get("/api/networks").json()["results"]]


def test_a_deleted_network_is_out_of_sight_and_can_be_taken_back(network, owner, join):
    reader = join("rita", "reader")
    address = f"/api/networks/{network['id']}"
    deleted = f"/api/deleted-networks/{network['id']}"
    assert owner.post(deleted).status_code == 404
    assert owner.delete(address).status_code == 204
    for client in (owner, reader):
        assert names(client) == []
        assert client.get(address).status_code == 404
        assert client.get(f"{address}/revisions/1/walk?from=h1&to=h2").status_code == 404
    (kept,) = owner.get("/api/deleted-networks").json()
    assert kept["name"] == "two hosts"
    assert kept["gone_at"] > kept["deleted_at"]
    assert reader.get("/api/deleted-networks").json() == []
    assert reader.post(deleted).status_code == 404

    assert owner.post(deleted).json()["latest"]["number"] == 1
    assert names(owner) == names(reader) == ["two hosts"]
    assert owner.get(f"{address}/revisions/1/walk?from=h1&to=h2").status_code == 200


def test_a_deleted_network_goes_for_good_when_asked_or_after_a_while(network, owner):
    owner.delete(f"/api/networks/{network['id']}")
    assert owner.delete(f"/api/deleted-networks/{network['id']}").status_code == 204
    assert not Network.objects.exists()
    other = owner.post("/api/networks/example").json()
    owner.delete(f"/api/networks/{other['id']}")
    assert len(owner.get("/api/deleted-networks").json()) == 1
    Network.objects.update(deleted_at=timezone.now() - KEPT - timedelta(minutes=1))
    assert owner.get("/api/deleted-networks").json() == []
    assert not Revision.objects.exists()


def test_a_user_whose_networks_are_all_deleted_can_be_taken_out(network, owner, capsys):
    with pytest.raises(CommandError, match="only owner of two hosts"):
        call_command("remove_user", "olive")
    owner.delete(f"/api/networks/{network['id']}")
    call_command("remove_user", "olive")
    assert "removed olive" in capsys.readouterr().out


def test_the_example_is_a_network_of_ones_own(client_of):
    client = client_of("new")
    made = client.post("/api/networks/example")
    assert made.status_code == 201
    assert (made.json()["name"], made.json()["role"]) == ("Saltmarsh Ferries", "owner")


def test_the_list_says_when_one_last_asked_and_how_many_errors_were_found(client_of, network, owner):
    (before,) = owner.get("/api/networks").json()["results"]
    assert (before["asked_at"], before["latest"]["error_count"]) == (None, None)
    owner.get(f"/api/networks/{network['id']}/revisions/1/walk?from=h1&to=h2&service=icmp")
    found = owner.get(f"/api/networks/{network['id']}/revisions/1/findings").json()
    (after,) = owner.get("/api/networks").json()["results"]
    assert after["asked_at"] is not None
    assert after["latest"]["error_count"] == sum(one["severity"] == "error" for one in found)


def test_errors_of_the_model_are_counted(client_of):
    client = client_of("new")
    made = client.post("/api/networks/example").json()
    address = f"/api/networks/{made['id']}"
    found = client.get(f"{address}/revisions/1/findings").json()
    counted = client.get(address).json()["latest"]["error_count"]
    assert counted == sum(one["severity"] == "error" for one in found) > 0


def test_what_is_moved_on_the_map_is_kept_for_all_members(network, owner, join):
    editor, reader = join("ed", "editor"), join("rita", "reader")
    moves = f"/api/networks/{network['id']}/map-moves"
    assert reader.get(moves).json() == []
    assert editor.put(moves, {"device": "r", "right": 12.5, "down": -3}).status_code == 200
    assert owner.put(moves, {"device": "r", "right": 20, "down": 1}).status_code == 200
    assert reader.get(moves).json() == [{"device": "r", "right": 20.0, "down": 1.0}]
    assert editor.delete(moves).status_code == 204
    assert reader.get(moves).json() == []


@pytest.mark.parametrize(
    ("right", "why"),
    [("nan", "valid"), ("1e9", "less than"), ("far", "valid"), (None, "required")],
)
def test_a_move_to_nowhere_is_refused(network, owner, right, why):
    body = {"device": "r", "down": 1} | ({} if right is None else {"right": right})
    answer = owner.put(f"/api/networks/{network['id']}/map-moves", body)
    assert answer.status_code == 400
    assert why in answer.content.decode()
    assert not MovedDevice.objects.exists()
