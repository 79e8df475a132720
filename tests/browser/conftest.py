"""The running application and the browser that drives it."""

from __future__ import annotations

import contextlib
import shutil
import subprocess
import sys

import pytest
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from tests import homes
from tests.test_serving import free_port

FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
    "--disable-extensions",
    "--disable-background-networking", "--disable-component-update", "--window-size=1280,800",
)  # fmt: skip


_TWO_BODIES = (
    "from yellowjacket.bench.simulation.shoot import register_simulated\n"
    "from yellowjacket.simcam.bodies import HEATH, MOOR; register_simulated(HEATH); register_simulated(MOOR)"
)


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    """The application with two simulated bodies in the register and nothing else."""
    with running(tmp_path_factory.mktemp("browser-home"), _TWO_BODIES) as address:
        yield address


@pytest.fixture(scope="module")
def fresh_site(tmp_path_factory):
    """The application with an empty data folder."""
    with running(tmp_path_factory.mktemp("browser-home"), "") as address:
        yield address


@contextlib.contextmanager
def running(folder, prepared):
    """The application on a data folder, after some lines of preparation; its address and the folder."""
    environment = homes.environment(homes.ready(folder))
    if prepared:
        subprocess.run(
            [sys.executable, "-c", f"import django; django.setup()\n{prepared}"], env=environment, check=True
        )
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-m", "yellowjacket.cli", "serve", "--port", str(port)], env=environment,
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout.readline().startswith("Yellowjacket is up")
    yield f"http://127.0.0.1:{port}", folder
    process.terminate()
    process.wait(timeout=20)


@pytest.fixture(scope="module")
def browser():
    options = webdriver.ChromeOptions()
    for flag in FLAGS:
        options.add_argument(flag)
    # Pictures of a page are waited for where a test looks at them.
    options.page_load_strategy = "eager"
    options.binary_location = shutil.which("chromium") or "chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    yield driver
    driver.quit()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """Where the browser stood when a test failed: the address and the words on the page."""
    report = yield
    browser = getattr(item, "funcargs", {}).get("browser")
    if report.failed and browser is not None:
        words = browser.execute_script("return document.documentElement.innerText")[:1500]
        report.sections.append(("where the browser stood", f"{browser.current_url}\n{words}"))
    return report
