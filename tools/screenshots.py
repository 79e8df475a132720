"""Takes the pictures of docs/screenshots from the running demo: `make screenshots` while `make demo` runs."""

import sys
import time
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service

VIEWS = {
    "desk": "/",
    "plan": "/sittings/2/plan/?ladder=4",
    "shoot": "/sittings/2/shoot/",
    "dark-room": "/sittings/2/shoot/?ladder=4&room=dark",
    "check": "/sittings/2/check/",
    "measure": "/sittings/1/measure/?rung=3200",
    "push": "/sittings/3/push/?ladder=5",
    "time": "/sittings/4/time/?rung=1min",
    "darks": "/darks/?sitting=4",
    "night": "/night/?body=1",
    "look-two-bodies": "/sittings/6/look/?rows=ladders&use=17&rung=1600",
    "pair": "/sittings/6/look/pair/?rung=6400&use=17&mode=side+by+side",
    "lanes": "/sittings/6/look/lanes/",
    "blind-round": "/sittings/1/look/blind/",
    "record": "/sittings/1/record/?rung=3200",
    "compare": "/compare/?ladder=14&ladder=15&size=24000000",
    "tolerance": "/tolerance/",
    "advice": "/advice/?body=1&use=2&aperture=f%2F8&shutter=1%2F125+s&light=iso&amount=6400&level=usable",
    "help": "/help/",
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
    # The demo measures its darks and its two bodies after it is up.
    for name, sign in (("time", "Dark current"), ("look-two-bodies", "Slide to match"), ("lanes", "by its name")):
        for _ in range(60):
            driver.get(address + VIEWS[name])
            if sign in driver.page_source:
                break
            time.sleep(2)
    for name, path in VIEWS.items():
        driver.get(address + path)
        time.sleep(1.5)
        driver.save_screenshot(str(folder / f"{name}.png"))
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8017", Path("docs/screenshots"))
