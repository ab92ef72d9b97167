"""The main job through the real interface: import, ask, read the cause, swap, follow it to its source line."""

import shutil
from pathlib import Path

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import EXAMPLE

pytestmark = pytest.mark.browser


def test_sign_in_is_refused_and_then_granted(page):
    page.open()
    page.find("input[name=username]").send_keys("harbour")
    page.find("input[name=password]").send_keys("wrong", Keys.ENTER)
    page.says("do not belong together", "[role=alert]")
    page.sign_in("harbour")
    page.says("No network yet.")


def test_from_import_to_the_line_that_blocks(saltmarsh):
    page = saltmarsh
    assert page.text_of("[data-testid=network-name]") == "Saltmarsh Ferries"
    page.choose_word("from", "ot-tracking")
    page.choose_word("to", "bookings")
    page.choose_word("on", "tracking")
    page.wait_for_verdicts("blocked", "discarded")
    assert "2 ways" in page.text_of("[data-testid=verdict-forward]")
    cause = page.text_of("[data-testid=cause-forward]")
    assert "no entry of ACL booking matches" in cause
    assert "entry 3 fits but for its protocol: udp, not tcp" in cause
    assert "protocol: tcp, source: 10.40.51.0/24" in cause

    # The evidence of the stop, and from there the exact line of the source.
    page.find("[data-testid=stop-bw-core2]").click()
    page.says("the closing drop decides", "[data-testid=evidence]")
    page.find("[data-testid=cause-forward] [data-testid=source-link]").click()
    page.wait(lambda: page.find("[data-testid=source-text]").get_attribute("data-line"))
    file, line = page.text_of("[data-testid=source-file]").split(":")
    assert file.startswith("devices/bw-core")
    chosen = page.find(".cm-chosen").text
    assert "booking" in chosen
    assert int(line) > 20

    # Back, and the ends swapped by one key; the URL alone opens the same answer.
    page.button("back").click()
    page.wait_for_verdicts("blocked", "discarded")
    page.press("x")
    page.wait_for_verdicts("discarded", "blocked")
    assert "from=bookings" in page.driver.current_url
    page.driver.refresh()
    page.wait_for_verdicts("discarded", "blocked")
    assert page.find("input[aria-label=from]").get_attribute("value") == "bookings"
    assert page.complaints() == []


def test_a_repair_is_seen_in_the_next_revision(saltmarsh, tmp_path):
    """Fix the cause, upload, ask again: the fault is gone and the former revision can still be asked."""
    page = saltmarsh
    folder = tmp_path / "mended"
    shutil.copytree(EXAMPLE, folder)
    lantern = folder / "devices" / "lantern.yaml"
    lantern.write_text(lantern.read_text().replace("10.40.0.0/17", "10.40.0.0/16"))
    page.press("/")
    page.press("tq-office > resolver names", Keys.ENTER)
    page.wait_for_verdicts("arrives", "unrouted")
    assert "{prefix: 10.40.129.0/24, next_hop: 203.0.113.1}" in page.text_of("[data-testid=cause-return]")
    page.press(*"3333")
    page.says("Add a revision")
    page.import_network(Path(shutil.make_archive(str(tmp_path / "mended"), "zip", folder)))
    page.says("Does it get through")
    page.press("/")
    page.press("tq-office > resolver names", Keys.ENTER)
    page.wait_for_verdicts("arrives", "arrives")
    page.wait_for_no_focus()
    page.press("a")
    page.wait(lambda: len(page.all("[role=option]")) == 2)
    page.press(Keys.ARROW_DOWN, Keys.ENTER)
    page.wait(lambda: "revision=1" in page.driver.current_url)
    page.wait_for_verdicts("arrives", "unrouted")
    page.says("revision 1, not the latest")


def test_errors_of_an_import_stand_in_their_places(page, tmp_path):
    page.sign_in("harbour")
    page.find("textarea[name=text]").send_keys("routrel: 1\nname: x\ndevices:\nr1: {kind: rooter}\n")
    page.button("import").click()
    page.says("nothing was stored", "[role=alert]")
    page.says("network.yaml:4:1", "[role=alert]")
    assert page.find(".cm-wrong").text.startswith("r1")
    bomb = tmp_path / "empty.zip"
    bomb.write_bytes(b"PK\x03\x04")
    page.find("input[type=file]").send_keys(str(bomb))
    page.button("import").click()
    page.says("cannot be read", "[role=alert]")


def test_everything_by_keyboard_alone(saltmarsh):
    page = saltmarsh
    page.press("f")
    page.press("control-room")
    page.wait(lambda: any("control-room" in o.text for o in page.all("[role=option]")))
    page.press(Keys.ENTER)
    page.wait(lambda: "from=control-room" in page.driver.current_url)
    page.wait_for_no_focus()
    page.press("o")
    page.press("tcp/22", Keys.ESCAPE)
    page.wait_for_no_focus()
    assert "tcp" not in page.driver.current_url, "what was typed and left is not asked"
    page.press("t")
    page.press("10.40.48.10", Keys.ENTER)
    page.wait(lambda: "to=10.40.48.10" in page.driver.current_url)
    page.wait_for_verdicts("arrives", "arrives")
    page.wait_for_no_focus()
    before = page.find("[aria-pressed=true][data-testid^=stop]").text
    page.press("u")
    page.wait(lambda: page.find("[aria-pressed=true][data-testid^=stop]").text != before)
    page.press(*"33")
    page.says("Problems of the model")
    page.press("k")
    page.find("[role=dialog] input").send_keys("bw-fw")
    offered: list[str] = []
    page.wait(
        lambda: (
            offered.clear() or offered.extend(o.text for o in page.all("[role=option]")) or "its table" in str(offered)
        )
    )
    for _ in range(next(at for at, text in enumerate(offered, 1) if "its table" in text)):
        page.press(Keys.ARROW_DOWN)
    focused = page.text_of("[role=option][data-focus]")
    page.press(Keys.ENTER)
    page.wait(lambda: "device=bw-fw" in page.driver.current_url or "bw-fw" in focused)


def test_a_word_that_names_nothing_says_so(saltmarsh):
    page = saltmarsh
    page.press("/")
    page.press("gp-kiosc > bookings tcp/5432", Keys.ENTER)
    page.says("did you mean gp-kiosk?", "[role=alert]")
    page.press("/")
    page.press("gp-kiosk bookings", Keys.ENTER)
    page.says("Write it as", "[role=alert]")


def test_selecting_on_the_map_selects_in_the_ladder(saltmarsh):
    page = saltmarsh
    page.press("/")
    page.press("gp-gates > bookings booking", Keys.ENTER)
    page.wait_for_verdicts("arrives", "arrives")
    assert "1400" in page.text_of("[data-testid=verdict-forward]")
    mark = page.find("[data-testid=map] [aria-label='router nf-radio']")
    page.driver.execute_script("arguments[0].dispatchEvent(new MouseEvent('click', {bubbles: true}))", mark)
    page.wait(lambda: page.find("[data-testid=stop-nf-radio]").get_attribute("aria-pressed") == "true")
    assert "at=nf-radio" in page.driver.current_url


def test_the_table_of_a_device_is_filtered(saltmarsh):
    page = saltmarsh
    page.press(*"22")
    page.find("input[aria-label='filter the table']").send_keys("inter-nothing")
    page.says("0 of")
    box = page.find("input[aria-label='filter the table']")
    box.send_keys(Keys.CONTROL, "a")
    box.send_keys("0.0.0.0/0")
    page.says("1 of")


def test_text_of_a_network_never_runs(page):
    page.sign_in("harbour")
    name = "<img src=x onerror=window.hacked=1>"
    text = f"routrel: 1\nname: '{name}'\ndevices: {{r1: {{interfaces: {{e1: {{description: '{name}', addresses: [10.0.0.1/24]}}}}}}}}"
    page.driver.execute_script(
        "const t=document.querySelector('textarea');"
        "Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype,'value').set.call(t, arguments[0]);"
        "t.dispatchEvent(new Event('input',{bubbles:true}))",
        text,
    )
    page.button("import").click()
    page.wait(lambda: page.text_of("[data-testid=network-name]") == name)
    assert page.driver.execute_script("return window.hacked") is None


def test_a_range_of_ports_is_shown_part_by_part_and_each_can_be_asked(page):
    page.sign_in("harbour")
    page.import_network(Path(__file__).parents[1] / "faults" / "networks" / "port-range.yaml")
    page.says("Does it get through")
    page.press("/")
    page.press("h1 > h2 udp/16384-32767", Keys.ENTER)
    page.wait_for_verdicts("mixed", "arrives")
    parts = page.text_of("[data-testid=port-parts]")
    assert "16384" in parts and "16385-32767" in parts and "the closing drop" in parts
    page.button("16385-32767").click()
    page.wait_for_verdicts("blocked", "arrives")
    assert not page.all("[data-testid=port-parts]")


def test_what_is_not_sure_stands_above_the_answer(page):
    page.sign_in("harbour")
    page.import_network(Path(__file__).parents[1] / "faults" / "networks" / "ospf-router-id-twice.yaml")
    page.says("Does it get through")
    page.press("/")
    page.press("b > c", Keys.ENTER)
    page.says("have the same OSPF router id 9.9.9.9", "[data-testid=doubt]")


def test_what_was_asked_before_is_the_record_of_the_repair(saltmarsh, tmp_path):
    page = saltmarsh
    page.press("/")
    page.press("gp-gates > bookings booking", Keys.ENTER)
    page.wait_for_verdicts("arrives", "arrives")
    page.wait_for_no_focus()
    page.button("star")
    page.press("*")
    page.button("starred")
    folder = tmp_path / "broken"
    shutil.copytree(EXAMPLE, folder)
    core = folder / "devices" / "bw-core1.yaml"
    core.write_text(core.read_text().replace("[5432]", "[5433]"))
    page.press(*"3333")
    page.import_network(Path(shutil.make_archive(str(tmp_path / "broken"), "zip", folder)))
    page.says("since revision 2; before, arrives", "[data-testid=asked-list]")
    page.driver.find_element("partial link text", "gp-gates > bookings").click()
    page.wait_for_verdicts("blocked", "arrives")
    page.says("revision 1", "[data-testid=asked-before]")
    page.driver.find_element("link text", "revision 1").click()
    page.wait_for_verdicts("arrives", "arrives")
    page.says("revision 1, not the latest")
    page.press(*"11")
    page.find("button[aria-label='forget gp-gates > bookings booking']").click()
    page.wait(lambda: not page.all("[data-testid=asked-list]"))
    assert page.complaints() == []
