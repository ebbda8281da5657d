"""A real browser on a running application."""

from pathlib import Path

import pytest
from pages import serving
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from dolce.services.wiring import open_services
from rooms import shaped_folder

FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--disable-dev-shm-usage",
    "--hide-scrollbars",
    "--no-first-run",
    "--force-device-scale-factor=1",
    "--disable-background-networking",
    "--disable-gpu",
]


@pytest.fixture(scope="session")
def downloads(tmp_path_factory) -> Path:
    return tmp_path_factory.mktemp("downloads")


@pytest.fixture(scope="session")
def driver(downloads):
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    options.add_experimental_option(
        "prefs", {"download.default_directory": str(downloads), "download.prompt_for_download": False}
    )
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    started = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    started.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    yield started
    started.quit()


@pytest.fixture(scope="session")
def demo_address(demo) -> str:
    """The application with the sample jobs."""
    server, thread, address = serving(demo)
    yield address
    server.close()
    thread.join(0.1)


@pytest.fixture
def shaped_address(prepared) -> str:
    """The application with a shaped pair, job 1, and its services."""
    opened = open_services(shaped_folder(prepared))
    server, thread, place = serving(opened)
    yield place, opened
    server.close()
    thread.join(0.1)
    opened.close()


@pytest.fixture
def address(prepared) -> str:
    """The application with nothing in it, and its services behind it for comparison."""
    opened = open_services(prepared("empty", lambda _: None))
    server, thread, place = serving(opened)
    yield place, opened
    server.close()
    # The browser keeps its connections open, and the thread with them; it ends with the tests.
    thread.join(0.1)
    opened.close()
