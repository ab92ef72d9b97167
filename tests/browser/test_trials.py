"""Trials in the interface: a whole repair by keys alone, changes where the eye is, a text checked as it is typed."""

import time

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page

pytestmark = pytest.mark.browser

TRIAL = "[data-testid=trial]"
CHANGES = "[data-testid=changes-tried] li"


@pytest.fixture
def network(saltmarsh) -> str:
    """The path of the demo network."""
    return saltmarsh.network_address().removeprefix(saltmarsh.address)


@pytest.fixture
def asked(page, network) -> Page:
    """The page of a flow that two faults stop: a list on the way there, a discarding route on the way back."""
    page.open(f"{network}/flow?from=ot-tracking&to=bookings&on=tracking")
    page.wait_for_verdicts("blocked", "discarded")
    return page


def states(page: Page) -> list[str]:
    return [one.get_attribute("data-state") for one in page.all(CHANGES)]


def try_remedy(page: Page, then: list[str]) -> None:
    """Try the first remedy that is shown, once the answer is settled."""
    page.wait(lambda: page.all("[data-testid=try]:enabled"))
    page.press("r")
    page.wait(lambda: states(page) == then)


def test_a_whole_repair_by_keys(asked):
    page = asked
    # Each remedy is one key away; the next fault appears once one is cured.
    try_remedy(page, ["applied"])
    started = time.monotonic()
    try_remedy(page, ["applied"] * 2)
    page.wait(lambda: page.verdict("forward") == "arrives")
    print(f"a change answers within {time.monotonic() - started:.2f} s")
    assert page.verdict("return") == "discarded"
    try_remedy(page, ["applied"] * 3)
    page.wait_for_verdicts("arrives", "arrives")
    page.says("arrives, answer arrives", "[data-testid=asked-flow]")
    page.says("1 route moves", "[data-testid=moved]")
    # What else it opens is said, and that nothing else changes.
    page.says("pairs of places change; nothing else does", "[data-testid=held]")
    page.says("newly get through", "[data-testid=held]")
    # One is undone and done again.
    page.press("[")
    page.wait_for_verdicts("arrives", "discarded")
    page.press("]")
    page.wait_for_verdicts("arrives", "arrives")
    # It is named, the difference looked at, and the revision made.
    page.press("N")
    page.press("let tracking in", Keys.ENTER)
    page.wait_for_no_focus()
    page.press("D")
    page.says("-  - {prefix: 10.40.51.128/25, action: discard}", "[data-testid=difference]")
    page.wait(lambda: page.text_of("[data-testid=with]") == "let tracking in")
    page.press("R")
    page.wait(lambda: "with=" not in page.driver.current_url)
    page.wait_for_verdicts("arrives", "arrives")
    page.says("revision 1", "[data-testid=asked-before]")
    assert page.complaints() == []


def test_every_remedy_is_tried_and_ranked_by_what_else_it_moves(asked):
    page = asked
    page.find("[data-testid=remedies]")
    page.press("e")
    page.says("take ACL booking off", "[data-testid=remedies]")
    page.says("then:", "[data-testid=remedies]")
    page.press("e")
    page.wait(lambda: not page.all("[data-testid=remedies] li"))
    assert page.complaints() == []


def test_a_flow_is_led_past_a_device_and_by_one(page, network):
    page.open(f"{network}/flow?from=gp-gates&to=bookings&on=booking&at=bw-radio")
    page.wait_for_verdicts("arrives", "arrives")
    next(one for one in page.all("[data-testid=lead] button") if "past bw-radio" in one.text).click()
    page.says("cost of gp-core e1: 60 → 19", "[data-testid=wanted-way]")
    page.all("[data-testid=lead] input")[0].send_keys("oq-slip", Keys.ENTER)
    page.says("costs alone cannot: oq-slip is not in ospf area 0", "[data-testid=wanted-way]")
    assert page.complaints() == []


def test_what_is_off_is_not_made_and_what_is_taken_out_is_gone(asked):
    page = asked
    try_remedy(page, ["applied"])
    page.press("i")
    page.press("disable: device, at: bw-core", Keys.ENTER)
    page.wait(lambda: states(page) == ["applied", "error"])
    page.says("did you mean bw-core", TRIAL)
    page.all("[aria-label='take out change 2']")[0].click()
    page.wait(lambda: states(page) == ["applied"])
    page.all("[aria-label='change 1 is made']")[0].click()
    page.wait(lambda: states(page) == ["off"])
    page.press("i")
    page.press("sett: cost", Keys.ENTER)
    page.says("a change says one thing that is done", TRIAL)


def test_a_trial_stays_beside_the_network_and_is_opened_by_its_address(asked):
    page = asked
    try_remedy(page, ["applied"])
    address = page.driver.current_url
    page.press("2")
    page.wait(lambda: "/routes" in page.driver.current_url and "with=1" in page.driver.current_url)
    page.find(TRIAL)
    page.press("l")
    page.wait(lambda: not page.all(TRIAL))
    page.driver.get(address)
    page.wait(lambda: states(page) == ["applied"])
    page.find("[data-testid=former-way]")


def test_a_device_is_shut_and_its_text_edited_from_its_stop(asked):
    page = asked
    page.find("[data-testid=stop-ot-core]").click()
    row = page.find("[data-testid=device-changes]")
    assert "ot-core off" in row.text
    page.button("ot-core off").click()
    page.wait(lambda: states(page) == ["applied"])
    page.says("disable device ot-core", TRIAL)
    page.wait(lambda: "ot-core off" not in page.text_of("[data-testid=device-changes]"))
    page.press("[")
    page.says("ot-core off", "[data-testid=device-changes]")
    page.find("[data-testid=device-changes]").find_element(By.LINK_TEXT, "edit its text").click()
    page.find("[data-testid=text-editor] .cm-content")
    page.press(Keys.CONTROL, Keys.END)
    page.press("acls: {x: [{action: pass}]}")
    page.says("this word is not known here; found 'pass'", "[data-testid=text-problems]")
    page.wait(lambda: page.all(".cm-wrong"))
    page.press(*[Keys.BACKSPACE] * 7)
    page.press("drop}]}")
    page.says("it can be read")
    page.press(Keys.CONTROL, Keys.ENTER)
    page.says("text of ot-core edited", TRIAL)
    assert page.complaints() == []


def test_a_tipping_point_offers_exactly_its_value(page, network):
    page.open(f"{network}/routes/table?device=bw-core1&prefix=10.40.128.0/20")
    line = page.find("[data-testid=tipping] li")
    words = line.text
    page.wait(lambda: page.all("[data-testid=tipping] [data-testid=try]:enabled"))
    line.find_element(By.CSS_SELECTOR, "[data-testid=try]").click()
    page.wait(lambda: states(page) == ["applied"])
    value = words.split("moves at ")[1].split(" ")[0]
    page.says(f"→ {value}", TRIAL)
    page.says("without the trial:", "[data-testid=without-trial]")


def test_a_candidate_that_lost_is_made_to_win_where_it_stands(page, network):
    page.open(f"{network}/routes/table?device=bw-border&prefix=172.20.0.0/24")
    page.wait(lambda: any("wins with" in one.text for one in page.all("[data-testid=candidate-offers]")))
    page.wait(lambda: page.all("[data-testid=candidate-offers] [data-testid=try]:enabled"))
    assert "try session off" in page.text_of("[data-testid=candidate-offers]")
    page.button("wins with local preference 201").click()
    page.wait(lambda: states(page) == ["applied"])
    page.says("198.51.100.2 by e3 (bellbuoy)", "[data-testid=winner]")
    page.says("local preference 201 against 200", "[data-testid=moved]")


def test_a_problem_is_mended_where_it_is_listed(page, network):
    page.open(f"{network}/model/problems")
    page.button("try tq-core:e3 in area 0.0.0.0").click()
    page.wait(lambda: states(page) == ["applied"])
    page.wait(lambda: "cannot become OSPF neighbours" not in page.text_of("[aria-label=problems]"))


def test_cables_of_a_device_are_stepped_through_and_shut(asked):
    page = asked
    page.find("[data-testid=stop-bw-core1]").click()
    seen = []
    for _ in range(2):
        page.press("v")
        seen.append(page.text_of("[data-testid=map-changes]"))
    assert seen[0] != seen[1] and all("bw-core1:" in text for text in seen)
    page.press(Keys.ESCAPE)
    page.wait(lambda: not page.all("[data-testid=map-changes]"))
    cable = next(one for one in page.all("line[data-cable]") if "bw-core1:e3" in one.get_attribute("data-cable"))
    page.driver.execute_script("arguments[0].dispatchEvent(new MouseEvent('click', {bubbles: true}))", cable)
    page.says("bw-core1:e3 – bw-core2:e3", "[data-testid=map-changes]")
    page.button("link off").click()
    page.wait(lambda: states(page) == ["applied"])
    page.says("down", "[data-testid=map-changes]")
    page.says("link on", "[data-testid=map-changes]")
    assert page.complaints() == []


# Clicks, and says after how many milliseconds the walk that is asked then has been answered and drawn.
CLICK_TO_ANSWER = """
const [button, done] = arguments, begun = performance.now();
performance.clearResourceTimings();
button.click();
const look = () => {
  const walks = performance.getEntriesByType("resource").filter((one) => one.name.includes("/walk?"));
  const isIdle = [...document.querySelectorAll("[data-testid=try]")].some((one) => !one.disabled);
  if (walks.length > 0 && isIdle) requestAnimationFrame(() => done(performance.now() - begun));
  else setTimeout(look, 5);
};
look();
"""


def test_how_long_a_change_takes_to_answer_is_told(asked, capsys):
    page, took = asked, []
    page.driver.set_script_timeout(30)
    for stop in ("ot-core", "ot-core", "ot-core"):
        page.find(f"[data-testid=stop-{stop}]").click()
        page.wait(lambda: page.all("[data-testid=device-changes] [data-testid=try]:enabled"))
        off = [one for one in page.all("[data-testid=device-changes] [data-testid=try]") if one.text.startswith("e")]
        took.append(page.driver.execute_async_script(CLICK_TO_ANSWER, off[0]))
        page.press("[")
        page.wait(lambda: len(states(page)) == 0)
    with capsys.disabled():
        print(f"\n  from the click on a change to its answer: {', '.join(f'{one:.0f} ms' for one in took)}")
