"""BGP networks whose outcome hangs on who starts first, though no failure of a session leads from one to the other."""

from hypothesis import HealthCheck, given, settings

from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, accept, chain_inside, two_exits, via
from tests.core.networks import solution_of
from tests.core.speaker_networks import speakers
from tests.core.test_stages import read
from tests.examples import examples


def each_prefers_the_others() -> Net:
    """``far`` and ``near`` both say a network; ``mid`` prefers what ``near`` says, who prefers what ``mid`` says."""
    net = Net()
    for name, number in (("far", 64500), ("mid", 64501), ("near", 64503)):
        net.speaker(name, number, announce_unused=True)
    net.origin("far", NET)
    net.origin("near", NET)
    net.session("far", "mid")
    net.session("far", "near")
    prefers = net.policy("near", "in", accept(local_preference=150))
    net.session("mid", "near", {"weight": 10}, {"import": prefers})
    return net


def test_a_state_that_another_order_of_starts_leads_to_is_said():
    solved = each_prefers_the_others().solve()
    assert via(solved, "mid") == ["c3"]
    (finding,) = solution_of(solved, "bgp").costly_findings()
    assert finding.code == "bgp-order"
    assert finding.message == (
        f"where {NET} leads depends on timing: where routers start one after the other BGP stays with another choice on"
        " mid, near. It has several stable states"
    )
    assert (finding.device, len(finding.places)) == ("mid", 2)


def test_where_one_prefers_its_own_nothing_hangs_on_who_starts():
    net = each_prefers_the_others()
    del net.bgp("near")["neighbors"]["172.16.3.1"]["import"]
    assert solution_of(net.solve(), "bgp").costly_findings() == []
    for plain in (two_exits(), chain_inside()):
        assert solution_of(plain.solve(), "bgp").costly_findings() == []


@given(speakers())
@settings(max_examples=examples(30), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_trying_other_orders_changes_nothing(document):
    """The state shown, and what is found of it a second time."""
    solved = solve(read(document))
    bgp = solution_of(solved, "bgp")
    held = bgp.propagation
    before = held.best.copy(), held.via.copy(), [one.copy() for one in held.received], set(held.unstable.speakers)
    found = bgp.costly_findings()
    after = held.best, held.via, held.received, held.unstable.speakers
    assert all((one == other).all() for one, other in zip(before[:2], after[:2], strict=True))
    assert all((one == other).all() for one, other in zip(before[2], after[2], strict=True))
    assert before[3] == after[3]
    assert bgp.costly_findings() == found
