"""Routes: every device's route to a prefix, why one stands, and where tables drift."""

import pytest
from selenium.webdriver.common.keys import Keys

pytestmark = pytest.mark.browser


def rows(page) -> list[str]:
    return [button.text for button in page.all("[data-testid=groups] ol button")]


def test_a_prefix_typed_shows_every_devices_route_and_why(saltmarsh):
    page = saltmarsh
    page.press("2")
    box = page.find("#destination")
    box.send_keys("10.40.201.0/24", Keys.ENTER)
    page.says("to oq-slip:e3")
    assert any(row.startswith("ot-core\nospf external type 2") for row in rows(page))
    page.wait(lambda: len(page.all("[data-testid=map] svg path")) > 10)
    page.button("ot-core").click()
    page.says("lost in round 1, preference by 10")
    page.says("preference of rip on ot-core, now 120: moves at 109 and below")
    assert "nf-core brings it in from outside" in page.text_of("[data-testid=contest]")
    # The answer is in the address: opened again, it is the same.
    address = page.driver.current_url
    page.driver.get(address)
    page.says("lost in round 1, preference by 10")
    assert page.complaints() == []


def test_a_group_is_looked_at_alone_on_the_map(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/routes?to=10.40.201.0/24")
    page.says("to oq-slip:e3")
    before = len(page.all("[data-testid=map] svg path"))
    page.button("no route").click()
    page.wait(lambda: len(page.all("[data-testid=map] svg path")) < before)


def test_an_absent_prefix_says_how_far_it_came(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/routes?to=10.50.0.0/24&device=ot-core")
    page.says("no route")
    page.says("ospf on bw-core2 (VRF ticketing) announces it")
    page.button("0.0.0.0/0").click()
    page.says("a static route to 10.40.255.1")


def test_what_cannot_be_asked_is_said(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/routes?to=10.40.201.1/24")
    page.says("has host bits set")


def test_a_table_leads_to_its_contests_vrfs_and_drift(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/table?device=tq-core")
    page.button("VRF ticketing").click()
    page.says("10.50.254.1 by e2.40 (bw-core2)")
    page.button("10.50.0.0/24").click()
    page.says("brings it into area 0.0.0.0 by e4.40")
    page.driver.get(f"{base}/table?device=lantern-depot")
    page.says("not observed")
    page.says("observed: metric 25")
    page.button("drift at 3").click()
    page.wait(lambda: "2 of 10 routes" in page.text_of("main"))
    assert "203.0.113.240/32" in page.text_of("[data-testid=drift-extra]")


def test_a_stop_of_a_walk_leads_to_the_contest_behind_its_route(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/flow?from=gp-gates&to=bookings&on=booking&at=gp-core")
    page.find("[data-testid=why-link]").click()
    page.says("side by side")
    assert "device=gp-core" in page.driver.current_url


def test_a_path_is_explained_and_each_sites_way_out_is_shown(saltmarsh):
    page = saltmarsh
    base = page.driver.current_url.split("?")[0].rsplit("/", 1)[0]
    page.driver.get(f"{base}/routes?to=172.22.40.0/24&device=bw-border")
    page.says("lost in round 1, router id — a tie that nobody chose")
    page.says("local preference of the path from 203.0.113.2 (lantern, AS 64501) on bw-border, now 100: moves at 101")
    page.says("bw-border e3 into AS 64502, bellbuoy", "[data-testid=exits]")
    page.driver.get(f"{base}/routes?to=172.22.40.0/24&device=tq-border")
    page.says("import policy weather-by-south rejects it")
    page.says("the best path of bw-border is that with AS path", "[data-testid=unsent]")
    assert page.complaints() == []


def test_every_view_is_in_the_palette(saltmarsh):
    page = saltmarsh
    page.press("k")
    page.find("[role=dialog] input").send_keys("polic")
    page.wait(lambda: [one.text for one in page.all("[role=option]") if "policies" in one.text])
    for _ in page.all("[role=option]"):
        if "policies" in page.text_of("[role=option][data-focus]"):
            break
        page.press(Keys.ARROW_DOWN)
    page.press(Keys.ENTER)
    page.wait(lambda: page.driver.current_url.endswith("/routes/policies"))
    page.find("input[placeholder='device or policy']")


def test_a_policy_shows_what_it_does_to_every_route(saltmarsh):
    page = saltmarsh
    page.press(*"222")
    page.press("/")
    page.find("input[placeholder='device or policy']").send_keys("weather")
    page.button("weather-by-south").click()
    page.says("120 routes, 32 accepted, 32 changed")
    page.button("no statement decides").click()
    page.says("172.21.32.0/24", "[data-testid=policy-routes]")
    assert "accepted" not in page.text_of("[data-testid=policy-routes]")
    page.find("[data-testid=policy-routes] a").click()
    page.says("import policy weather-by-south rejects it")
    assert page.complaints() == []


def test_rooms_are_entered_and_stepped_through_by_one_key(saltmarsh):
    page = saltmarsh
    base = page.network_address()
    rooms = page.text_of("nav[aria-label=rooms]")
    assert [room in rooms for room in ("Flow", "Routes", "Model")] == [True] * 3
    for keys, path in (("2", "/routes"), ("2", "/routes/table"), ("33", "/model/problems"), ("1", "/flow")):
        page.press(*keys)
        page.wait(lambda path=path: page.driver.current_url == base + path)
    assert page.complaints() == []


def test_an_old_address_leads_on(saltmarsh):
    page = saltmarsh
    base = page.network_address()
    page.driver.get(f"{base}/table?device=bw-core1")
    page.wait(lambda: page.driver.current_url == f"{base}/routes/table?device=bw-core1")
    page.says("10.40.51.128/25")
    page.driver.get(f"{base}/model/expected?failures=none")
    page.wait(lambda: page.driver.current_url == f"{base}/expect?failures=none")


def test_a_network_begins_with_what_was_understood(saltmarsh):
    page = saltmarsh
    page.press("3")
    page.says("41 devices at 7 sites, 48 links", "[data-testid=understanding]")
    text = page.text_of("[data-testid=understanding]")
    assert "2026-11-20 06:00 UTC" in text and "days ago" in text
    assert "BGP neighbour 203.0.113.130 of AS 64505" in text
    page.driver.find_element("link text", "devices/bw-border.yaml:33").click()
    page.says("203.0.113.130", "[data-testid=source-file] ~ *, main")


def test_times_are_shown_in_the_zone_of_the_browser_by_one_key(saltmarsh):
    page = saltmarsh
    page.driver.execute_cdp_cmd("Emulation.setTimezoneOverride", {"timezoneId": "Asia/Kolkata"})
    page.press("3")
    page.says("2026-11-20 06:00 UTC")
    page.press("z")
    page.says("2026-11-20 11:30 +05:30")
    page.press("z")
    page.says("2026-11-20 06:00 UTC")
    page.driver.execute_cdp_cmd("Emulation.setTimezoneOverride", {"timezoneId": ""})
