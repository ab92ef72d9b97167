"""A newcomer's first ten minutes, by keyboard and by the roles a screen reader announces."""

import io
import zipfile

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import EXAMPLE, PASSWORD

pytestmark = pytest.mark.browser


def mended(tmp_path):
    """The demo with one ACL entry mended, as a zip archive."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        for path in sorted(EXAMPLE.rglob("*.yaml")):
            text = path.read_text()
            if path.name in ("bw-core1.yaml", "bw-core2.yaml"):
                text = text.replace("protocol: udp, source: 10.40.51.0/24", "protocol: tcp, source: 10.40.51.0/24")
            if path.name == "bw-core1.yaml":
                text = text.replace("  - {prefix: 10.40.51.128/25, action: discard}\n", "")
            archive.writestr(path.relative_to(EXAMPLE).as_posix(), text)
    file = tmp_path / "mended.zip"
    file.write_bytes(made.getvalue())
    return file


def test_from_signing_in_to_a_mended_network(page, tmp_path):
    # Sign in, and begin with the example.
    page.open()
    page.find("input[name=username]").send_keys("harbour")
    page.press(Keys.TAB)
    page.press(PASSWORD, Keys.ENTER)
    page.says("No network yet.")
    page.button("begin with the example").click()

    # The start page says what was understood, what is not, and what is wrong.
    page.find("[data-testid=understanding]")
    for words in ("41 devices", "Where what is known ends", "Problems"):
        page.says(words)

    # Ask, typed as one line.
    page.press("1")
    page.says("Does it get through")
    page.press("/")
    page.press("ot-tracking > bookings tracking", Keys.ENTER)
    page.wait_for_verdicts("blocked", "discarded")
    page.wait_for_no_focus()

    # Follow the cause to its line, and read what that line does.
    page.find("[data-testid=cause-return] [data-testid=source-link]").click()
    page.says("in the table of bw-core1: discard", "[data-testid=statements]")
    shown = page.driver.current_url
    page.driver.get(shown.replace("line=23", "line=24"))
    page.says("nothing begins here; line 23", "[data-testid=statements]")
    page.driver.back()
    page.says("in the table of bw-core1: discard", "[data-testid=statements]")
    page.press("b")
    page.wait_for_verdicts("blocked", "discarded")

    # Star it, and add a revision in which it is mended.
    page.press("*")
    page.button("starred")
    page.press(*"3333")
    page.import_file(mended(tmp_path))
    page.find("[data-testid=understanding]")
    page.press("1")
    page.says("since revision 2; before, blocked, answer discarded", "[data-testid=asked-list]")

    # What changed: the flow, the model, the text; and where the ways part.
    page.press(*"33333")
    page.says("1 of 1 starred flow changed", "[data-testid=changes]")
    page.says("blocked, answer discarded", "[data-testid=changes]")
    page.says("bw-core1", "[data-testid=changes]")
    page.wait(lambda: page.all("[data-testid=text-difference] .cm-deletedChunk"))
    page.driver.find_element(By.LINK_TEXT, "side by side").click()
    page.says("they part at", "[data-testid=parting]")
    verdicts = [one.text for one in page.all("[data-testid=beside-forward] p:first-child")]
    assert ["blocked" in verdicts[0], "arrives" in verdicts[1]] == [True, True]

    # Find a device, and go to its table.
    page.press("k")
    page.press("oq-winch")
    page.wait(lambda: any("its table" in one.text for one in page.all("[role=option]")))
    page.press(Keys.ARROW_DOWN, Keys.ARROW_DOWN, Keys.ENTER)
    page.says("next hops")
    assert page.complaints() == []


def test_every_view_can_be_told_by_its_roles(saltmarsh):
    """What a screen reader announces: one main part, a navigation, names on all that can be used."""
    page = saltmarsh
    base = page.network_address()
    for view, ready in {
        "flow?from=ot-gates&to=bookings&on=booking": "[data-testid=answer]",
        "flow/beside?ask=ot-gates > bookings booking": "[data-testid=beside-forward]",
        "routes?to=10.40.201.0/24": "[data-testid=map]",
        "routes/table?device=bw-core1": "[aria-label=routes]",
        "routes/policies": "main",
        "model": "[data-testid=understanding]",
        "model/problems": "main li",
        "model/source": "[data-testid=statements]",
        "model/revisions": "main ol li",
        "model/changes": "main",
        "history": "[data-testid=event-files]",
        "expect": "[data-testid=expectations]",
    }.items():
        page.driver.get(f"{base}/{view}")
        page.find(ready)
        tree = page.driver.execute_cdp_cmd("Accessibility.getFullAXTree", {})["nodes"]
        roles = [
            (node["role"]["value"], node.get("name", {}).get("value", ""))
            for node in tree
            if not node.get("ignored") and node.get("role")
        ]
        assert sum(role == "main" for role, _ in roles) == 1, view
        assert ("navigation", "rooms") in roles, view
        usable = ("button", "link", "textbox", "combobox", "searchbox", "checkbox")
        nameless = [role for role, name in roles if role in usable and not name.strip()]
        assert nameless == [], view


@pytest.mark.parametrize(
    "view",
    [
        "flow?from=ot-tracking&to=bookings&on=tracking",
        "flow/beside?ask=ot-gates > bookings booking&ask=ot-tracking > bookings tracking",
        "routes?to=10.50.0.0/24&device=ot-core",
        "routes/table?device=bw-core1",
        "routes/policies?device=tq-border&policy=weather-by-south",
        "model",
        "model/problems",
        "model/source?file=devices/bw-core1.yaml&line=23",
        "model/revisions",
        "history",
        "expect",
    ],
)
def test_at_twice_the_size_nothing_is_out_of_reach(saltmarsh, view):
    """200 % of 1280x800: the page is not wider than its window, and what is larger scrolls."""
    page = saltmarsh
    base = page.network_address()
    size = {"width": 640, "height": 400, "deviceScaleFactor": 2, "mobile": False}
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    try:
        page.driver.get(f"{base}/{view}")
        page.wait(lambda: len(page.find("main").text) > 40)
        assert page.driver.execute_script("return document.documentElement.scrollWidth") <= 640
        beyond = page.driver.execute_script(
            """
            const scrolls = (e) => e && e !== document.body &&
              (["auto", "scroll"].includes(getComputedStyle(e).overflowX) || scrolls(e.parentElement));
            return [...document.querySelectorAll("main a, main button, main input, main select")]
              .filter((e) => e.getBoundingClientRect().right > 642 && !e.closest("svg") && !scrolls(e))
              .map((e) => e.outerHTML.slice(0, 120));
            """
        )
        assert beyond == []
    finally:
        size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
