"""A headless Chromium on the real interface, served by the real server."""

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.db import connection
from django.test import Client
from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException, TimeoutException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from work.service import pool

EXAMPLE = Path(__file__).parents[2] / "examples" / "saltmarsh"
PASSWORD = "gangway and gangplank"
ARGUMENTS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
)
IGNORED_LOGS = ("favicon", "the server responded with a status of 400")


class Page:
    """What a person does with the interface, in their words."""

    def __init__(self, driver: webdriver.Chrome, address: str):
        self.driver = driver
        self.address = address

    def wait(self, until, seconds: int = 30):
        # The page is drawn anew while we look: an element that has just gone is looked for again.
        patient = WebDriverWait(self.driver, seconds, 0.1, [StaleElementReferenceException])
        try:
            return patient.until(lambda _: until())
        except TimeoutException as error:
            shown = self.driver.find_element(By.TAG_NAME, "body").text
            raise AssertionError(f"{self.driver.current_url} says:\n{shown}") from error

    def find(self, selector: str):
        return self.wait(lambda: next(iter(self.all(selector)), None))

    def all(self, selector: str):
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def text_of(self, selector: str) -> str:
        return self.wait(lambda: [one.text for one in self.all(selector)[:1]])[0]

    def says(self, text: str, selector: str = "body"):
        return self.wait(lambda: text in self.find(selector).text)

    def press(self, *keys: str) -> None:
        self.driver.switch_to.active_element.send_keys(*keys)

    def button(self, text: str):
        return self.wait(lambda: next((b for b in self.all("button") if b.text.startswith(text)), None))

    def open(self, path: str = "/") -> None:
        self.driver.get(self.address + path)

    def network_address(self) -> str:
        """The address of the network that is shown, without the view."""
        return "/".join(self.driver.current_url.split("/")[:5])

    def sign_in(self, name: str) -> None:
        self.open()
        self.find("input[name=username]").send_keys(name)
        self.find("input[name=password]").send_keys(PASSWORD, Keys.ENTER)
        self.find("#networks-title")

    def import_file(self, path: Path) -> None:
        self.find("input[type=file]").send_keys(str(path))
        self.button("import").click()

    def import_network(self, path: Path) -> None:
        """Import a file, and go on from what was understood to the question."""
        self.import_file(path)
        self.find("[data-testid=understanding]")
        self.press("1")

    def wait_for_no_focus(self) -> None:
        """Until no word is being edited, so that single keys act."""
        self.wait(lambda: self.driver.execute_script("return document.activeElement === document.body"))

    def verdict(self, direction: str) -> str:
        return self.find(f"[data-testid=verdict-{direction}]").get_attribute("data-verdict")

    def wait_for_verdicts(self, forward: str, back: str) -> None:
        self.wait(lambda: (self.verdict("forward"), self.verdict("return")) == (forward, back))

    def choose_word(self, label: str, word: str) -> None:
        """Type a word of the sentence and take the first completion."""
        box = self.find(f"input[aria-label='{label}']")
        box.click()
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(word)
        self.wait(lambda: any(o.text.split()[0] == word for o in self.all("[role=option]") if o.text))
        box.send_keys(Keys.ENTER)

    def complaints(self) -> list[str]:
        """What the browser's console said that it should not have."""
        logs = self.driver.get_log("browser")
        return [log["message"] for log in logs if not any(part in log["message"] for part in IGNORED_LOGS)]


@pytest.fixture(scope="session")
def django_db_modify_db_settings(django_db_modify_db_settings_parallel_suffix):
    """No connection outlives its request, so that the test database can be dropped at the end."""
    from django.conf import settings

    settings.DATABASES["default"]["CONN_MAX_AGE"] = 0


@pytest.fixture(scope="session")
def driver():
    options = webdriver.ChromeOptions()
    for argument in ARGUMENTS:
        options.add_argument(argument)
    options.binary_location = shutil.which("chromium") or "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    service = webdriver.ChromeService(shutil.which("chromedriver") or "/usr/bin/chromedriver")
    made = webdriver.Chrome(options=options, service=service)
    made.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    yield made
    made.quit()


@pytest.fixture
def page(driver, live_server, settings, transactional_db):
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    cache.clear()  # sign-ins are counted there, and each test signs in
    get_user_model().objects.create_user("harbour", password=PASSWORD)
    driver.delete_all_cookies()
    made = Page(driver, live_server.url)
    made.complaints()
    yield made
    # Let requests under way end before the database is emptied: what is answered later takes the next session along.
    driver.get("about:blank")
    made.wait(lambda: not any(one.is_busy for one in pool._processes if one is not None))
    time.sleep(0.2)


@pytest.fixture
def worker(page, tmp_path):
    """A worker on the test's database, as the start command runs it."""
    about = connection.settings_dict
    described = tmp_path / "database.json"
    keys = {"host": "HOST", "port": "PORT", "name": "NAME", "user": "USER", "password": "PASSWORD"}
    described.write_text(json.dumps({key: about[name] for key, name in keys.items()}))
    environment = {**os.environ, "ROUTREL_DATABASE": str(described)}
    manage = Path(__file__).parents[2] / "server" / "manage.py"
    running = subprocess.Popen([sys.executable, str(manage), "worker"], env=environment)
    yield running
    page.driver.get("about:blank")
    running.terminate()
    running.wait(30)


@pytest.fixture
def saltmarsh(page, tmp_path) -> Page:
    """Signed in, with the demo network imported, at the question that follows."""
    return imported(page, Path(shutil.make_archive(str(tmp_path / "saltmarsh"), "zip", EXAMPLE)))


def imported(page: Page, archive: Path) -> Page:
    """Signed in, with a network imported, at the question that follows: without the screens that lead there."""
    client = Client()
    client.force_login(get_user_model().objects.get(username="harbour"))
    with archive.open("rb") as file:
        made = client.post("/api/networks", {"file": file})
    assert made.status_code == 201, made.content
    page.open("/api/health")  # cookies are taken away and set at a page of their site; this one asks for nothing more
    page.driver.delete_all_cookies()
    page.driver.add_cookie({"name": "sessionid", "value": client.cookies["sessionid"].value})
    page.open(f"/networks/{made.json()['id']}/flow")
    page.says("Does it get through")
    return page
