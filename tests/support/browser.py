"""A real browser against a real server, both in this process's care."""

import atexit
import json
import os
import shutil
import threading
import time
from functools import cache
from pathlib import Path
from typing import Any

import uvicorn
from selenium import webdriver
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    ElementNotInteractableException,
    NoSuchElementException,
    StaleElementReferenceException,
    TimeoutException,
    WebDriverException,
)
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import Select, WebDriverWait

from tests.support.house import PASSWORD
from tests.support.site import application

AXE = (Path(__file__).parents[1] / "browser" / "axe.min.js").read_text()
FLAGS = (
    "--headless=new --no-sandbox --disable-dev-shm-usage --disable-gpu --window-size=1280,800 --hide-scrollbars "
    "--force-device-scale-factor=1 --font-render-hinting=none --no-first-run "
    "--disable-background-networking --disable-component-update"
)

# The first element one can see whose words, or whose name for screen readers, hold these words.
_FIND = """
const there = (element) => element.checkVisibility() || element.matches(".formula.edited textarea");
return [...document.querySelectorAll(arguments[0])].find((element) => there(element)
  && ((element.innerText ?? element.textContent).includes(arguments[1]) || (element.getAttribute("aria-label") || "").includes(arguments[1]))) || null;
"""

_TOO_WIDE = """
const width = document.documentElement.clientWidth;
if (document.documentElement.scrollWidth <= width) return [];
return ["page", ...[...document.querySelectorAll("body *")].filter((element) => element.getBoundingClientRect().right > width)
  .map((element) => element.outerHTML.slice(0, 120))];
"""


@cache
def address() -> str:
    """Where the server of this process is; it is started at the first call."""
    config = uvicorn.Config(application(), host="127.0.0.1", port=0, log_level="error", lifespan="on")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)

    def stop() -> None:
        server.should_exit = True
        thread.join(5)

    atexit.register(stop)
    return f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}"


@cache
def driver() -> webdriver.Chrome:
    """The browser of this process."""
    os.environ["LANGUAGE"] = "en_US"  # decides in which order a date is typed
    options = webdriver.ChromeOptions()
    for flag in FLAGS.split():
        options.add_argument(flag)
    options.binary_location = shutil.which("chromium-headless-shell") or "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    chrome = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    atexit.register(chrome.quit)
    return chrome


class Page:
    """What a person can do with a page: look, press, type, by real events only."""

    def __init__(self) -> None:
        self.clicks = 0
        """How many times something was pressed or chosen: what a person would count."""
        self.driver = driver()
        self.driver.delete_all_cookies()
        self.resize(1280, 800)

    def resize(self, width: int, height: int) -> None:
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)

    def open(self, path: str) -> None:
        self.driver.get(path if path.startswith("http") else address() + path)

    def sign_in(self, email: str) -> None:
        """Sign in as a member of staff of a test's house, as far as the bench."""
        self.open("/sign-in")
        self.fill("#email", email)
        self.fill("#password", PASSWORD + Keys.ENTER)
        self.until_text("h1", "Bench")

    def all(self, css: str) -> list[WebElement]:
        return self.driver.find_elements(By.CSS_SELECTOR, css)

    def one(self, css: str) -> WebElement:
        """The one element that can be seen; waited for."""
        return self.wait(lambda: self.driver.execute_script(_FIND, css, ""), css)

    def wait(self, ready: Any, what: str, seconds: float = 10) -> Any:
        def look(_driver: object) -> Any:
            try:
                return ready()
            except (StaleElementReferenceException, NoSuchElementException, IndexError):
                return None
            except (ElementNotInteractableException, ElementClickInterceptedException):
                return None  # the page is still moving: as a person would, look again
            except WebDriverException as problem:
                if "does not belong to the document" in str(problem):
                    return None  # stale by another name
                raise

        try:
            return WebDriverWait(self.driver, seconds, 0.05).until(look)
        except TimeoutException:
            raise AssertionError(
                f"never came: {what}\n{self.driver.current_url}\n{self._text('body')[:2500]}"
            ) from None

    def text(self, css: str) -> str:
        """The words of an element; waited for, since a part of the page may just be on its way anew."""
        words: tuple[str] = self.wait(lambda: (self._text(css),), css)
        return words[0]

    def _text(self, css: str) -> str:
        return self.driver.find_element(By.CSS_SELECTOR, css).text

    def until_text(self, css: str, words: str) -> None:
        """Wait until the words can be read there."""
        self.wait(lambda: words in self._text(css), f"“{words}” in {css}")

    def press(self, words: str, css: str = "a, button") -> None:
        """Press the link or button with these words."""

        self._settle()

        def pressed() -> bool:
            found = self.driver.execute_script(_FIND, css, words)
            if found is not None:
                # The driver takes what lies under the band for being in view.
                self.driver.execute_script("arguments[0].scrollIntoView({block: 'nearest'})", found)
                found.click()
            return found is not None

        self.wait(pressed, f"{css} “{words}”")
        self.clicks += 1

    def fill(self, css: str, text: str) -> None:
        """Put a text into an input, in place of what is there."""

        self._settle()

        def filled() -> bool:
            box = self.driver.execute_script(_FIND, css, "")
            if box is not None:
                box = self._typed_into(box)
                box.click()
                box.send_keys(Keys.CONTROL, "a")
                box.send_keys(Keys.DELETE)
                box.send_keys(text)
            return box is not None

        self.wait(filled, css)

    def editor(self, css: str) -> WebElement:
        """What a formula is typed into: the editor that stands in the place of its textarea."""
        return self._typed_into(self.one(css))

    def _typed_into(self, box: WebElement) -> WebElement:
        found: WebElement | None = self.driver.execute_script(
            "return arguments[0].closest('.formula.edited')?.querySelector('.cm-content')", box
        )
        return found or box

    def _settle(self) -> None:
        """Wait, as a person would, while a part of the page is still on its way."""
        still = "return document.querySelector('.htmx-request') === null"
        self.wait(lambda: self.driver.execute_script(still), "all that was asked for")

    def choose(self, css: str, label: str) -> None:
        self._settle()
        self.wait(lambda: Select(self.one(css)).select_by_visible_text(label) is None, f"{label} in {css}")
        self.clicks += 1

    def keys(self, *keys: str) -> None:
        if keys == (Keys.TAB,):
            # As the driver's own, which waits for a frame to be drawn after each: too long to walk a page by.
            for kind in ("rawKeyDown", "keyUp"):
                tab = {"type": kind, "key": "Tab", "code": "Tab", "windowsVirtualKeyCode": 9}
                self.driver.execute_cdp_cmd("Input.dispatchKeyEvent", tab)
            return
        if len(keys) == 1 and len(keys[0]) > 1:
            self.driver.switch_to.active_element.send_keys(keys[0])
            return
        webdriver.ActionChains(self.driver).send_keys(*keys).perform()

    def drag(self, css: str, onto: str) -> None:
        """Drag one thing onto another by mouse."""
        source, target = self.one(css), self.one(onto)
        down = target.rect["y"] - source.rect["y"]
        chain = webdriver.ActionChains(self.driver, duration=40).click_and_hold(source).pause(0.15)
        for _ in range(10):
            chain.move_by_offset(0, round(down / 10)).pause(0.03)
        chain.pause(0.25).release().perform()

    def violations(self) -> list[str]:
        """What axe finds wrong with the page, in a line each."""
        self.driver.execute_script(AXE)
        script = "const done = arguments[0]; axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']}).then(r => done(JSON.stringify(r.violations)))"
        found = json.loads(self.driver.execute_async_script(script))
        return [f"{rule['id']}: {rule['help']}: {[node['html'][:160] for node in rule['nodes']][:3]}" for rule in found]

    def complaints(self) -> list[str]:
        """What the browser's console says: broken policies, failed scripts; refused forms are no complaint."""
        return [
            entry["message"]
            for entry in self.driver.get_log("browser")
            if entry["level"] in ("SEVERE", "WARNING")
            and "status of 422" not in entry["message"]
            and "status of 409" not in entry["message"]
        ]

    def overflows(self) -> list[str]:
        """What makes the page so wide that it has to be scrolled sideways."""
        return list(self.driver.execute_script(_TOO_WIDE))
