"""Devices known by documents in the interface: imported, understood, answered with their statements, changed."""

import zipfile

import pytest

from tests.browser.conftest import Page
from tests.core.model_documents import files_of, ietf, ietf_interface, static

pytestmark = pytest.mark.browser

WAY = static(("203.0.113.0/24", {"next-hop-address": "192.0.2.9"}))
DEVICES = {
    "desk": ietf(ietf_interface("e1", "192.0.2.1/24", **{"acme:knob": 1}), protocols=[WAY]),
    "depot": ietf(ietf_interface("e1", "192.0.2.2/24"), ietf_interface("e2", "198.51.100.1/24")),
}


@pytest.fixture
def network(page: Page, tmp_path) -> Page:
    """A folder of two documents, imported: the page of what was understood."""
    file = tmp_path / "harbour.zip"
    with zipfile.ZipFile(file, "w") as archive:
        for name, data in files_of(DEVICES).items():
            archive.writestr(name, data)
    page.sign_in("harbour")
    page.import_file(file)
    page.find("[data-testid=understanding]")
    return page


def test_from_documents_to_a_patch_for_a_device(network):
    page = network
    understood = page.text_of("[data-testid=understanding]")
    assert "known by documents in open models" in understood
    assert "/interfaces/interface/acme:knob" in understood and "acme:knob is not" not in understood
    assert "next hop 192.0.2.9 of the static route to 203.0.113.0/24" in understood
    # An answer leads to the statement behind it.
    page.open(f"{page.network_address().removeprefix(page.address)}/flow?from=desk&to=198.51.100.1&on=icmp")
    page.wait(lambda: page.verdict("forward") != "arrives")
    page.says("desk.json")
    # A change is tried, and comes out as the device takes it.
    page.wait(lambda: page.all("[data-testid=try]:enabled"))
    page.press("r")
    page.wait(lambda: page.verdict("forward") == "arrives")
    page.press("Y")
    page.says("edit-config", "[data-testid=patches]")
    page.says("nc:operation", "[data-testid=patches]")
    assert page.complaints() == []
