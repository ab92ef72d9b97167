"""What is expected, in Chromium: read, under failures, and written from an answer."""

import pytest

pytestmark = pytest.mark.browser

LISTED = "[data-testid=expectation]"


@pytest.fixture
def network(saltmarsh) -> str:
    return saltmarsh.network_address().removeprefix(saltmarsh.address)


def states(page) -> list[str]:
    return [one.get_attribute("data-state") for one in page.all(LISTED)]


def test_what_is_expected_is_listed_and_what_fails_is_one_click_from_its_flow(page, network):
    page.open(f"{network}/model/expected")
    page.wait(lambda: len(states(page)) == 13)
    page.says("its answer is unrouted: lantern has no route")
    page.press("a")
    page.wait(lambda: set(states(page)) == {"fails"})
    page.find(f"{LISTED} a[href*='/flow?']").click()
    page.wait(lambda: "from=tq-office" in page.driver.current_url)
    page.wait_for_verdicts("arrives", "unrouted")
    assert page.complaints() == []


def test_a_failure_that_is_not_survived_is_tried(page, network):
    page.open(f"{network}/model/expected")
    page.wait(
        lambda: "does not survive link core 1 to the data room" in page.text_of("[data-testid=expectations]"), 240
    )
    page.wait(lambda: page.all("[data-testid=try]:enabled"))
    page.find(f"{LISTED} [data-testid=try]").click()
    page.says("What is expected", "[data-testid=trial-expected]")
    page.wait(lambda: "no longer hold" in page.text_of("[data-testid=trial-expected]"), 60)
    page.says("gates reach the bookings", "[data-testid=trial-expected]")


def test_an_answer_is_expected_to_stay_so_by_a_key(page, network):
    page.open(f"{network}/flow?from=gp-gates&to=bookings&on=booking")
    page.wait_for_verdicts("arrives", "arrives")
    page.wait(lambda: page.all("[data-testid=answer] [data-testid=try]:enabled"))
    page.press("E")
    page.says("expect gp-gates > bookings booking", "[data-testid=trial]")
    page.press("D")
    page.says('+- {name: "gp-gates > bookings booking", from: gp-gates, on: booking, to: bookings}')
    page.driver.get(page.driver.current_url.replace("/flow?", "/model/expected?"))
    page.wait(lambda: len(states(page)) == 14)
    assert page.complaints() == []


def test_what_hangs_on_a_device_is_said_at_its_stop(page, network):
    page.open(f"{network}/flow?from=gp-gates&to=bookings&on=booking&at=bw-core1")
    page.wait_for_verdicts("arrives", "arrives")
    page.button("what is expected of it").click()
    page.says("without device bw-core1", "[data-testid=leans-on]")
    page.says("gates reach the bookings", "[data-testid=leans-on]")
    assert page.complaints() == []
