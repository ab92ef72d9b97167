"""The map's data, and completion."""

from pathlib import Path

from routrel.analysis.overview import Words, map_of, services
from routrel.formats.sources import read_path
from routrel.solving import solve
from tests.core.networks import load, plain

DEMO = solve(read_path(Path(__file__).parents[2] / "examples" / "saltmarsh"))

WORDS = Words(DEMO)


def found(typed: str) -> list[str]:
    return [word["word"] for word in plain(WORDS.matching(typed))]


def test_an_exact_name_comes_first_then_beginnings_then_the_rest():
    assert found("bookings")[0] == "bookings"
    assert found("book")[:3] == ["bookings", "booking-db", "booking-web"]
    assert "bw-fw" in found("fw")


def test_an_address_finds_its_owner_and_a_label_its_endpoint():
    assert found("10.40.51.140") == ["ot-tracking:e1"]
    assert found("payment service")[0] == "card-payments"
    assert found("to gullpoint") == ["bw-core1:e1", "nf-core:e1"]
    assert found("nothing like this") == []


def test_before_anything_is_typed_endpoints_and_devices_are_offered():
    offered = plain(WORDS.matching(""))
    assert {word["kind"] for word in offered} <= {"endpoint", "router", "firewall", "switch", "host", "gateway"}
    assert len(offered) == 12


def test_services_are_the_networks_own_and_a_few_that_every_network_has():
    offered = [word["word"] for word in plain(services(DEMO))]
    assert offered[:3] == ["shop", "booking", "names"]
    assert "icmp" in offered


def test_cables_that_are_down_and_segments_without_links_are_told():
    drawn = plain(
        map_of(
            load(
                "devices: {a: {interfaces: {e1: {enabled: false}, e2: {addresses: [10.0.0.1/24]}}}, b: {interfaces: {e1: {}}},"
                " c: {interfaces: {e1: {addresses: [10.0.0.2/24]}}}}\nlinks: [[a:e1, b:e1]]"
            )
        )
    )
    assert [(cable["link"], cable["up"]) for cable in drawn["cables"]] == [(0, False), (None, True)]
    assert [end["device"] for end in drawn["cables"][1]["ends"]] == ["a", "c"]


def test_every_site_and_device_of_the_demo_is_on_the_map():
    drawn = plain(map_of(DEMO))
    assert len(drawn["devices"]) == 41
    assert {device["site"] for device in drawn["devices"]} == {site["name"] for site in drawn["sites"]}
    assert all(site["x"] is not None for site in drawn["sites"])
    assert drawn["taken_at"] == "2026-11-20T06:00:00Z"
