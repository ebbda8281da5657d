"""How the tests speak to the pages: by label, role and data attributes."""

import threading

from selenium.webdriver.common.by import By
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

    def stop(self, name: str) -> "Page":
        self.driver.find_element(By.CSS_SELECTOR, "#stops").find_element(By.PARTIAL_LINK_TEXT, name).click()
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
        found = self.driver.execute_script(
            """
          const wanted = arguments[0];
          for (const l of document.querySelectorAll('label')) if (l.textContent.trim() === wanted && l.htmlFor)
            return document.getElementById(l.htmlFor);
          return [...document.querySelectorAll('[aria-label]')].find((e) => e.ariaLabel === wanted) ?? null""",
            label,
        )
        assert found is not None, f"no field {label!r}"
        if found.tag_name == "select":
            found.find_element(By.XPATH, f".//option[normalize-space()='{value}']").click()
        else:
            found.clear()
            found.send_keys(value)

    def press(self, name: str) -> None:
        """Press the button or link of that name; waits for what it starts to settle."""
        self.press_at_once(name)
        self.ready()

    def press_at_once(self, name: str) -> None:
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
        found.click()

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
