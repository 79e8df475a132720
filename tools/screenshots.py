"""Takes the pictures of docs/screenshots from the running demo: `make screenshots` while `make demo` runs."""

import re
import sys
import time
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service

VIEWS = {
    "desk": "/",
    "new-sitting": "/sittings/new/",
    "plan": "/sittings/2/plan/?ladder=4",
    "shot-list": "/sittings/2/plan/shots/",
    "shoot": "/sittings/2/shoot/",
    "dark-room": "/sittings/2/shoot/?ladder=4&room=dark",
    "check": "/sittings/2/check/",
    "measure": "/sittings/1/measure/?rung=3200",
    "push": "/sittings/3/push/?ladder=5",
    "push-settings": "/sittings/3/push/?ladder=8",
    "time": "/sittings/4/time/?rung=1min",
    "darks": "/darks/?sitting=4",
    "dark-taken-off": "/darks/3/frames/{light}/",
    "night": "/night/?body=1",
    "look": "/sittings/1/look/?rung=3200",
    "blind-round": "/sittings/1/look/blind/",
    "record": "/sittings/1/record/?rung=3200",
    "bodies": "/bodies/",
    "record-print": "/sittings/1/record/print/",
}
WIDTH, HEIGHT = 1280, 800


def browser() -> webdriver.Chrome:
    """Headless Chromium with a viewport of exactly WIDTH × HEIGHT."""
    options = webdriver.ChromeOptions()
    for flag in ("--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"):
        options.add_argument(flag)
    options.binary_location = "/usr/bin/chromium"
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    metrics = {"width": WIDTH, "height": HEIGHT, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    return driver


def main(address: str, folder: Path) -> None:
    """Write one PNG per view."""
    driver = browser()
    # The demo measures its darks after it is up.
    driver.get(address + VIEWS["time"])
    for _ in range(60):
        if "Dark current" in driver.page_source:
            break
        time.sleep(2)
        driver.refresh()
    driver.get(address + "/darks/")
    # The light frame of the demo's warm night, whatever its number.
    light = re.search(r"/darks/frames/(\d+)/", driver.page_source)
    for name, path in VIEWS.items():
        driver.get(address + path.format(light=light.group(1) if light else 0))
        time.sleep(1.5)
        driver.save_screenshot(str(folder / f"{name}.png"))
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8017", Path("docs/screenshots"))
