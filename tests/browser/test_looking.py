"""Looking in a real browser: drag, keys, switches, pins, blink, verdict, a blind round to the profile, practice, a jury."""

from __future__ import annotations

import re

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.driving import (
    accept_first_frame,
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


def test_from_the_wall_to_the_profile(site, browser):
    address, _ = site
    plan_two_bodies(browser, address)
    shoot_and_measure(browser)
    look(browser)
    compare(browser)
    find_my_line(browser)
    move_a_threshold(browser, address)
    practise(browser, address)
    assert complaints(browser) == []


def plan_two_bodies(browser, address):
    browser.get(f"{address}/sittings/new/")
    unfold(browser)
    for name, text in (("name", "Two bodies"), ("question", "Which?"), ("expectation", "Heath")):
        find(browser, f"[name={name}]").send_keys(text)
    picked = find(browser, "[name=picked]")
    picked.send_keys("100, 1600, 12800" + Keys.TAB)
    wait_for_text(browser, "#preview .summary", "3 rungs, 12 shots")
    click(browser, ".actions .do")
    click(browser, ".top-right a[href*='/plan/add/']")
    body = Select(find(browser, "[name=body]"))
    moor = next(option for option in body.options if "Moor" in option.text)
    body.select_by_visible_text(moor.text)
    picked = find(browser, "[name=picked]")
    picked.clear()
    picked.send_keys("100, 1600, 12800" + Keys.TAB)
    wait_for_text(browser, "#preview .summary", "3 rungs, 12 shots")
    click(browser, ".actions .do")


def shoot_and_measure(browser):
    click(browser, ".tabs .tab:first-child")
    click(browser, "[data-step=shoot]")
    accept_first_frame(browser)
    click(browser, "[value=rest]")
    wait_for_text(browser, ".next", "is done. Next")
    click(browser, ".tabs .tab:last-child")
    click(browser, "[value=rest]")
    wait_for_text(browser, ".next", "Every shot is in")
    click(browser, "[data-step=measure]")
    find(browser, "[data-key=m]")
    press(browser, "m")
    wait_for_text(browser, ".job, .notice, [data-line]", "Grey SNR", 120)
    # Back undoes the last change of what is shown: here a step along the ladder.
    before = now_rung(browser)
    press(browser, Keys.ARROW_RIGHT)
    assert now_rung(browser) != before
    browser.back()
    waiting(browser).until(lambda b: now_rung(b) == before)
    # What was unfolded keeps the focus that unfolded it.
    unfolds = find(browser, "[data-line=shadow_snr] .unfold")
    unfolds.send_keys(Keys.ENTER)
    find(browser, ".line.chart[data-line=shadow_snr]")
    waiting(browser).until(lambda b: b.switch_to.active_element.text == "Shadow SNR")


def sources(browser):
    return [image.get_attribute("src") for image in browser.find_elements(By.CSS_SELECTOR, "[data-wall] img")]


def corner(source):
    return [int(n) for n in re.search(r"crop/(\d+),(\d+),", source).groups()]


def settled(browser, css, before):
    waiting(browser).until(lambda b: find(b, css).get_attribute("src") != before)


def look(browser):
    click(browser, "[data-step=look]")
    click(browser, ".tabs .tab:first-child")
    name = find(browser, "#person")
    name.send_keys("Wren Halloway" + Keys.ENTER)
    waiting(browser).until(lambda b: not b.find_elements(By.CSS_SELECTOR, ".who button"))
    press(browser, "r")
    waiting(browser).until(lambda b: len(b.find_elements(By.CSS_SELECTOR, ".wall-row")) == 2)
    wait_for_text(browser, "[data-match]", "Moor is worse than Heath")
    # Laid on one another by their pictures, so that a spot is the same on both.
    click(browser, "form[action*='/place/'] button")
    wait_for_text(browser, ".notice", "lies on ISO · Heath by")
    before = sources(browser)
    assert len(before) == 6
    # Dragging in the overview moves every cell, without asking for the page anew.
    overview = find(browser, "[data-overview]")
    actions = ActionChains(browser)
    actions.move_to_element_with_offset(overview, -30, -10).click_and_hold()
    actions.move_by_offset(40, 20).move_by_offset(5, 5).release().perform()
    settled(browser, "[data-wall] img", before[0])
    moved = sources(browser)
    assert all(corner(a) != corner(b) for a, b in zip(before, moved, strict=True))
    # By keys as well, and the spot survives a reload.
    press_with_shift(browser, Keys.ARROW_RIGHT)
    settled(browser, "[data-wall] img", moved[0])
    spot = find(browser, "[data-spot]").text
    browser.refresh()
    assert find(browser, "[data-spot]").text == spot
    for key, css, text in (
        ("z", ".look-bar [data-look=size].in-force", "200 %"), ("p", ".wall-cells p", "push +1"), ("]", ".look-bar", "1"),
    ):  # fmt: skip
        press(browser, key)
        wait_for_text(browser, css, text)
    press(browser, "[")
    press_with_shift(browser, "p")
    click(browser, "[data-look=developer][data-value=gradient]")
    wait_for_text(browser, "[data-look=developer].in-force", "gradient")
    click(browser, ".more-spots summary")
    wait_for_text(browser, ".more-spots", "deepest shadow")
    press(browser, Keys.END)
    assert now_rung(browser) == "12800"
    press(browser, "4")
    wait_for_text(browser, ".wall-row.here .now p b", "D")
    press(browser, "o")
    wait_for_text(browser, ".wall-row.here .now p b", "D colour blotches")
    press(browser, "2")
    wait_for_text(browser, ".wall-row.here .now p b", "B")
    press(browser, "u")
    wait_for_text(browser, ".wall-row.here .now p b", "D colour blotches")
    assert violations(browser) == []


def press_with_shift(browser, key):
    ActionChains(browser).key_down(Keys.SHIFT).send_keys(key).key_up(Keys.SHIFT).perform()


def compare(browser):
    pins = browser.find_elements(By.CSS_SELECTOR, ".wall-row .now [data-pin]")
    assert len(pins) == 2
    for pin in pins:
        browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", pin)
        pin.click()
    press(browser, "x")
    stage = find(browser, "[data-stage]")
    assert "Heath ISO 12800" in find(browser, ".pair-names").text
    assert "Moor ISO 12800" in find(browser, ".pair-names").text
    # Blinking by itself, and by key when stopped.
    fronts = set()

    def both_seen(b):
        fronts.add(b.find_element(By.CSS_SELECTOR, ".pair-shot.front").get_attribute("data-side"))
        return len(fronts) == 2

    waiting(browser).until(both_seen)
    press(browser, "s")
    front = find(browser, ".pair-shot.front").get_attribute("data-side")
    press(browser, "x")
    assert find(browser, ".pair-shot.front").get_attribute("data-side") != front
    press(browser, "m")
    ActionChains(browser).move_to_element_with_offset(stage, 200, 0).perform()
    assert "inset" in browser.find_elements(By.CSS_SELECTOR, ".pair-shot")[1].get_attribute("style")
    press(browser, "m")
    waiting(browser).until(lambda b: find(b, ".pair-difference").get_property("width") > 300)
    wait_for_text(browser, "[data-pair]", "ΔE00 here")
    press(browser, "m")
    before = find(browser, ".pair-shot img").get_attribute("src")
    ActionChains(browser).move_to_element(stage).click_and_hold().move_by_offset(60, 30).release().perform()
    settled(browser, ".pair-shot img", before)
    press(browser, "1")
    wait_for_text(browser, ".look-note", "Heath ISO 12800 clearly better")
    press(browser, "k")
    wait_for_text(browser, ".look-note", "because of blacks")
    assert violations(browser) == []
    press(browser, Keys.ARROW_LEFT)
    wait_for_text(browser, ".pair-names", "Moor ISO 1600")
    click(browser, ".top-right a.pick[href*='/look/']")
    wait_for_text(browser, "[data-match]", "clearly at ISO 12800")


def find_my_line(browser):
    """A whole blind round: everything up to a noise is accepted, and the line becomes the sitting's tolerance."""
    click(browser, ".top-right a[href*='/blind/']")
    Select(find(browser, "[name=wanted]")).select_by_index(0)
    click(browser, "form .actions .do")
    wait_for_text(browser, "#trial", "1 of")
    seen = set()
    for n in range(1, 80):
        if not browser.find_elements(By.CSS_SELECTOR, ".blind-ask"):
            break
        assert not {"ISO", "Heath", "Moor"} & set(re.findall(r"\w+", find(browser, "#trial").text))
        pictures = browser.find_elements(By.CSS_SELECTOR, "[data-blind-crop]")
        waiting(browser).until(lambda b, ps=pictures: all(p.get_property("complete") for p in ps))
        noise = float(browser.execute_script(NOISE, pictures[0]))
        seen.add(round(noise, 1))
        press(browser, "1" if len(pictures) == 2 or noise < 7.2 else "2")
        waiting(browser).until(lambda b, n=n: f"{n + 1} of" in b.page_source or "Your limit" in b.page_source)
    assert len(seen) >= 2, seen
    wait_for_text(browser, "#trial h1", "Your limit")
    wait_for_text(browser, "#trial", "shadows down to SNR")
    click(browser, "[name=use_it]")
    wait_for_text(browser, ".notice", "is now the tolerance of Two bodies")
    click(browser, "#trial a[href*='/record/']")
    wait_for_text(browser, ".top-right", "Wren Halloway, pixel level")
    wait_for_text(browser, ".limits", "Measured")


def move_a_threshold(browser, address):
    """The slider by keys: number, field and picture follow; another use shows the same threshold."""
    browser.get(f"{address}/tolerance/")
    find(browser, "#f-chroma_noise-usable").click()
    wait_for_text(browser, "#seen h2", "Chroma noise, usable")
    before = float(find(browser, "#f-chroma_noise-usable").get_attribute("value"))
    slider = find(browser, "#seen-step")
    for key in (Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.HOME):
        shown = find(browser, "#seen").text
        slider.send_keys(key)
        waiting(browser).until(lambda b, shown=shown: find(b, "#seen").text != shown)
    picture = "#seen figure[data-apart='0'] :is(img, p)"
    waiting(browser).until(lambda b: find(b, "#seen-value").text == find(b, "#seen [data-apart='0'] b").text)
    typed = find(browser, "#f-chroma_noise-usable").get_attribute("value")
    assert float(typed) < before
    assert find(browser, picture)
    assert violations(browser) == []
    Select(find(browser, "#seen-use")).select_by_index(1)
    wait_for_text(browser, "#seen .pictured > p", "print")
    assert find(browser, "#seen-step").get_attribute("value") == "0"
    assert find(browser, "#f-chroma_noise-usable").get_attribute("value") == typed


# Mean step between neighbours of the green of a picture as the browser shows it.
NOISE = """
const image = arguments[0], canvas = document.createElement("canvas");
canvas.width = image.naturalWidth; canvas.height = image.naturalHeight;
const pen = canvas.getContext("2d"); pen.drawImage(image, 0, 0);
const data = pen.getImageData(0, 0, canvas.width, canvas.height).data;
let sum = 0, n = 0;
for (let i = 4; i < data.length; i += 4) { sum += Math.abs(data[i + 1] - data[i - 3]); n += 1; }
return sum / n;
"""


def practise(browser, address):
    browser.get(f"{address}/practice/")
    assert "Two bodies" in find(browser, "[name=sitting]").text
    Select(find(browser, "[name=apart]")).select_by_value("3")
    name = find(browser, "[name=person]")
    name.clear()
    name.send_keys("Wren Halloway")
    click(browser, "[value=higher]")
    wait_for_text(browser, ".blind-ask", "Is the left one the higher ISO?")
    for n in range(1, 21):
        left, right = browser.find_elements(By.CSS_SELECTOR, "[data-blind-crop]")
        both = (left, right)
        waiting(browser).until(lambda b, both=both: all(p.get_property("complete") for p in both))
        noises = [float(browser.execute_script(NOISE, one)) for one in both]
        press(browser, "1" if noises[0] > noises[1] else "2")
        waiting(browser).until(lambda b, n=n: f"{n + 1} of" in b.page_source or "right:" in b.page_source)
    wait_for_text(browser, "#trial h1", "20 of 20 right")
    browser.get(f"{address}/practice/")
    wait_for_text(browser, "table.rows", "20 of 20")
    assert violations(browser) == []


def test_a_guest_and_a_jury(site, browser):
    """A link that is given away shows the round and nothing else; a sheet is printed and its marks are entered."""
    address, _ = site
    browser.get(f"{address}/sittings/1/look/blind/")
    # Links of earlier rounds stand there already: the one that is new is wanted.
    before = {code.text for code in browser.find_elements(By.CSS_SELECTOR, "table code")}
    click(browser, "[name=guest]")
    new = waiting(browser).until(
        lambda b: {code.text for code in b.find_elements(By.CSS_SELECTOR, "table code")} - before, "a new link"
    )
    browser.get(new.pop())
    find(browser, "[name=person]").send_keys("Sorrel" + Keys.ENTER)
    # The first question may be whether two are equal: catches stand anywhere in a round.
    ask = find(browser, ".blind-ask").text
    assert ask.startswith("Good enough for") or ask == "Do the two look the same?"
    assert not browser.find_elements(By.CSS_SELECTOR, "a.rail-item")
    assert violations(browser) == []
    browser.get(f"{address}/sittings/1/look/jury/")
    click(browser, ".actions .do")
    click(browser, ".jury-marks summary")
    codes = browser.find_elements(By.CSS_SELECTOR, ".codes input")
    assert len(codes) >= 3
    find(browser, "details [name=person]").send_keys("Sorrel")
    for n, code in enumerate(codes[:3]):
        code.send_keys("ABC"[n])
    click(browser, ".jury-marks button")
    wait_for_text(browser, ".notice", "3 marks of Sorrel are grades")
    assert complaints(browser) == []
