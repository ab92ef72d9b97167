"""What surrounds the main job: members, revisions, themes, exports, finding things."""

import json
from xml.etree import ElementTree

import pytest
from django.contrib.auth import get_user_model
from django.test import Client
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from networks.models import Membership, Network, Role
from tests.browser.conftest import PASSWORD

pytestmark = pytest.mark.browser


def test_a_network_is_shared_and_a_reader_cannot_change_it(saltmarsh):
    page = saltmarsh
    get_user_model().objects.create_user("mate", password=PASSWORD)
    page.press(*"3333")
    page.find("input[aria-label='name of a user']").send_keys("nobody", Keys.ENTER)
    page.says("There is no user 'nobody'", "[role=alert]")
    box = page.find("input[aria-label='name of a user']")
    box.send_keys(Keys.CONTROL, "a")
    box.send_keys("mate", Keys.ENTER)
    page.find("select[aria-label='role of mate']")
    Select(page.find("select[aria-label='role of harbour']")).select_by_visible_text("reader")
    page.says("A network needs an owner", "[role=alert]")
    page.button("sign out").click()
    page.find("input[name=username]")
    page.sign_in("mate")
    page.wait(lambda: page.driver.find_elements(By.LINK_TEXT, "Saltmarsh Ferries"))
    assert not any("delete" in button.text for button in page.all("button"))
    page.driver.find_element(By.LINK_TEXT, "Saltmarsh Ferries").click()
    page.says("Does it get through")
    page.press(*"3333")
    page.says("Members")
    assert "Add a revision" not in page.text_of("main")
    assert not page.all("select")


def test_a_deleted_network_is_taken_back_or_goes_for_good_when_asked_twice(saltmarsh):
    page = saltmarsh
    page.open()
    page.button("delete").click()
    page.says("No network yet.")
    page.button("take back").click()
    page.wait(lambda: page.driver.find_elements(By.LINK_TEXT, "Saltmarsh Ferries"))
    page.button("delete").click()
    page.button("delete for good").click()
    page.button("with all revisions, for good?").click()
    page.wait(lambda: not Network.objects.exists())
    page.wait(lambda: "Deleted" not in page.find("main").text)


def test_a_list_is_shown_past_its_first_page(saltmarsh):
    page = saltmarsh
    owner = get_user_model().objects.get(username="harbour")
    for number in range(120):
        network = Network.objects.create(name=f"network {number}")
        Membership.objects.create(network=network, user=owner, role=Role.OWNER)
    page.open()
    page.wait(lambda: len(page.all("button[aria-label^='delete'], main li, main tr")) >= 121)
    assert all(f"network {number}" in page.text_of("main") for number in (0, 60, 119))


def test_light_and_dark_are_remembered(saltmarsh):
    page = saltmarsh
    theme = "return document.documentElement.dataset.theme"
    before = page.driver.execute_script(theme)
    page.press("d")
    after = page.driver.execute_script(theme)
    assert {before, after} == {"light", "dark"}
    page.driver.refresh()
    page.says("Does it get through")
    assert page.driver.execute_script(theme) == after
    page.driver.execute_script("localStorage.clear()")


def test_an_answer_is_copied_as_text_for_a_ticket(saltmarsh):
    page = saltmarsh
    page.driver.execute_script(
        "Object.defineProperty(navigator, 'clipboard', {value: {writeText: async (t) => { window.copied = t; }}})"
    )
    page.press("/")
    page.press("tq-office > resolver names", Keys.ENTER)
    page.wait_for_verdicts("arrives", "unrouted")
    page.press("c")
    copied = page.wait(lambda: page.driver.execute_script("return window.copied"))
    assert copied.startswith("tq-office > resolver udp/53\nSaltmarsh Ferries, as of ")
    assert "return: unrouted, 1 way" in copied
    assert "- {prefix: 10.40.129.0/24, next_hop: 203.0.113.1}" in copied
    assert copied.endswith(page.driver.current_url)


def test_tables_problems_and_the_map_are_saved_as_files(saltmarsh, tmp_path):
    page = saltmarsh
    page.driver.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(tmp_path)})

    def saved(name: str) -> str:
        return page.wait(lambda: (tmp_path / name).read_text() if (tmp_path / name).is_file() else None)

    page.find("[data-testid=map] svg")
    page.press("g")
    drawing = saved("Saltmarsh Ferries map.svg")
    assert 'xmlns="http://www.w3.org/2000/svg"' in drawing
    assert "bw-core1" in drawing
    assert "var(--" not in drawing
    page.press(*"33")
    page.says("Problems of the model")
    page.press("s")
    assert "shadowed,gp-core" in saved("problems.csv")
    page.press(*"22")
    page.says("next hops")
    page.wait(lambda: "0 of 0" not in page.text_of("main"))
    page.press("s")
    assert saved("bw-border table.csv").splitlines()[1].startswith("bw-border,0.0.0.0/0,static,1,0,203.0.113.2 by e2")


def test_problems_are_narrowed_and_lead_to_their_lines(saltmarsh):
    page = saltmarsh
    page.press(*"33")
    page.says("cannot become OSPF neighbours")
    page.button("5 warnings").click()
    page.wait(lambda: "cannot become" not in page.text_of("main"))
    page.find("[data-testid=source-link]").click()
    page.says("devices/", "[data-testid=source-file]")
    page.wait(lambda: page.all(".cm-chosen"))
    page.press("b")
    page.says("Problems of the model")


def test_a_suggestion_asks_at_once_and_the_way_back_is_the_browsers(saltmarsh):
    page = saltmarsh
    link = page.wait(lambda: page.driver.find_elements(By.PARTIAL_LINK_TEXT, " > "))[0]
    words = link.text.split()
    link.click()
    page.find("[data-testid=answer]")
    assert page.find("input[aria-label=from]").get_attribute("value") == words[0]
    page.driver.back()
    page.says("Does it get through")


def test_what_cannot_be_reached_is_told(page):
    page.sign_in("harbour")
    page.open("/networks/00000000-0000-0000-0000-000000000000/flow")
    page.says("This network cannot be shown.", "[role=alert]")
    page.open("/no/such/page")
    page.find("#networks-title")


def test_an_address_outside_needs_a_place_to_enter_by(saltmarsh):
    page = saltmarsh
    page.press("/")
    page.press("192.168.77.7 > ticket-shop shop", Keys.ENTER)
    page.says("say where it comes in", "[role=alert]")
    page.press("/")
    page.press("192.168.77.7 > ticket-shop shop by bw-border:e2", Keys.ENTER)
    page.wait(lambda: page.verdict("forward") == "arrives")
    assert page.find("input[aria-label=entering]").get_attribute("value") == "bw-border:e2"


def test_a_token_is_made_shown_once_and_taken_back(page):
    page.sign_in("harbour")
    page.driver.find_element(By.LINK_TEXT, "tokens for scripts").click()
    page.says("No token yet.")
    page.find("input[aria-label='what the token is for']").send_keys("nightly check", Keys.ENTER)
    token = page.text_of("[data-testid=new-token] code").removeprefix("Authorization: Token ")
    asked = Client(HTTP_AUTHORIZATION=f"Token {token}").get("/api/networks")
    assert asked.status_code == 200
    page.says("nightly check", "[data-testid=token]")
    page.driver.refresh()
    page.says("last used", "[data-testid=token]")
    assert not page.all("[data-testid=new-token]")
    page.button("take back").click()
    page.says("No token yet.")
    assert page.complaints() == []


ODD_NAMES = ["a\u00a0b", "<b>&amp;", 'quo"te', "var(--ink)", "]]>", "𝄞"]


def test_a_map_saved_as_svg_is_well_formed_whatever_a_name_holds(page, tmp_path):
    """The text that would be saved is taken where the browser is given it, and read as XML."""
    sites = {f"s{number}": {"label": name, "x": number / 10, "y": 0} for number, name in enumerate(ODD_NAMES)}
    devices = {f"r{number}": {"site": f"s{number}", "interfaces": {"e": {}}} for number in range(len(ODD_NAMES))}
    links = [{"ends": [f"r{number}:e" for number in range(len(ODD_NAMES))]}]
    path = tmp_path / "odd.json"
    document = {"routrel": 1, "name": "odd", "sites": sites, "devices": devices, "links": links}
    path.write_text(json.dumps(document))
    page.sign_in("harbour")
    page.import_network(path)
    page.wait(lambda: page.all("[data-testid=map] svg circle"), 60)
    page.driver.execute_script(
        "URL.createObjectURL = (blob) => { blob.text().then((text) => { window.saved = text; }); return '#'; }"
    )
    page.wait_for_no_focus()
    page.press("g")
    text = page.wait(lambda: page.driver.execute_script("return window.saved"))
    shown = "".join(ElementTree.fromstring(text).itertext())
    assert all(name in shown for name in ODD_NAMES if name in page.text_of("[data-testid=map]"))
    assert "var(--" not in text.replace("var(--ink)", "", 1)


def test_a_reader_leaves_a_network(saltmarsh):
    page = saltmarsh
    get_user_model().objects.create_user("mate", password=PASSWORD)
    page.press(*"3333")
    page.find("input[aria-label='name of a user']").send_keys("mate", Keys.ENTER)
    page.find("select[aria-label='role of mate']")
    page.button("sign out").click()
    page.find("input[name=username]")
    page.sign_in("mate")
    page.wait(lambda: page.driver.find_elements(By.LINK_TEXT, "Saltmarsh Ferries"))[0].click()
    page.says("Does it get through")
    page.press(*"3333")
    page.button("leave").click()
    page.button("leave this network?").click()
    page.says("No network yet.")
