"""How the tests speak to the pages: by label, role and data attributes."""

import threading
from collections.abc import Callable

from selenium.common.exceptions import StaleElementReferenceException
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

from dolce.services.wiring import Services
from dolce.web.serving import new_server

READY = """return document.documentElement.dataset.ready === 'true' && document.fonts.status === 'loaded'
  && !document.querySelector('[data-plot-state=waiting]')"""


class Page:
    """A page of the application in the browser."""

    def __init__(self, driver, address: str) -> None:
        self.driver, self.address = driver, address

    def wait(self, condition, *, seconds: float = 20, why: str = ""):
        return WebDriverWait(self.driver, seconds, poll_frequency=0.05).until(lambda _: condition(), why)

    def ready(self) -> "Page":
        self.wait(lambda: self.driver.execute_script(READY), why="the page did not become ready")
        return self

    def open(self, path: str) -> "Page":
        self.driver.get(self.address + path)
        return self.ready()

    def _act(self, find: Callable[[], WebElement], do: Callable[[WebElement], object]):
        """What `do` returns of the element that is found; a page that swaps it in between is asked again."""
        done = []

        def tried() -> bool:
            done.append(do(find()))
            return True

        waiting = WebDriverWait(
            self.driver, 20, poll_frequency=0.05, ignored_exceptions=[StaleElementReferenceException]
        )
        waiting.until(lambda _: tried(), "the element was swapped again and again")
        return done[-1]

    def click(self, css: str) -> None:
        self._act(lambda: self.find(css), lambda found: found.click())

    def type_into(self, css: str, keys: str) -> None:
        self._act(lambda: self.find(css), lambda found: found.send_keys(keys))

    def attribute(self, css: str, name: str) -> str | None:
        return self._act(lambda: self.find(css), lambda found: found.get_attribute(name))

    def dom_attribute(self, css: str, name: str) -> str | None:
        """An attribute as it stands in the document, with its capitals."""
        return self._act(lambda: self.find(css), lambda found: found.get_dom_attribute(name))

    def stop(self, name: str) -> "Page":
        self._act(lambda: self.find("#stops").find_element(By.PARTIAL_LINK_TEXT, name), lambda found: found.click())
        self.wait(lambda: self.text("#stops [aria-current=page] .name") == name)
        return self.ready()

    def find(self, css: str):
        return self.driver.find_element(By.CSS_SELECTOR, css)

    def all(self, css: str):
        return self.driver.find_elements(By.CSS_SELECTOR, css)

    def text(self, css: str) -> str:
        """Text of an element, read in one call so that a swap in between does no harm."""
        return self.driver.execute_script(
            "return document.querySelector(arguments[0])?.textContent.trim().replace(/\\s+/g, ' ') ?? ''", css
        )

    def fill(self, label: str, value: str) -> None:
        """Type into the field with a label (or accessible name)."""

        def field() -> WebElement:
            found = self.driver.execute_script(
                """
              const wanted = arguments[0];
              for (const l of document.querySelectorAll('label')) if (l.textContent.trim() === wanted && l.htmlFor)
                return document.getElementById(l.htmlFor);
              return [...document.querySelectorAll('[aria-label]')].find((e) => e.ariaLabel === wanted) ?? null""",
                label,
            )
            assert found is not None, f"no field {label!r}"
            return found

        def filled(found: WebElement) -> None:
            if found.tag_name == "select":
                found.find_element(By.XPATH, f".//option[normalize-space()='{value}']").click()
            else:
                found.clear()
                found.send_keys(value)

        self._act(field, filled)

    def press(self, name: str) -> None:
        """Press the button or link of that name; waits for what it starts to settle."""
        self.press_at_once(name)
        self.ready()

    def press_at_once(self, name: str) -> None:
        def button() -> WebElement:
            found = self.driver.execute_script(
                """
              const wanted = arguments[0];
              return [...document.querySelectorAll('button, a')].find((e) => !e.disabled
                && e.checkVisibility({visibilityProperty: true})
                && (e.ariaLabel ?? e.textContent.trim().replace(/\\s+/g, ' ')) === wanted) ?? null""",
                name,
            )
            assert found is not None, f"no button {name!r} in {self.text('main')[:300]}"
            self.driver.execute_script("arguments[0].scrollIntoView({block: 'nearest'})", found)
            return found

        self._act(button, lambda found: found.click())

    def faults_in_console(self, *, expected: tuple[str, ...] = ()) -> list[str]:
        """What the browser complained of, but for answers that a test asked for."""
        return [
            entry["message"]
            for entry in self.driver.get_log("browser")
            if entry["level"] == "SEVERE" and not any(text in entry["message"] for text in expected)
        ]


def serving(services: Services):
    """A running server, its thread and its address."""
    server = new_server(services, port=0)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    return server, thread, f"http://127.0.0.1:{server.effective_port}"
