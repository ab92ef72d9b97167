"""Every view by axe-core's rules in both themes, and a network of a thousand devices."""

import json
from pathlib import Path

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from bench.generator import Shape, document

pytestmark = pytest.mark.browser
AXE = (Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text()


def violations(page, only: tuple[str, ...] = ("wcag2a", "wcag2aa", "wcag21aa", "wcag22aa")) -> list[str]:
    page.driver.execute_script(AXE)
    found = page.driver.execute_async_script(
        "const done = arguments[arguments.length - 1];"
        "axe.run(document, {runOnly: arguments[0]}).then((r) => done(r.violations))",
        only,
    )
    return [f"{one['id']}: {node['html'][:160]}" for one in found for node in one["nodes"]]


def violations_in_both(page) -> list[str]:
    """Of the light theme, and what colours alone decide about of the dark one."""
    found, theme = violations(page), "document.documentElement.dataset.theme = arguments[0]"
    page.driver.execute_script(theme, "dark")
    found += violations(page, ("color-contrast",))
    page.driver.execute_script(theme, "light")
    return found


def test_every_view_is_accessible_in_both_themes(worker, saltmarsh):
    page = saltmarsh
    base = page.network_address()
    page.driver.execute_script("localStorage.setItem('routrel-theme', 'light')")
    views = {
        "flow": "Does it get through",
        "flow?from=ot-tracking&to=bookings&on=tracking": "remedy",
        "flow?from=control-room&to=gp-gates&on=icmp&at=bw-core1": "back to",
        "routes/table?device=bw-core1": "next hops",
        "routes/table?device=lantern-depot&prefix=203.0.113.64/26": "tipping points",
        "routes?to=10.40.201.0/24&device=ot-core": "moves at",
        "routes?to=10.50.0.0/24&device=ot-core": "how far it came",
        "routes?to=172.22.40.0/24&device=tq-border": "not sent by neighbors",
        "routes/policies?device=tq-border&policy=weather-by-south": "no statement decides",
        "flow/beside?ask=ot-gates > bookings booking&ask=ot-tracking > bookings tracking": "they part at",
        "model": "Where what is known ends",
        "model/changes": "There is one revision only",
        "model/problems": "Problems of the model",
        "expect?failures=sites": "hurt nothing that is expected",
        "expect/maintenance?shut=device%20bw-radio": "nothing expected breaks",
        "model/source?file=devices/bw-core1.yaml&line=24": "action: discard",
        "model/revisions": "Add a revision",
    }
    found: dict[str, list[str]] = {}
    for path, text in views.items():
        page.driver.get(f"{base}/{path}")
        page.says(text)
        found[path] = violations_in_both(page)
    page.press("k")
    page.find("[role=dialog]")
    found["palette"] = violations_in_both(page)
    page.open()
    page.says("Import a network")
    found["networks"] = violations_in_both(page)
    page.open("/tokens")
    page.says("Tokens for scripts")
    found["tokens"] = violations_in_both(page)
    assert {path: some for path, some in found.items() if some} == {}


def test_a_network_of_a_thousand_devices_stays_usable(page, worker, tmp_path):
    path = tmp_path / "large.json"
    path.write_text(json.dumps(document(Shape(700, areas=7, prefixes=700, hosts=300, sites=20))))
    page.sign_in("harbour")
    page.import_network(path)
    page.wait(lambda: page.all("[data-testid=map] svg circle"), 60)
    drawn = len(page.all("[data-testid=map] svg path, [data-testid=map] svg circle"))
    assert drawn < 900, "clustered: a mark for every device would be too many"
    page.press("/")
    page.press("h1 > h299 tcp/443", Keys.ENTER)
    page.wait_for_verdicts("arrives", "arrives")
    # Panning moves the picture and draws nothing anew within a step.
    group = page.find("[data-testid=map] svg > g")
    before = group.get_attribute("transform")
    ActionChains(page.driver).move_to_element(page.find("[data-testid=map]")).click_and_hold().move_by_offset(
        60, 40
    ).release().perform()
    page.wait(lambda: group.get_attribute("transform") != before)
    page.press("+")
    page.press(*"22")
    page.says("of ")
    assert len(page.all("ol > li")) < 120, "the table's rows are virtual"
