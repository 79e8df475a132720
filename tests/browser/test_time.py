"""A night's way in a real browser: plan the LENR test, shoot it, measure, look at the map, predict, plan the night."""

from __future__ import annotations

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.driving import (
    click,
    complaints,
    find,
    now_rung,
    press,
    unfold,
    violations,
    wait_for_text,
    waiting,
)

pytestmark = pytest.mark.browser


def test_from_the_lenr_test_to_the_night(site, browser):
    address, _ = site
    plan(browser, address)
    shoot(browser)
    measure(browser)
    walk_the_map(browser)
    predict(browser)
    assert violations(browser) == []
    look_at_the_darks(browser)
    plan_the_night(browser)
    assert complaints(browser) == []


def plan(browser, address):
    browser.get(address)
    click(browser, "a.do")
    unfold(browser)
    for name, text in (("name", "Trap"), ("question", "How long?"), ("expectation", "1 min"), ("lens", "90 mm")):
        find(browser, f"[name={name}]").send_keys(text)
    click(browser, ".actions .do")
    click(browser, "[data-step=time]")
    wait_for_text(browser, ".empty", "lens capped")
    click(browser, ".empty .do")
    wait_for_text(browser, ".notice", "LENR off and on, lens capped")


def shoot(browser):
    click(browser, "[data-step=shoot]")
    # Under the cap there is no first frame to look at.
    click(browser, "[value=rest]")
    wait_for_text(browser, ".next", "is done. Next", 120)


def measure(browser):
    click(browser, "[data-step=time]")
    find(browser, "[data-key=m]")
    press(browser, "m")
    wait_for_text(browser, ".verdict", "worth it from", 120)
    assert len(browser.find_elements(By.CSS_SELECTOR, ".plot .point")) == 9
    press(browser, Keys.END)
    assert now_rung(browser) == "4min"
    # The map follows the rung.
    wait_for_text(browser, "#map h2", "4 min")
    click(browser, "[data-line=signal] td.now .value")
    wait_for_text(browser, "#foot", "over the bias")


def _lit(browser) -> int:
    """How many pixels of the canvas are drawn white."""
    return browser.execute_script(
        "const c = document.querySelector('[data-canvas]'); if (!c || !c.width) return 0;"
        "const copy = document.createElement('canvas'); [copy.width, copy.height] = [c.width, c.height];"
        "const pen = copy.getContext('2d', {willReadFrequently: true}); pen.drawImage(c, 0, 0);"
        "const d = pen.getImageData(0, 0, c.width, c.height).data; let n = 0;"
        "for (let i = 0; i < d.length; i += 4) n += d[i] > 200; return n;"
    )


def walk_the_map(browser):
    waiting(browser).until(lambda b: _lit(b) > 500)
    whole = _lit(browser)
    canvas = find(browser, "[data-canvas]")
    click(browser, "[data-zoom='2']")
    press(browser, "+")
    waiting(browser).until(lambda _: _lit(browser) != whole)
    before = _lit(browser)
    # Dragged with the mouse, then by the arrows while it has the focus; the rung stays where it is.
    ActionChains(browser).move_to_element(canvas).click_and_hold().move_by_offset(-90, -40).release().perform()
    waiting(browser).until(lambda _: _lit(browser) != before)
    browser.execute_script("arguments[0].focus()", canvas)
    press(browser, Keys.ARROW_LEFT)
    assert now_rung(browser) == "4min"
    click(browser, "[data-zoom='0']")
    waiting(browser).until(lambda _: _lit(browser) == whole)
    click(browser, ".brightest [data-show-point]")
    wait_for_text(browser, "#point", "in the repeats")
    assert len(browser.find_elements(By.CSS_SELECTOR, "#point rect")) == 121
    shown = find(browser, "#point b").text
    # A click on the point that stands in the middle now shows the same.
    ActionChains(browser).move_to_element(canvas).click().perform()
    waiting(browser).until(lambda b: find(b, "#point b").text == shown)


def predict(browser):
    first = find(browser, "#answers").text
    find(browser, "[name=celsius]").send_keys("2")
    wait_for_text(browser, "#answers", "sensor at 2 °C")
    Select(find(browser, "[name=level_of]")).select_by_visible_text("emergency")
    wait_for_text(browser, "#answers", "emergency")
    assert find(browser, "#answers").text != first


def look_at_the_darks(browser):
    click(browser, ".top-right .pick a[href*='/darks/']")
    # Two darks a time: too few for a master, and the page says what to do.
    wait_for_text(browser, "table.rows", "too few: three make one")
    wait_for_text(browser, ".field-help", "plan the time ladder with more repeats")
    assert not find(browser, "form[action*='/darks/make/'] button").is_enabled()
    click(browser, ".finder button")
    wait_for_text(browser, "#candidates", "No master dark of Ostrel Heath is in the library yet")
    assert violations(browser) == []


def plan_the_night(browser):
    click(browser, ".rail a[href='/night/']")
    wait_for_text(browser, "#schedule", "Longest usable exposure with Ostrel Heath")
    Select(find(browser, "[name=care]")).select_by_visible_text("LENR")
    wait_for_text(browser, "#schedule", "LENR off for stack")
    hours = find(browser, "[name=hours]")
    hours.clear()
    hours.send_keys("0.5")
    wait_for_text(browser, "#schedule", "It takes")
    assert violations(browser) == []
