"""OSPF and IS-IS as the standards and two real daemons have it."""

from tests.faults.faults import ask, findings, gateways, routes, solved, why


def test_rfc_2328_9_version_2_has_a_neighbor_in_every_subnet_of_a_cable():
    network = solved("two-subnets-on-a-cable")
    for prefix in ("10.255.0.2/32", "10.0.0.4/30", "10.8.0.0/24"):
        assert gateways(routes(network, "a")[prefix]) == ["10.0.0.2", "10.9.0.2"]
    assert gateways(routes(network, "b")["10.255.0.1/32"]) == ["10.0.0.1", "10.9.0.1"]
    answer = why(network, "a", "10.8.0.0/24")
    assert [hop["address"] for hop in answer["winner"]["next_hops"]] == ["10.0.0.2", "10.9.0.2"]


def test_rfc_2328_13_3_external_lsas_do_not_pass_a_stub_area():
    network = solved("border-cut-off-from-the-backbone")
    assert "10.81.0.0/16" not in routes(network, "u")
    answer = why(network, "u", "10.81.0.0/16")
    assert not answer["candidates"]
    assert "only stub areas and NSSAs join the two" in answer["trails"][0][-1]["message"]


def test_rfc_2328_13_3_external_lsas_pass_a_normal_area():
    network = solved("border-cut-off-from-the-backbone", ("1: {type: stub, ", "1: {"))
    assert routes(network, "u")["10.81.0.0/16"]["kind"] == "external type 2"


def test_rfc_3101_3_1_only_borders_reached_over_the_backbone_stand_for_election():
    network = solved("nssa-translation-with-isolated-border")
    assert "10.93.0.0/16" not in routes(network, "r")
    assert gateways(routes(network, "r")["10.92.0.0/16"]) == ["10.0.0.2"]


def test_rfc_2328_c_1_router_ids_given_twice_are_found_and_stand_on_every_answer():
    network = solved("ospf-router-id-twice")
    (finding,) = findings(network, "duplicate-identifier")
    assert "a, c have the same OSPF router id 9.9.9.9" in finding.message and len(set(finding.places)) == 2
    assert any("9.9.9.9" in note for note in why(network, "b", "10.255.0.1/32")["notes"])
    assert "9.9.9.9" in ask(network, "b", "c")["forward"]["doubts"][0]


def test_rfc_2328_c_1_router_ids_of_systems_apart_may_be_equal():
    network = solved(
        "ospf-router-id-twice", ("e: {addresses: [10.0.1.2/30]}}", "e: {enabled: false, addresses: [10.0.1.2/30]}}")
    )
    assert not findings(network, "duplicate-identifier")
    assert not ask(network, "b", "a")["forward"]["doubts"]


def test_iso_10589_7_1_1_system_ids_given_twice_are_found_and_stand_on_every_answer():
    network = solved("isis-system-id-twice")
    (finding,) = findings(network, "duplicate-identifier")
    assert "a, c have the same IS-IS system id" in finding.message and len(set(finding.places)) == 2
    assert ask(network, "a", "c")["forward"]["doubts"]


def test_rfc_3509_a_router_in_two_areas_without_the_backbone_is_a_warning():
    network = solved("areas-without-backbone")
    (finding,) = findings(network, "ospf-no-backbone")
    assert finding.severity == "warning" and "RFC 3509" in finding.message and len(finding.places) == 2
    answer = why(network, "a", "10.255.0.3/32")
    assert "RFC 3509" in str(answer["candidates"][0]["attributes"])
