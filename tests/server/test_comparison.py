"""What differs between two revisions, over the API."""

import pytest

from tests.server.conftest import TEXT
from tests.server.test_schema import BASE, complaints


@pytest.fixture
def revisions(network, owner) -> str:
    """The address of the network's revisions: in the second, r has lost its route to h2."""
    base = f"/api/networks/{network['id']}"
    changed = TEXT.replace("10.0.2.", "10.0.9.")
    assert changed != TEXT
    assert owner.post(f"{base}/revisions", {"text": changed}, format="multipart").status_code == 201
    return f"{base}/revisions"


def test_two_revisions_are_held_against_each_other(owner, revisions):
    answer = owner.get(f"{revisions}/2/comparison?since=1")
    assert complaints(answer, BASE + "comparison") == []
    found = answer.json()
    changed = {(one["what"], one["kind"], one["name"]) for one in found["model"]}
    assert ("changed", "interface", "h2:e1") in changed
    prefixes = {(one["device"], one["prefix"]) for one in found["routes"]}
    assert {("r", "10.0.2.0/24"), ("r", "10.0.9.0/24")} <= prefixes
    assert found["routes_changed"] == len(found["routes"])
    back = owner.get(f"{revisions}/1/comparison?since=2").json()
    assert {(one["device"], one["prefix"]) for one in back["routes"]} == prefixes
    same = owner.get(f"{revisions}/2/comparison?since=2").json()
    assert same == {"model": [], "routes_changed": 0, "routes": [], "flows": []}


def test_ones_starred_flows_are_asked_of_both(owner, revisions, network):
    assert owner.get(f"{revisions}/1/walk?from=h1&to=10.0.2.10&service=icmp").status_code == 200
    assert owner.get(f"{revisions}/2/comparison?since=1").json()["flows"] == []
    (asked,) = owner.get(f"/api/networks/{network['id']}/asked").json()
    owner.put(f"/api/networks/{network['id']}/asked/{asked['id']}", {"starred": True})
    (flow,) = owner.get(f"{revisions}/2/comparison?since=1").json()["flows"]
    assert flow["flow"]["to"] == "10.0.2.10"
    assert flow["before"] == "arrives, answer arrives"
    assert flow["changed"] and not flow["after"].startswith("arrives")


def test_what_cannot_be_compared_is_said(owner, revisions):
    assert owner.get(f"{revisions}/2/comparison").status_code == 400
    assert owner.get(f"{revisions}/2/comparison?since=none").status_code == 400
    missing = owner.get(f"{revisions}/2/comparison?since=7")
    assert (missing.status_code, missing.json()["detail"]) == (404, "There is no revision 7.")
    assert owner.get(f"{revisions}/2/comparison?since={10**30}").status_code == 404
    unknown = owner.get(f"{revisions}/2/comparison?since=1&sinse=1")
    assert unknown.status_code == 400 and "sinse" in unknown.json()["detail"]


def test_a_comparison_is_sent_once(owner, revisions):
    first = owner.get(f"{revisions}/2/comparison?since=1")
    again = owner.get(f"{revisions}/2/comparison?since=1", HTTP_IF_NONE_MATCH=first["ETag"])
    assert again.status_code == 304
    other = owner.get(f"{revisions}/2/comparison?since=2", HTTP_IF_NONE_MATCH=first["ETag"])
    assert other.status_code == 200
