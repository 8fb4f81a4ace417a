"""Page objects: what a person does, in their verbs. Nothing here asserts; stories do."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from selenium.common.exceptions import (
    ElementClickInterceptedException,
    ElementNotInteractableException,
    NoSuchElementException,
    StaleElementReferenceException,
)
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

WAIT_S = 45  # a busy machine; what is there sooner is seen sooner

_R = TypeVar("_R")
# A page that is drawn anew may take an element away, or lay another over it, between seeing and pressing.
_SLIPPED = (
    StaleElementReferenceException,
    NoSuchElementException,
    ElementClickInterceptedException,
    ElementNotInteractableException,
)


class Seen:
    """Something visible by its mark; looked for anew with each use, as pages are drawn anew while a person looks."""

    def __init__(self, person: Person, name: str) -> None:
        self._person = person
        self._name = name

    def _use(self, act: Callable[[WebElement], _R]) -> _R:
        found: list[_R] = []

        def used() -> bool:
            found.append(act(self._person.visible(self._name)))
            return True

        self._person.wait(used, f"never saw {self._name}")
        return found[-1]

    def click(self) -> None:
        self._use(lambda one: one.click())

    def send_keys(self, *keys: str) -> None:
        self._use(lambda one: one.send_keys(*keys))

    def get_attribute(self, name: str) -> str | None:
        return self._use(lambda one: one.get_attribute(name))

    def find_element(self, by: str, value: str) -> WebElement:
        return self._use(lambda one: one.find_element(by, value))

    def find_elements(self, by: str, value: str) -> list[WebElement]:
        return self._use(lambda one: one.find_elements(by, value))

    def is_displayed(self) -> bool:
        return self._use(lambda one: one.is_displayed())

    def is_enabled(self) -> bool:
        return self._use(lambda one: one.is_enabled())

    def reach(self) -> None:
        """Press it, wherever on the page it lies."""

        def press(one: WebElement) -> None:
            self._person.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", one)
            one.click()

        self._use(press)

    @property
    def text(self) -> str:
        return self._use(lambda one: one.text)

    @property
    def element(self) -> WebElement:
        """The element as it is now, for a script."""
        return self._use(lambda one: one)


class Person:
    """Somebody at the browser."""

    def __init__(self, driver: WebDriver, address: str) -> None:
        self.driver = driver
        self.address = address.rstrip("/")

    def wait(self, condition, message: str = ""):  # type: ignore[no-untyped-def]
        return WebDriverWait(self.driver, WAIT_S, 0.05, _SLIPPED).until(lambda _: condition(), message)

    def visible(self, name: str) -> WebElement:
        """The first visible element with this mark, now, on a page whose scripts run. Raises NoSuchElementException."""
        for one in self.driver.find_elements(By.CSS_SELECTOR, f'[data-alive] [data-test="{name}"]'):
            if one.is_displayed():
                return one
        raise NoSuchElementException(name)

    def see(self, name: str) -> Seen:
        """What carries this mark, once it is visible."""
        self.wait(lambda: self.visible(name), f"never saw {name}")
        return Seen(self, name)

    def looks_ready(self, name: str) -> bool:
        """Whether a button is filled; what still waits for something has a dashed line."""
        return self.see(name).element.value_of_css_property("border-top-style") != "dashed"

    def sees_text(self, text: str) -> bool:
        return bool(self.wait(lambda: text in self.driver.find_element(By.TAG_NAME, "body").text, f"never read {text}"))

    def go(self, path: str) -> None:
        self.driver.get(self.address + path)

    def confirm(self, password: str) -> None:
        """Prove who this is from the line above what the gate keeps; the page comes back."""
        self.see("confirm-first").find_element(By.TAG_NAME, "a").click()
        self.driver.find_element(By.NAME, "proof").send_keys(password + Keys.ENTER)
        self.wait(lambda: not self.driver.find_elements(By.NAME, "proof"), "the gate stayed shut")

    def sign_in(self, name: str = "maren", password: str = "gorse-and-gannet") -> None:
        self.go("/sign-in")
        self.driver.find_element(By.NAME, "name").send_keys(name)
        self.driver.find_element(By.NAME, "password").send_keys(password + Keys.ENTER)

    def open_site(self, name: str) -> None:
        self.go("/sites")
        rows = self.driver.find_elements(By.CSS_SELECTOR, '[data-test="site"] h3 a')
        next(row for row in rows if row.text == name).click()

    def forget_identity(self, host: str) -> None:
        self.go("/identities")
        rows = self.driver.find_elements(By.CSS_SELECTOR, '[data-test="identity"]')
        row = next(one for one in rows if host in one.text)
        row.find_element(By.CSS_SELECTOR, '[data-test="forget-identity"]').click()
        self.sees_text("No identity of this server is trusted")

    def trust(self) -> None:
        self.see("meeting")
        self.see("trust").click()

    def keys(self, *keys: str, holding: str = "") -> None:
        """Type where the focus is, perhaps while another key is held."""
        chain = ActionChains(self.driver)
        if holding:
            chain.key_down(holding)
        chain.send_keys(*keys)
        if holding:
            chain.key_up(holding)
        chain.perform()


class Adding(Person):
    """The page that adds a site."""

    def paste(self, text: str) -> None:
        """Paste a letter and wait until it was read."""
        self.go("/sites/add")
        letter = self.see("letter").element
        self.driver.execute_script(
            "arguments[0].value = arguments[1]; arguments[0].dispatchEvent(new Event('input'))", letter, text
        )
        self.see("marked")

    def field(self, name: str) -> str:
        return str(
            self.driver.find_element(By.CSS_SELECTOR, f'[data-site-form] [name="{name}"]').get_attribute("value")
        )

    def fill(self, name: str, text: str) -> None:
        box = self.driver.find_element(By.CSS_SELECTOR, f'[data-site-form] [name="{name}"]')
        box.clear()
        box.send_keys(text)

    def attempt(self) -> None:
        """Try the connection: press until it is under way, as a page that is still being laid out may slip away."""

        def under_way() -> bool:
            if self.driver.find_elements(By.CSS_SELECTOR, ".step.running, .step.good, .step.bad, .step.ask"):
                return True
            self.see("try").reach()
            return False

        self.driver.execute_script("document.querySelectorAll('.step').forEach((one) => { one.className = 'step'; })")
        self.wait(under_way, "the trial never began")

    def reach(self, element: WebElement) -> None:
        """Press something that may lie below the fold."""
        self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
        element.click()

    def fix(self, words: str) -> None:
        """Press the fix that says so."""

        def press() -> bool:
            buttons = self.driver.find_elements(By.CSS_SELECTOR, '[data-test="fix"]')
            fitting = [one for one in buttons if words in one.text]
            if fitting:
                self.reach(fitting[0])
            return bool(fitting)

        self.wait(press, f"no fix says {words}")

    def trust_shown(self) -> None:
        self.see("trust").reach()

    def step(self, name: str) -> str:
        """How a step stands: `good`, `warn`, `bad`, `ask`, or nothing."""
        look = self.driver.find_element(By.CSS_SELECTOR, f'[data-step="{name}"]').get_attribute("class") or ""
        return look.removeprefix("step").strip()


class Files(Person):
    """The files view."""

    def row(self, name: str) -> WebElement:
        return self.wait(
            lambda: next(iter(self.driver.find_elements(By.CSS_SELECTOR, f'tr[data-name="{name}"]')), None),
            f"never saw the row {name}",
        )

    def joint(self, name: str) -> str:
        """How a name stands, even while rows are being drawn anew."""

        def label() -> str:
            return self.row(name).find_element(By.CSS_SELECTOR, "svg.joint").get_attribute("aria-label") or ""

        return str(self.wait(label, f"{name} has no joint")).removesuffix(", guessed")

    def becomes(self, name: str, joint: str) -> bool:
        return bool(self.wait(lambda: self.joint(name) == joint, f"{name} never became {joint}"))

    def names(self) -> list[str]:
        script = (
            "return [...document.querySelectorAll('[data-test=rows] tr[data-name]')].map((row) => row.dataset.name)"
        )
        return list(self.driver.execute_script(script))

    def read_site(self) -> None:
        """On the page of checks, with what a reading of the site has found."""
        self.go("/sites/1/checks")
        self.see("overview")
        if not self.driver.find_elements(By.CSS_SELECTOR, '[data-test="read-again"]'):
            self.see("read").click()
        self.see("read-again")
        self.see("room")

    def pick(self, *names: str) -> None:
        self.press(names[0], ".j")
        for name in names[1:]:
            self.press(name, ".pick")
        self.wait(lambda: self.picked() == set(names), f"never picked {names}")
        self.wait(
            lambda: str(len(names)) in self.see("inspector").text.split("SELECTED")[0], "the inspector never followed"
        )

    def press(self, name: str, part: str) -> None:
        """Click a part of a row, even while rows are being drawn anew."""

        def click() -> bool:
            self.row(name).find_element(By.CSS_SELECTOR, part).click()
            return True

        self.wait(click, f"never reached {part} of {name}")

    def picked(self) -> set[str]:
        script = "return [...document.querySelectorAll('tr[aria-selected=true]')].map((row) => row.dataset.name)"
        return set(self.driver.execute_script(script))

    def plan(self, act: str) -> str:
        """Press one of the inspector's buttons; return what the plan says."""
        self.see(act).click()
        return self.see("plan-summary").text

    def answer(self, choice: str) -> None:
        self.driver.find_element(By.CSS_SELECTOR, f'input[name="choice"][value="{choice}"]').click()

    def carry_out(self) -> None:
        self.see("carry-out").click()
        self.wait(lambda: not self.driver.find_elements(By.CSS_SELECTOR, "#sheet[open]"), "the plan never closed")

    def unfold(self, name: str) -> None:
        """Open a line of the inspector, where it is folded."""
        line = self.see(f"fold-{name}")
        if line.element.find_element(By.XPATH, "..").get_attribute("open") is None:
            line.click()

    def take_back(self) -> None:
        self.unfold("copies")
        self.see("take-back").click()

    def open_folder(self, name: str) -> None:
        self.press(name, "a.open")
        self.wait(lambda: f"/{name}" in self.driver.current_url)

    def choose(self, chooser: str, *files: Path) -> None:
        """Pick files, or one folder, in the browser's own dialog."""
        element = self.driver.find_element(By.CSS_SELECTOR, f'[data-test="{chooser}"]')
        element.send_keys("\n".join(str(file) for file in files))

    def drop(self, zone: str, files: dict[str, str]) -> None:
        """Drop files from the desktop on a zone, as the browser would hand them over."""
        script = """
          const [zone, files] = arguments;
          const transfer = new DataTransfer();
          for (const [name, text] of Object.entries(files)) transfer.items.add(new File([text], name));
          for (const kind of ["dragover", "drop"])
            zone.dispatchEvent(new DragEvent(kind, { dataTransfer: transfer, bubbles: true, cancelable: true }));
        """
        self.driver.execute_script(script, self.see(zone).element, files)
