"""The demo network: as large and as faulty as its tour says."""

from pathlib import Path

import pytest

from routrel.analysis.check import check
from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from routrel.analysis.evidence import Evidence
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.sources import read_path
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.networks import plain

EXAMPLE = Path(__file__).parents[2] / "examples" / "saltmarsh"


@pytest.fixture(scope="module")
def answerer():
    return Answerer(solve(read_path(EXAMPLE)))


def ask(answerer, *flow: str) -> dict:
    return plain(Evidence(answerer).walk(answerer.asker.ask(Flow(*flow))))


def test_it_has_all_kinds_over_all_sites(answerer):
    network = answerer.solved.network
    assert len(network.devices) >= 25
    assert {device.kind for device in network.devices.values()} == {"router", "switch", "firewall", "host", "gateway"}
    assert len({device.site for device in network.devices.values()}) == 7


def test_an_entry_has_the_wrong_protocol(answerer):
    found = ask(answerer, "ot-tracking", "bookings", "tracking")["forward"]
    assert found["verdict"] == "blocked"
    assert found["path_count"] == 2
    assert all(cause["near_misses"][0]["field"] == "protocol" for cause in found["causes"])


def test_a_return_route_is_missing(answerer):
    found = ask(answerer, "tq-office", "resolver", "names")
    assert (found["forward"]["verdict"], found["return"]["verdict"]) == ("arrives", "unrouted")
    assert found["return"]["causes"][0]["device"] == "lantern"
    assert found["return"]["causes"][0]["remedy"]["text"] == "- {prefix: 10.40.129.0/24, next_hop: 203.0.113.1}"


def test_the_radio_link_takes_smaller_packets(answerer):
    assert ask(answerer, "nf-camera", "control-room", "pictures")["forward"]["mtu"]["largest_packet"] == 1400


def test_there_and_back_go_different_ways(answerer):
    found = ask(answerer, "gp-gates", "bookings", "booking")
    assert found["forward"]["paths"][0] != found["return"]["paths"][0][::-1]


def test_a_discard_route_wins_by_longer_match(answerer):
    found = ask(answerer, "control-room", "ot-tracking")["forward"]
    assert found["verdict"] == "discarded"
    assert "10.40.51.128/25" in found["causes"][0]["message"]


def test_a_router_on_the_way_lacks_the_default(answerer):
    found = ask(answerer, "gp-kiosk", "card-payments", "cards")["forward"]
    assert (found["verdict"], found["causes"][0]["device"]) == ("unrouted", "nf-radio")


def test_both_families_get_out(answerer):
    assert ask(answerer, "gp-gates", "resolver-v6", "names")["return"]["verdict"] == "arrives"


def test_a_customer_from_outside_reaches_the_shop(answerer):
    found = ask(answerer, "203.0.113.99", "ticket-shop", "shop")
    assert (found["forward"]["verdict"], found["return"]["verdict"]) == ("arrives", "leaves")


def test_the_model_has_the_problems_the_tour_names(answerer):
    codes = {finding.code for finding in check(answerer.solved)}
    assert codes == {
        "ospf-neighbours",
        "mtu-mismatch",
        "shadowed",
        "unattached",
        "redistribution-order",
        "drift",
        "bgp-session",
    }


def why(answerer, device: str, prefix: str, vrf: str = "default") -> dict:
    instance = answerer.solved.topology.instance_index[device, vrf]
    return plain(WhyAnswerer(answerer.solved).why(instance, parse_prefix(prefix), with_tipping=False))


def test_the_longer_way_to_the_winches_is_believed(answerer):
    answer = why(answerer, "ot-core", "10.40.201.0/24")
    assert [(c["protocol"], c["state"], c["margin"]) for c in answer["candidates"]] == [
        ("ospf", "winner", None),
        ("rip", "lost", "by 10"),
    ]


def test_season_tickets_have_a_network_of_their_own(answerer):
    assert ask(answerer, "tq-readers", "clearing")["return"]["verdict"] == "arrives"
    assert ask(answerer, "tq-office", "clearing")["forward"]["verdict"] != "arrives"
    assert why(answerer, "tq-core", "10.50.0.0/24", "ticketing")["winner"]["protocol"] == "ospf"


def test_the_carriers_depot_follows_what_is_leaked_and_the_attached_bit(answerer):
    table = {
        str(route.prefix): route.origin
        for route in answerer.solved.table(answerer.solved.topology.device_index["lantern-depot"])
    }
    assert table["203.0.113.64/26"] == "leaked"
    assert table["0.0.0.0/0"] == "attached default"


def test_ninefold_has_ipv6_by_ospf_version_3(answerer):
    assert ask(answerer, "nf-gates", "resolver-v6", "names")["return"]["verdict"] == "arrives"
    assert why(answerer, "nf-core", "::/0")["winner"]["kind"] == "external type 1"


@pytest.mark.parametrize(
    ("prefix", "round_lost", "exit"),
    [
        ("172.20.5.0/24", "local preference", "lantern"),
        ("172.22.5.0/24", "AS path length", "bellbuoy"),
        ("172.21.5.0/24", "MED", "tq-border"),
        ("172.22.40.0/24", "router id", "bellbuoy"),
    ],
)
def test_the_borders_choices_are_decided_at_different_rounds(answerer, prefix, round_lost, exit):
    answer = why(answerer, "bw-border", prefix)
    lost = next(one for one in answer["candidates"] if one["state"] == "lost")
    decided = answer["rounds"][lost["lost_in"]]
    assert decided["name"] == round_lost
    assert decided["chosen"] == (round_lost != "router id")
    assert answer["winner"]["next_hops"][0]["device"] == exit


def test_a_policy_written_for_one_service_drops_all_else(answerer):
    answer = why(answerer, "tq-border", "172.22.40.0/24")
    (dropped,) = [one for one in answer["candidates"] if one["out"]]
    assert "weather-by-south rejects it: no statement decides" in dropped["out"]


def test_the_carriers_announce_some_hundred_prefixes(answerer):
    table = answerer.solved.table(answerer.solved.topology.device_index["bw-border"])
    assert sum(route.protocol == "bgp" for route in table) == 180
