"""What is expected, in Chromium: read, under failures, and written from an answer."""

import io
import json
import zipfile

import pytest
from django.contrib.auth import get_user_model
from selenium.webdriver.common.keys import Keys

from networks.example import FILE_NAME, zipped_example
from networks.models import Network
from networks.uploads import store, upload_of
from routrel.formats.sources import files_of_upload
from tests.browser.conftest import imported
from tests.browser.shaped_networks import ring_of_sites

pytestmark = pytest.mark.browser

LISTED = "[data-testid=expectation]"


@pytest.fixture
def network(saltmarsh) -> str:
    return saltmarsh.network_address().removeprefix(saltmarsh.address)


def states(page) -> list[str]:
    return [one.get_attribute("data-state") for one in page.all(LISTED)]


def test_what_is_expected_is_listed_and_what_fails_is_one_click_from_its_flow(page, network):
    page.open(f"{network}/expect")
    page.wait(lambda: len(states(page)) == 13)
    page.says("its answer is unrouted: lantern has no route")
    page.press("a")
    page.wait(lambda: set(states(page)) == {"fails"})
    page.find(f"{LISTED} a[href*='/flow?']").click()
    page.wait(lambda: "from=tq-office" in page.driver.current_url)
    page.wait_for_verdicts("arrives", "unrouted")
    assert page.complaints() == []


def test_a_failure_that_is_not_survived_is_tried(page, worker, network):
    page.open(f"{network}/expect")
    page.wait(
        lambda: "does not survive link core 1 to the data room" in page.text_of("[data-testid=expectations]"), 240
    )
    page.wait(lambda: page.all("[data-testid=try]:enabled"))
    page.find(f"{LISTED} [data-testid=try]").click()
    page.says("What is expected", "[data-testid=trial-expected]")
    page.wait(lambda: "no longer hold" in page.text_of("[data-testid=trial-expected]"), 60)
    page.says("gates reach the bookings", "[data-testid=trial-expected]")


def test_failures_are_a_job_with_its_progress(page, worker, tmp_path):
    archive = tmp_path / "ring.zip"
    with zipfile.ZipFile(archive, "w") as packed:
        packed.writestr("network.json", json.dumps(ring_of_sites(4, access=1, hosts=1)))
        packed.writestr("expectations.yaml", "- {name: across, from: town1-h1, to: town3-h1}")
    network = imported(page, archive).network_address().removeprefix(page.address)
    page.open(f"{network}/expect?failures=sites")
    page.wait(lambda: page.all("[data-testid=failures] li"), 240)
    page.wait(lambda: not page.all("[data-testid=expectations-progress]"), 240)
    page.says("hurt nothing that is expected", "[data-testid=failures]")
    # Two at once by a key, and all traffic by another.
    page.press("t")
    page.wait(lambda: "nothing that neither does alone" in page.text_of("[data-testid=failures]"), 240)
    page.wait(lambda: "site town2 and site town4" in page.text_of("[data-testid=failures]"), 240)
    page.press("p")
    page.wait(lambda: page.all("[data-testid=places-under-failures]"), 240)
    page.wait(lambda: "4 of 4 failures cut off some" in page.text_of("[data-testid=places-under-failures]"), 240)
    assert page.complaints() == []


def test_an_expectation_is_changed_as_a_sentence(page, network):
    page.open(f"{network}/expect")
    page.wait(lambda: len(states(page)) == 13)
    page.all(f"{LISTED} button[aria-expanded]")[1].click()
    page.button("same way back").click()
    page.button("hops").click()
    box = page.find("input[aria-label=hops]")
    box.send_keys(Keys.CONTROL, "a")
    box.send_keys("2")
    page.find("[data-testid=expectation-editor] button[type=submit]").click()
    page.says("expect gates reach the bookings otherwise", "[data-testid=trial]")
    page.wait(lambda: states(page)[:1] == ["fails"], 60)
    page.says("in 2 hops at most")
    # And a new one, with what it lacks said meanwhile.
    page.press("n")
    page.says("it lacks a name")
    page.find("input[aria-label=name]").send_keys("the fleet is seen")
    page.says("it lacks a place it comes from")
    for label, word in (("from", "tq-office"), ("to", "control-room")):
        page.choose_word(label, word)
    page.find("[data-testid=expectation-editor] button[type=submit]").click()
    page.wait(lambda: len(states(page)) == 14, 60)
    page.says("the fleet is seen")
    assert page.complaints() == []


def test_what_an_expectation_leans_on_comes_as_it_is_found(page, network):
    page.open(f"{network}/expect")
    page.wait(lambda: len(states(page)) == 13)
    page.all(f"{LISTED} button[aria-expanded]")[0].click()
    page.says("ACL booking on e4.20: entry 2 (booking) accepts", "[data-testid=leaning]")
    page.wait(lambda: "carrying it" in page.text_of("[data-testid=leaning]"), 60)
    page.wait(
        lambda: "core 1 to the data room without it fails" in " ".join(page.text_of("[data-testid=leaning]").split()),
        60,
    )
    page.button("stop").click()
    assert page.complaints() == []


def test_without_a_worker_that_is_said_and_a_job_is_given_up(page, network):
    page.open(f"{network}/expect")
    page.says("no worker is at work", "[data-testid=expectations-progress]")
    page.button("stop").click()
    page.says("failures are not all looked at", "[data-testid=expectations-progress]")
    assert len(states(page)) == 13


def another_revision(old: str, new: str) -> None:
    """The demo with something else in its text, as a revision of the one network there is."""
    into = io.BytesIO()
    with zipfile.ZipFile(into, "w") as archive:
        for name, data in files_of_upload(FILE_NAME, zipped_example()).items():
            archive.writestr(name, data.decode().replace(old, new))
    user = get_user_model().objects.get()
    store(Network.objects.get(), upload_of(FILE_NAME, into.getvalue(), user), user, "")


def test_what_made_an_expectation_fail_is_found(page, worker, network):
    cable = "name: core 1 to the data room"
    another_revision(cable, f"{cable}, enabled: false")
    page.open(f"{network}/expect")
    page.wait(lambda: "fails since revision 2" in page.text_of("[data-testid=expectations]"), 240)
    page.button("what made it fail").click()
    page.says("link core 1 to the data room enabled: true > false", "[data-testid=turned]")
    page.find("[data-testid=turned] a[href*='/flow/beside']").click()
    page.wait(lambda: len(page.all("[data-testid=lane]")) >= 2 or "ask=" in page.driver.current_url)
    assert page.complaints() == []


def test_maintenance_is_planned_and_tried(page, network):
    page.open(f"{network}/expect/maintenance")
    page.wait(lambda: page.all("input[aria-label=what]"))
    page.press("e")
    page.driver.switch_to.active_element.send_keys("radio across")
    page.wait(lambda: any("radio across the bay" in one.text for one in page.all("[role=option]")))
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.says("this can be shut, and nothing expected breaks at any step", "[data-testid=maintenance-words]")
    assert [one.text.split("\n")[1].split(" try")[0] for one in page.all("[data-testid=maintenance-step]")] == [
        "drain link radio across the bay: 2 costs raised",
        "shut link radio across the bay",
    ]
    page.all("[data-testid=maintenance-step] [data-testid=try]")[-1].click()
    page.says("radio across the bay", "[data-testid=trial]")
    assert page.complaints() == []


def test_an_answer_is_expected_to_stay_so_by_a_key(page, network):
    page.open(f"{network}/flow?from=gp-gates&to=bookings&on=booking")
    page.wait_for_verdicts("arrives", "arrives")
    page.wait(lambda: page.all("[data-testid=answer] [data-testid=try]:enabled"))
    page.press("E")
    page.says("expect gp-gates > bookings booking", "[data-testid=trial]")
    page.press("D")
    page.says('+- {name: "gp-gates > bookings booking", from: gp-gates, on: booking, to: bookings}')
    page.driver.get(page.driver.current_url.replace("/flow?", "/expect?"))
    page.wait(lambda: len(states(page)) == 14)
    assert page.complaints() == []


def test_what_hangs_on_a_device_is_said_at_its_stop(page, network):
    page.open(f"{network}/flow?from=gp-gates&to=bookings&on=booking&at=bw-core1")
    page.wait_for_verdicts("arrives", "arrives")
    page.button("what is expected of it").click()
    page.says("without device bw-core1", "[data-testid=leans-on]")
    page.says("gates reach the bookings", "[data-testid=leans-on]")
    assert page.complaints() == []
