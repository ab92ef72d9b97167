"""What a network leaves in doubt, and what it hears from outside: the page it opens with, and what stands behind it."""

import zipfile

import pytest

from tests.browser.conftest import Page
from tests.core import dumps

pytestmark = pytest.mark.browser

NETWORK = """routrel: 1
name: harbour
devices:
  desk: {interfaces: {up: {addresses: [10.0.0.1/30]}}}
  depot: {interfaces: {up: {addresses: [10.0.0.2/30]}, out: {addresses: [192.0.2.2/24]}}, routing: {bgp: {as: 64500, neighbors: {
    192.0.2.1: {as: 64600}}}}}
  spare: {interfaces: {up: {addresses: [10.0.0.2/30], description: to desk up}}}
"""


@pytest.fixture
def network(page: Page, tmp_path) -> Page:
    """A subnet for two with three in it, and a border with a dump of what its neighbour outside says."""
    file = tmp_path / "harbour.zip"
    path = dumps.attributes([64600, 64601], "192.0.2.1")
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("network.yaml", NETWORK)
        archive.writestr("depot.mrt", dumps.index([("192.0.2.1", 64600)]) + dumps.routes("203.0.113.0/24", [(0, path)]))
    page.sign_in("harbour")
    page.import_file(file)
    page.find("[data-testid=understanding]")
    return page


def test_a_cable_in_doubt_is_answered_by_a_key(network):
    page = network
    page.says("desk:up – spare:up", "[data-testid=cables-in-doubt]")
    # The description names the other end of that one: it stands first.
    page.press("j")
    page.wait(lambda: page.find("[aria-current=true]").text == "desk:up – depot:up")
    page.press("y")
    page.wait(lambda: not page.all("[data-testid=cables-in-doubt]"))
    page.says("link desk:up - depot:up")
    page.says("3 devices, 1 link")
    page.press("D")
    page.says('- {ends: ["desk:up", "depot:up"]}')
    assert page.complaints() == []


def test_what_a_neighbor_outside_says_leads_to_its_record(network):
    page = network
    page.says("depot hears 1 path of 192.0.2.1")
    base = page.network_address().removeprefix(page.address)
    page.open(f"{base}/flow?from=depot&to=203.0.113.9&on=icmp")
    page.wait(lambda: page.verdict("forward").startswith("leaves"))
    page.open(f"{base}/model/source?file=depot.mrt&line=2")
    page.says("203.0.113.0/24 from 192.0.2.1: AS path 64600 64601", "[data-testid=source-text]")
    page.says("records 1 to 2 of 2")
    assert not [one for one in page.all("a") if one.text == "edit it in a trial"]
    assert page.complaints() == []
