"""The past of a network as people look at it: the strip of a flow, moments, what happened, files of events."""

from pathlib import Path
from runpy import run_path

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page
from tests.browser.test_views import violations

pytestmark = pytest.mark.browser
EVENTS = Path(__file__).parents[2] / "examples" / "saltmarsh-history" / "events.jsonl"
FLOW = "flow?from=control-room&to=weather&on=icmp"


@pytest.fixture
def past(saltmarsh) -> Page:
    """The demo with the two weeks before it."""
    page = saltmarsh
    page.press("4")
    page.says("Nothing is known of what happened")
    page.find("input[name=events]").send_keys(str(EVENTS))
    page.says("186 events", "[data-testid=event-files]")
    return page


def test_a_flow_is_stepped_through_its_past(past):
    page = past
    base = page.network_address()
    page.driver.get(f"{base}/{FLOW}")
    page.wait_for_verdicts("leaves", "arrives")
    page.wait(lambda: len(page.all("[data-testid=strip] [data-testid=segment]")) == 5)
    assert len(page.all("[data-testid=fell-back]")) == 1
    # The last change of the flow is that it came back; the one before, that it failed.
    page.press("<")
    page.wait(lambda: "time=2026-11-12T17%3A28%3A40" in page.driver.current_url)
    page.press("<")
    page.says("2026-11-12 08:10 UTC by what happened")
    page.wait(lambda: page.verdict("forward") == "unrouted")
    page.says("bw-border goes by the default (static): 172.21.7.0/24 (bgp) is gone", "[data-testid=segment-line]")
    page.says("link Bellbuoy south access down since", "[data-testid=otherwise]")
    # What is looked at elsewhere is of that moment too.
    page.press("2")
    page.wait(lambda: "time=" in page.driver.current_url and "/routes" in page.driver.current_url)
    page.driver.back()
    page.find("[data-testid=strip]")
    page.press("T")
    page.says("97.18% of the time; once it was not, 9 h 18 min in all", "[data-testid=story]")
    page.says("link Bellbuoy south access", "[data-testid=story] table")
    page.press(Keys.ESCAPE)
    page.wait_for_verdicts("leaves", "arrives")
    assert "time=" not in page.driver.current_url
    assert page.complaints() == []


def test_flows_stand_under_each_other_and_a_window_is_chosen(past):
    page = past
    page.driver.get(f"{page.network_address()}/{FLOW}")
    page.find("[data-testid=strip]")
    page.button("day").click()
    page.wait(lambda: "window=2026-11-19T06" in page.driver.current_url)
    page.find("input[aria-label='another flow in the strip']").send_keys("nf-gates > bookings booking", Keys.ENTER)
    page.says("nf-gates > bookings booking", "[data-testid=strip-row]")
    page.wait(lambda: len(page.all("[data-testid=strip-row] [data-testid=segment]")) > 4)
    page.find("a[href*='ask=']").click()
    page.says("they part at", "[data-testid=parting]")
    page.says("nf-gates > bookings booking", "[aria-label^='flow 2']")
    page.wait(lambda: len(page.all("[data-testid=way-map] > svg")) == 2)
    assert violations(page) == []
    page.driver.back()
    page.find("input[aria-label='another flow in the strip']").send_keys("nonsense", Keys.ENTER)
    page.says("Write it as: from > to service")
    page.button("take out").click()
    page.wait(lambda: not page.all("[data-testid=strip-row]"))


def test_what_happened_is_told_with_the_worst_first(past):
    page = past
    page.says("link Ninefold mast cable", "[data-testid=flapping] tbody tr:first-child")
    page.says("getting worse: 7 then 39 outages", "[data-testid=flapping]")
    page.says("9 h 24 min", "[data-testid=longest] li:first-child")
    page.find("input[aria-label='events that contain']").send_keys("tq-sw")
    page.wait(lambda: len(page.all("[data-testid=events] li")) == 2)
    page.find("[data-testid=events] li:last-child button").click()
    page.says("moved", "[data-testid=moments-compared]")
    page.find("[data-testid=events] li:last-child a").click()
    page.says("2026-11-16 02:12 UTC by what happened")


def test_a_slow_link_is_told_though_no_route_changed(past, tmp_path):
    page = past
    samples = tmp_path / "samples.csv"
    samples.write_text(run_path(str(EVENTS.with_name("samples.py")))["text"]())
    page.find("input[name=events]").send_keys(str(samples))
    page.says("samples", "[data-testid=event-files]")
    page.says("delay of link Brackwater-Gullpoint was", "[data-testid=unusual]")
    page.find("[data-testid=unusual] li:nth-child(2) button").click()
    page.find("[data-testid=unusual] [data-testid=gauge-chart] canvas")
    page.driver.get(f"{page.network_address()}/flow?from=gp-gates&to=bookings&on=booking")
    page.wait_for_verdicts("arrives", "arrives")
    page.says("13 unusual", "[aria-label='the flow over time']")
    page.press("I")
    page.says("there: delay 5.2", "[data-testid=health]")
    row = page.find("[data-testid=health] tbody tr:nth-child(4)")
    assert row.text.startswith("Gullpoint-Ninefold → 99.926 %")
    page.button("0.38 ms").click()
    page.says("delay of link Gullpoint-Ninefold", "[data-testid=health]")
    page.wait(lambda: "delay of link Gullpoint" in page.find("[data-testid=gauge-chart]").get_attribute("aria-label"))
    assert violations(page) == [] and page.complaints() == []
    page.press("T")
    page.says("- Delay of link Brackwater-Gullpoint was 39.7 ms, usually 2.12 ms", "[data-testid=story]")
    # A stop that is chosen shows its evidence again.
    page.press("u")
    page.find("[aria-label=evidence]")


def test_any_two_moments_are_compared(past):
    page = past
    page.driver.get(f"{page.network_address()}/{FLOW}&time=2026-11-12T08:05:00Z")
    page.find("[data-testid=strip] [data-testid=segment]")
    page.press("M")
    page.find("[data-testid=mark]")
    page.press(">")
    page.wait(lambda: "time=2026-11-12T08%3A10" in page.driver.current_url)
    page.wait(lambda: "mark=2026-11-12T08%3A05" in page.driver.current_url)
    page.press("B")
    page.says("From 2026-11-12 08:05 UTC to 2026-11-12", "[data-testid=moments-compared]")
    page.says("session bw-border 198.51.100.2 down", "[data-testid=moments-compared]")
    page.says("209 routes moved", "[data-testid=moments-compared]")
    page.says("21 pairs no longer get through", "[data-testid=moments-compared] [data-testid=held]")
    assert violations(page) == [] and page.complaints() == []


def test_a_route_is_told_over_time_in_its_contest(past):
    page = past
    page.driver.get(f"{page.network_address()}/routes?to=172.21.7.0/24&device=bw-border")
    page.find("[data-testid=route-over-time] summary").click()
    page.says("It was gone, or a shorter prefix stood for it, once, 9 h 18 min", "[data-testid=route-over-time]")
    page.says("link Bellbuoy south access down", "[data-testid=route-over-time]")
    assert len(page.driver.find_elements("css selector", "[data-testid=route-segment]")) == 3
    assert violations(page) == [] and page.complaints() == []
    page.find("[data-testid=route-over-time] li + li button").click()
    page.wait(lambda: "time=2026-11-12T08%3A10%3A40" in page.driver.current_url)
    page.says("0.0.0.0/0", "[data-testid=contest]")


def test_sessions_entries_and_events_are_found(past):
    page = past
    page.press("k")
    page.find("input[aria-label='find anything']").send_keys("mast cable")
    page.says("event · 2026-11-20 01:2", "[role=dialog]")
    page.find("input[aria-label='find anything']").send_keys(Keys.CONTROL, "a")
    page.press("64502")
    page.says("its line · session AS 64502, Bellbuoy", "[role=dialog]")
    page.press(Keys.ENTER)
    page.wait(lambda: "model/source?file=devices%2Fbw-border.yaml&line=30" in page.driver.current_url)


def test_events_that_cannot_be_read_say_where_and_those_that_do_not_fit_are_kept(past):
    page = past
    area = page.find("textarea[aria-label='or paste events']")
    area.send_keys('{"time": "2026-11-20T07:00:00Z", "down": "lnk", "at": "x"}')
    page.button("Add what happened").click()
    page.says("this cannot be disabled", "[data-testid=event-files]")
    area.clear()
    area.send_keys('{"time": "2026-11-20T07:00:00Z", "down": "device", "at": "bw-cor1"}')
    page.button("Add what happened").click()
    page.says("did you mean bw-core1?", "[data-testid=event-files]")
    page.says("does not fit", "[data-testid=events]")
    page.wait(lambda: len(page.all("[data-testid=event-files] li")) == 2)
    page.button("take out").click()
    page.wait(lambda: len(page.all("[data-testid=event-files] li")) == 1)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_the_past_is_accessible(past, theme):
    page = past
    base = page.network_address()
    page.driver.execute_script("localStorage.setItem('routrel-theme', arguments[0])", theme)
    page.driver.get(f"{base}/history")
    page.find("[data-testid=events] li")
    found = violations(page)
    page.driver.get(f"{base}/{FLOW}&time=2026-11-12T10:00:00Z")
    page.find("[data-testid=strip] [data-testid=segment]")
    page.press("T")
    page.find("[data-testid=story] table")
    assert found + violations(page) == []
