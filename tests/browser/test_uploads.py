"""Large uploads: read by a worker, with how far that is, also where one went elsewhere meanwhile."""

from pathlib import Path

import pytest

from tests.browser.test_views import violations

pytestmark = pytest.mark.browser

MANY = 4000


def large(tmp_path: Path, wrong: str = "") -> Path:
    """A file of so many routers; ``wrong`` is the address of one."""
    lines = [
        f"  n{number}: {{interfaces: {{e: {{addresses: [10.{number // 250}.{number % 250}.1/24]}}}}}}\n"
        for number in range(MANY)
    ]
    text = f"routrel: 1\nname: many islands\ndevices:\n{''.join(lines)}"
    file = tmp_path / f"{wrong.replace('/', '-') or 'islands'}.yaml"
    file.write_text(text.replace("10.3.7.1/24", wrong) if wrong else text)
    return file


def test_without_a_worker_that_is_said_and_an_upload_is_given_up(page, tmp_path):
    page.sign_in("harbour")
    page.import_file(large(tmp_path))
    page.says("no worker is at work", "[data-testid=uploads]")
    page.open()  # as somebody who was elsewhere
    page.says("islands.yaml", "[data-testid=uploads]")
    assert violations(page) == []
    page.button("give it up").click()
    page.wait(lambda: not page.all("[data-testid=uploads]"))
    page.says("No network yet.")


def test_what_is_wrong_with_a_large_upload_is_said_in_its_place(page, worker, tmp_path):
    page.sign_in("harbour")
    page.import_file(large(tmp_path, "10.3.7.1/64"))
    page.says("10.3.7.1-64.yaml:761:", "form [role=alert]")
    page.open()  # it was said: nothing is left of it
    page.says("No network yet.")
    assert not page.all("[data-testid=uploads]")

    # One that fails while nobody looks is said later.
    page.import_file(large(tmp_path, "10.3.7.1/65"))
    page.find("[data-testid=uploads]")
    page.open()
    page.says("the network cannot be loaded", "[data-testid=uploads]")
    page.button("show them").click()
    page.says("10.3.7.1-65.yaml:761:", "[data-testid=uploads]")
    assert violations(page) == []
    page.button("forget it").click()
    page.wait(lambda: not page.all("[data-testid=uploads]"))


def test_a_large_upload_becomes_a_network_and_a_revision(page, worker, tmp_path):
    page.sign_in("harbour")
    page.import_file(large(tmp_path))
    page.find("[data-testid=uploads] [role=progressbar]")
    page.find("[data-testid=understanding]")
    page.says("4,000 devices")
    page.driver.get(f"{page.network_address()}/model/revisions")
    page.says("Add a revision")
    page.import_file(large(tmp_path))
    page.find("[data-testid=understanding]")
    page.driver.get(f"{page.network_address()}/model/revisions")
    page.says("revision 2", "main ol")
    assert page.complaints() == []
