"""A tester's whole way in a real browser: new sitting, shoot, measure, look and grade, decide, sign."""

from __future__ import annotations

import contextlib
import shutil
import urllib.request

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.expected_conditions import staleness_of
from selenium.webdriver.support.ui import Select

from tests.browser.driving import (
    accept_first_frame,
    click,
    complaints,
    enter,
    find,
    first_frame_is_in,
    now_rung,
    press,
    tab_to,
    unfold,
    violations,
    wait_for_text,
    waiting,
)

pytestmark = pytest.mark.browser


def test_from_new_sitting_to_signed_record_card_and_restored_archive(site, browser, tmp_path):
    address, _ = site
    browser.get(address)
    find(browser, "a.do").click()
    plan(browser)
    shoot(browser)
    measure(browser)
    look(browser)
    judge_blind(browser)
    record(browser)
    keep(browser, address)
    restore(browser, address, tmp_path / "drawer.zip")
    assert complaints(browser) == []


def plan(browser):
    unfold(browser)
    for name, text in (
        ("name", "Drawer 9"), ("question", "How high for plates?"), ("expectation", "ISO 3200"), ("lens", "90 mm"),
    ):  # fmt: skip
        find(browser, f"[name={name}]").send_keys(text)
    # Two stops apart, from base ISO up: as good a way as one by one, in half the time.
    Select(find(browser, "[name=step]")).select_by_value("two")
    shutter = find(browser, "[name=metered_shutter]")
    shutter.clear()
    shutter.send_keys("1/4" + Keys.TAB)
    # The stave follows what is typed: the top rung would need 1/4000 s now.
    wait_for_text(browser, "#preview .rung span", "1/4000 s")
    shutter.clear()
    shutter.send_keys("1/8" + Keys.TAB)
    wait_for_text(browser, "#preview .rung span", "1/8000 s")
    find(browser, ".actions .do").click()


def shoot(browser):
    click(browser, ".top-right a.do")
    wait_for_text(browser, ".next-shot", "100")
    # The first frame is looked at before the rest is shot.
    click(browser, "[value=rest]")
    wait_for_text(browser, ".notice", "Take the first shot alone")
    accept_first_frame(browser)
    click(browser, "[value=rest]")
    # Stopped in the middle and taken up again.
    wait_for_text(browser, ".job", " of 23")
    click(browser, ".job button")
    wait_for_text(browser, ".notice", "stopped after")
    taken = len(browser.find_elements(By.CSS_SELECTOR, ".dots i.in"))
    assert 0 < taken < 24
    click(browser, "[value=rest]")
    wait_for_text(browser, ".next", "Every shot is in")
    assert len(browser.find_elements(By.CSS_SELECTOR, ".dots i.in")) == 24


def measure(browser):
    click(browser, ".next a.do")
    wait_for_text(browser, ".summary", "Nothing to decide")
    find(browser, "[data-key=m]")
    with second_window(browser):
        press(browser, "m")
        wait_for_text(browser, ".picture-side", "Everything is measured")
    assert len(browser.find_elements(By.CSS_SELECTOR, ".plot .point")) == 6
    press(browser, Keys.END)
    assert now_rung(browser) == "102400"
    press(browser, Keys.ARROW_LEFT)
    assert "rung=25600" in browser.current_url
    wait_for_text(browser, "#foot .foot-rung", "ISO 25600")
    open_a_value_by_keyboard(browser)
    press(browser, "f")
    waiting(browser).until(lambda b: "use=" in b.current_url)
    wait_for_text(browser, ".name", "24 MP")
    move_patch(browser)


@contextlib.contextmanager
def second_window(browser):
    """Another window on Measure, which is to follow what is done in the first."""
    first, address = browser.current_window_handle, find(browser, "[data-step=measure]").get_attribute("href")
    browser.switch_to.new_window("window")
    browser.get(address)
    find(browser, "[data-key=m]")
    second = browser.current_window_handle
    browser.switch_to.window(first)
    yield
    browser.switch_to.window(second)
    wait_for_text(browser, ".picture-side", "Everything is measured")
    browser.close()
    browser.switch_to.window(first)


def open_a_value_by_keyboard(browser):
    """Tab reaches the values of the lit column only, and Enter says where one comes from."""
    reachable = browser.find_elements(By.CSS_SELECTOR, "button.value[tabindex='0']")
    assert reachable
    assert all("now" in value.find_element(By.XPATH, "..").get_attribute("class").split() for value in reachable)
    reachable[0].send_keys(Keys.ENTER)
    wait_for_text(browser, "#foot", "95 %")
    assert "ISO 25600" in find(browser, "#foot").text


def move_patch(browser):
    """By keys, then by mouse; the server's numbers follow, and measuring is asked for again."""
    before = find(browser, "[data-patch-row=grey] td").text
    press(browser, "]")
    ActionChains(browser).key_down(Keys.ALT).send_keys(Keys.ARROW_RIGHT).key_up(Keys.ALT).perform()
    wait_for_text(browser, ".picture-side", "Measure 6 rungs")
    by_keys = find(browser, "[data-patch-row=grey] td").text
    assert by_keys != before
    patch = find(browser, "[data-patch=grey] .halo")
    browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", patch)
    place = browser.execute_script("return window.scrollY")
    ActionChains(browser).move_to_element(patch).click_and_hold().move_by_offset(-6, 6).release().perform()
    waiting(browser).until(lambda b: find(b, "[data-patch-row=grey] td").text != by_keys)
    # What comes anew leaves the tester at the picture.
    assert place > 100
    assert browser.execute_script("return window.scrollY") == place
    draw_patch(browser)
    lay_grid(browser)
    click(browser, "[data-key=m]")
    wait_for_text(browser, ".picture-side", "Everything is measured")
    unfold_and_fold(browser)


def draw_patch(browser):
    """A rectangle dragged on the bare picture fills the form; with a name it is a patch."""
    picture = find(browser, "[data-patches]")
    browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", picture)
    # A third down and a little right of the middle there is plain felt.
    ActionChains(browser).move_to_element_with_offset(picture, 30, -60).click_and_hold().move_by_offset(
        50, 40
    ).release().perform()
    width = find(browser, "[data-draw] input[name=w]")
    assert int(width.get_attribute("value")) == pytest.approx(50 * 1824 / picture.size["width"], abs=4)
    # Asked before the form is sent: what comes back is another form.
    words = "own patch" if _chosen_role(browser) == "other" else "texture"
    name = find(browser, "[data-draw] input[name=name]")
    name.send_keys("felt", Keys.ENTER)
    wait_for_text(browser, ".patches", words)
    assert browser.find_elements(By.CSS_SELECTOR, "[data-patch=felt]")


def _chosen_role(browser) -> str:
    return find(browser, "[data-draw] select").get_attribute("value")


def lay_grid(browser):
    """The corners of the chart's grid follow the mouse; laid, it is a set of patches."""
    click(browser, "[data-grid] summary")
    corner = find(browser, "[data-corner='3']")
    browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", corner)
    before = find(browser, "[data-grid] input[name=x3]").get_attribute("value")
    ActionChains(browser).move_to_element(corner).click_and_hold().move_by_offset(20, 12).release().perform()
    assert int(find(browser, "[data-grid] input[name=x3]").get_attribute("value")) > int(before) + 20
    click(browser, "[data-grid] button.plain")
    wait_for_text(browser, ".patches", "30 colour patches")


def unfold_and_fold(browser):
    """A line becomes a chart and numbers again, and a folded one comes back from its spark."""
    click(browser, "[data-line=shadow_snr] .unfold")
    find(browser, ".line.chart[data-line=shadow_snr]")
    click(browser, "[data-line=shadow_snr] .unfold")
    find(browser, ".line.text[data-line=shadow_snr]")
    click(browser, ".folded button")
    find(browser, ".line.text[data-line=noise_luma]")


def look(browser):
    find(browser, "[data-step=look]").click()
    person = find(browser, "#person")
    person.send_keys("Wren" + Keys.ENTER)
    waiting(browser).until(lambda b: find(b, "#person").get_attribute("value") == "Wren")
    background = browser.execute_script("return getComputedStyle(document.body).backgroundColor")
    red, green, blue = (int(part) for part in background.strip("rgb()").split(",")[:3])
    assert red == green == blue
    find(browser, "body").click()
    press(browser, Keys.HOME)
    for n, key in enumerate("112345"):
        press(browser, key)
        letter = "ABCDE"[int(key) - 1]
        wait_for_text(browser, ".wall-cells .now b", letter)
        if key == "4":
            press(browser, "o")
            wait_for_text(browser, ".wall-cells .now b", "colour blotches")
        if n < 5:
            press(browser, Keys.ARROW_RIGHT)
    press(browser, "z")
    wait_for_text(browser, "[data-look=size].in-force", "200 %")
    image = find(browser, ".wall-cells .now img")
    loaded = "return arguments[0].complete && arguments[0].naturalWidth"
    waiting(browser).until(lambda b: b.execute_script(loaded, image))
    # At 200 % one image pixel takes two device pixels.
    ratio = browser.execute_script("return arguments[0].width * devicePixelRatio / arguments[0].naturalWidth", image)
    assert ratio == pytest.approx(2, abs=0.01)
    spot = find(browser, "[data-spot]").get_attribute("data-spot")
    overview = find(browser, "[data-overview]")
    ActionChains(browser).move_to_element_with_offset(overview, 20, 10).click().perform()
    waiting(browser).until(lambda b: find(b, "[data-spot]").get_attribute("data-spot") != spot)


def judge_blind(browser):
    """A few answers of a blind round by key, one taken back; left, it can be gone on with."""
    click(browser, "[data-key=b]")
    name = find(browser, "[name=person]")
    name.clear()
    name.send_keys("Wren Halloway")
    click(browser, ".actions .do")
    wait_for_text(browser, "#trial", "1 of")
    assert "ISO" not in browser.page_source
    press(browser, "1")
    wait_for_text(browser, "#trial", "2 of")
    press(browser, "2")
    wait_for_text(browser, "#trial", "3 of")
    press(browser, "u")
    wait_for_text(browser, "#trial", "2 of")
    click(browser, ".rail a.rail-item")
    wait_for_text(browser, "table.rows", "continue")


def record(browser):
    find(browser, "[data-step=record]").click()
    wait_for_text(browser, ".limits", "chroma noise")
    clean = find(browser, "[name=decided]")
    Select(clean).select_by_value("100")
    wait_for_text(browser, "#table .actions", "8 open limits")
    find(browser, "#table .actions button").click()
    wait_for_text(browser, "#foot", "all decided, not signed")
    find(browser, "#others [name=decided_other]").send_keys("ISO 800, as it seems" + Keys.TAB)
    waiting(browser).until(lambda b: b.find_elements(By.CSS_SELECTOR, "#others [value^='ISO 800']"))
    # The limits in a sentence stand there already.
    assert find(browser, "#answer").get_attribute("value").startswith("Usable up to ISO 1600 for pixel level")
    find(browser, "#answer").send_keys(" As expected.")
    name = find(browser, "#signed_by")
    name.clear()
    name.send_keys("Wren")
    click(browser, "[name=sign]")
    wait_for_text(browser, ".record-foot", "Amend")
    assert "Wren" in find(browser, ".record-foot").text
    find(browser, ".rail-home").click()
    wait_for_text(browser, ".limits-of-bodies", "Ostrel Heath")
    wait_for_text(browser, ".limits-of-bodies", "100")


def keep(browser, address):
    """The field card and the report as files, the record on paper, the trail of what was decided."""
    click(browser, ".limits-of-bodies td a")
    click(browser, 'details:has([hx-get*="history"]) summary')
    wait_for_text(browser, ".trail", "ISO 800, as it seems")
    for label, begins in (
        ("Field card", b"%PDF-"),
        ("Report", b"%PDF-"),
        ("text", b"Ostrel Heath\n"),
        ("HTML", b"<!doctype"),
    ):
        link = next(a for a in browser.find_elements(By.CSS_SELECTOR, ".top-right a") if a.text == label)
        with urllib.request.urlopen(link.get_attribute("href"), timeout=60) as response:
            assert response.read(len(begins)) == begins
    card = find(browser, "a[href*='card.txt']").get_attribute("href")
    with urllib.request.urlopen(card, timeout=60) as response:
        assert "signed by Wren" in response.read().decode()
    record_page = browser.current_url
    click(browser, ".top-right a[href*='/print/']")
    wait_for_text(browser, ".signature", "Signed by Wren")
    assert browser.print_page()
    browser.get(record_page)


def restore(browser, address, file):
    """The sitting leaves with its frames and comes back as a second one, asked about first; its record is signed."""
    archive = find(browser, "a[href*='originals=yes']").get_attribute("href")
    urllib.request.urlretrieve(archive, file)
    signed = [cell.text for cell in browser.find_elements(By.CSS_SELECTOR, "#table td.decided")]
    browser.get(f"{address}/archive/")
    find(browser, "[name=archive]").send_keys(str(file))
    click(browser, "form[action*='take-in'] button")
    wait_for_text(browser, ".question legend", "is here already")
    click(browser, "[name=again]")
    click(browser, ".question .do")
    wait_for_text(browser, ".notice", "“Drawer 9” is in.")
    click(browser, "[data-step=record]")
    wait_for_text(browser, ".facts", "Wren")
    assert [cell.text for cell in browser.find_elements(By.CSS_SELECTOR, "#table td.decided")] == signed
    assert "/sittings/1/" not in browser.current_url
    click(browser, "[data-step=measure]")
    wait_for_text(browser, ".picture-side", "Everything is measured")


def test_frames_of_a_real_card_are_imported_by_folder_and_by_file(site, browser):
    address, folder = site
    browser.get(f"{address}/sittings/new/")
    unfold(browser)
    for name, text in (("name", "Drawer 10"), ("question", "?"), ("expectation", "?")):
        find(browser, f"[name={name}]").send_keys(text)
    find(browser, ".actions .do").click()
    find(browser, ".top-right a.do").click()
    find(browser, "#folder")
    card = sorted((folder / "card").rglob("*.DNG"))
    assert len(card) >= 24
    for path in card[:4]:
        shutil.copy(path, folder / "inbox" / path.name)
    (folder / "inbox" / "list.txt").write_text("not a frame")
    find(browser, "#folder").send_keys(str(folder / "inbox") + Keys.ENTER)
    wait_for_text(browser, ".notice", "4 frames in, 1 not used")
    wait_for_text(browser, ".problems", "list.txt")
    wait_for_text(browser, ".problems", "is not a raw file")
    find(browser, "#frames").send_keys("\n".join(str(path) for path in card[4:8]))
    button = find(browser, "#frames").find_element(By.XPATH, "../button")
    browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", button)
    button.click()
    wait_for_text(browser, ".notice", "4 frames in")
    waiting(browser).until(lambda b: len(b.find_elements(By.CSS_SELECTOR, ".dots i.in")) == 8)
    assert complaints(browser) == []


def test_from_plan_to_signature_without_a_mouse(site, browser):
    """Every step by keys alone: Tab to what is next, Enter, and the keys that the page names."""
    address, _ = site
    browser.get(f"{address}/sittings/new/")
    seen = []
    for _ in range(60):
        # The preview follows what is typed and may renew the field: it is asked for all at once.
        name, tag = browser.execute_script(
            "const e = document.activeElement; return [e.name || e.innerText, e.tagName]"
        )
        seen.append(name)
        if tag == "SUMMARY":
            press(browser, Keys.ENTER)
        if name in ("name", "question"):
            press(browser, "?")
        if name == "step":
            # Three stops apart: a third of the frames.
            press(browser, "thr")
        if tag == "BUTTON":
            break
        press(browser, Keys.TAB)
    outline = browser.execute_script("return getComputedStyle(document.activeElement).outlineStyle")
    assert outline != "none", "focus must be seen"
    press(browser, Keys.ENTER)
    wait_for_text(browser, ".timeline", "shots in")
    assert {"metered_iso", "metered_shutter", "aperture", "step", "repeats"} <= set(seen)
    enter(browser, ".top-right a.do")
    enter(browser, "[value=one]")
    enter(browser, "[data-accept]")
    first_frame_is_in(browser)
    enter(browser, "[value=rest]")
    wait_for_text(browser, ".next", "Every shot is in")
    enter(browser, ".next a.do")
    wait_for_text(browser, ".summary", "Nothing to decide")
    press(browser, "m")
    wait_for_text(browser, ".picture-side", "Everything is measured")
    enter(browser, "[data-step=look]")
    tab_to(browser, "#person")
    press(browser, "Wren", Keys.ENTER)
    waiting(browser).until(lambda b: find(b, "#person").get_attribute("value") == "Wren")
    browser.execute_script("document.activeElement.blur()")
    press(browser, Keys.HOME)
    for key in "12":
        press(browser, key)
        wait_for_text(browser, ".wall-cells .now b", "AB"[int(key) - 1])
        press(browser, Keys.ARROW_RIGHT)
    enter(browser, "[data-step=record]")
    enter(browser, "#table .actions button")
    wait_for_text(browser, "#foot", "all decided, not signed")
    tab_to(browser, "#signed_by")
    press(browser, "Wren")
    enter(browser, "[name=sign]")
    wait_for_text(browser, ".record-foot", "Amend")
    assert complaints(browser) == []


def test_a_day_with_mishaps_is_planned_shot_checked_and_repaired(site, browser):
    address, _ = site
    browser.get(f"{address}/sittings/new/")
    unfold(browser)
    for name, text in (("name", "Drawer 12"), ("question", "?"), ("expectation", "?")):
        find(browser, f"[name={name}]").send_keys(text)
    Select(find(browser, "[name=mains_hz]")).select_by_value("50")
    picked = find(browser, "[name=picked]")
    picked.send_keys("100, 200, 400, 800, 1600, 3200" + Keys.TAB)
    wait_for_text(browser, "#preview .summary", "6 rungs, 24 shots")
    click(browser, ".actions .do")
    wait_for_text(browser, ".warnings", "50 Hz light pulses")
    click(browser, ".tick")
    waiting(browser).until(lambda b: b.find_elements(By.CSS_SELECTOR, ".tick[aria-checked=true]"))
    click(browser, ".top-right a.do")
    # By hand: Space takes the shot shown, U takes that back.
    find(browser, "[data-key=' ']")
    press(browser, Keys.SPACE)
    wait_for_text(browser, ".change", "frame 2 of the same rung")
    press(browser, "u")
    wait_for_text(browser, ".change", "set everything")
    accept_first_frame(browser)
    click(browser, "details summary")
    for mishap in ("skipped", "doubled", "iso", "nudge", "defocus", "jpeg", "drift"):
        click(browser, f"[name=mishap][value={mishap}]")
    click(browser, "[value=rest]")
    wait_for_text(browser, ".notice", "frames shot")
    click(browser, "[data-step=check]")
    find(browser, "[data-finding]")
    found = {row.get_attribute("data-finding") for row in browser.find_elements(By.CSS_SELECTOR, "[data-finding]")}
    assert {"missing", "moved", "soft", "exposure"} <= found
    strays = {row.get_attribute("data-problem") for row in browser.find_elements(By.CSS_SELECTOR, "[data-problem]")}
    assert {"complete", "not-raw"} <= strays
    press(browser, "n")
    assert now_rung(browser) != "100"
    # Re-shoot everything that is wrong, delete what strayed, and shoot again.
    for css in ("[data-finding] .remedies button:first-child", "[data-problem] [value=delete]"):
        while browser.find_elements(By.CSS_SELECTOR, css):
            button = browser.find_element(By.CSS_SELECTOR, css)
            browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", button)
            button.click()
            waiting(browser).until(staleness_of(button))
    click(browser, "[data-step=shoot]")
    click(browser, "[value=rest]")
    wait_for_text(browser, ".next", "Every shot is in")
    click(browser, ".next a.do")
    wait_for_text(browser, ".summary", "Nothing to decide")
    assert complaints(browser) == []


def test_soft_focus_and_a_lock_up_are_found_and_repaired(site, browser):
    address, _ = site
    browser.get(f"{address}/sittings/new/")
    unfold(browser)
    for name, text in (("name", "Night 1"), ("question", "?"), ("expectation", "?")):
        find(browser, f"[name={name}]").send_keys(text)
    find(browser, "[name=picked]").send_keys("100, 200" + Keys.TAB)
    wait_for_text(browser, "#preview .summary", "2 rungs, 8 shots")
    click(browser, ".actions .do")
    # A second ladder: the form's own fields must win over the state in the address.
    click(browser, ".top-right a[href*='/plan/add/']")
    Select(find(browser, "[name=ladder]")).select_by_value("time:capped")
    longest = find(browser, "[name=longest]")
    longest.clear()
    longest.send_keys("15 s")
    picked = find(browser, "[name=picked]")
    picked.clear()
    picked.send_keys(Keys.TAB)
    wait_for_text(browser, "#preview .summary", "5 rungs, 10 shots")
    click(browser, ".actions .do")
    # Focus was never there: the first frame says so before anything else is shot.
    click(browser, ".tabs .tab:first-child")
    click(browser, "[data-step=shoot]")
    click(browser, "details summary")
    click(browser, "[name=mishap][value=soft]")
    click(browser, "[value=one]")
    wait_for_text(browser, ".notice", "1 frame shot")
    click(browser, "[data-step=check]")
    wait_for_text(browser, "[data-finding=soft-start]", "focus was never there")
    click(browser, "[data-finding=soft-start] .remedies button:first-child")
    waiting(browser).until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[data-finding=soft-start]"))
    click(browser, "[data-step=shoot]")
    accept_first_frame(browser)
    # LENR left on shows in the clock of the files.
    click(browser, ".tabs .tab:last-child")
    click(browser, "details summary")
    click(browser, "[name=mishap][value=lenr]")
    click(browser, "[value=rest]")
    wait_for_text(browser, ".notice", "10 frames shot")
    find(browser, "#noted_battery_percent").send_keys("88")
    click(browser, ".noted button")
    wait_for_text(browser, ".day", "battery 88 %")
    click(browser, "[data-step=check]")
    wait_for_text(browser, "[data-finding=lenr]", "LENR seems to be on")
    click(browser, "[data-finding=lenr] .remedies button:last-child")
    wait_for_text(browser, ".log", "the lock-up of")
    press(browser, Keys.ARROW_RIGHT)
    wait_for_text(browser, "#of-rung h2", f"Frames of {find(browser, '[data-now-rung]').text}")
    assert complaints(browser) == []


STEPS = (
    "plan", "plan/add", "plan/shots", "plan/cards", "shoot", "check", "measure", "push", "look", "record",
    "record/print", "look/pair", "look/lanes", "look/jury", "look/blind", "look/people", "uses",
)  # fmt: skip
SITTING_PAGES = [f"/sittings/1/{step}/" for step in STEPS]
PAGES = ["/", "/archive/", "/bodies/", "/bodies/new/", "/sittings/new/", "/sittings/from-plan/", *SITTING_PAGES]
PAGES += ["/sittings/1/shoot/?room=dark", "/practice/", "/advice/", "/compare/?ladder=1", "/search/?q=drawer"]
PAGES += ["/tolerance/", "/people/", "/people/sign-in/", "/people/password/", "/phone/"]


PAGES += ["/bodies/1/", "/darks/", "/night/", "/glossary/", "/settings/", "/help/", "/help/command-line/", "/nothing/"]
SIZE = "Emulation.setDeviceMetricsOverride"


@pytest.mark.parametrize("path", PAGES)
def test_pages_are_accessible(site, browser, path):
    """axe-core's rules for WCAG 2 A and AA, contrast included; at 200 % and on a phone nothing scrolls sideways but what is wide
    by itself, and that by keys as well."""
    address, _ = site
    browser.get(address + path)
    assert violations(browser) == []
    for width in (640, 360):
        browser.execute_cdp_cmd(SIZE, {"width": width, "height": 720, "deviceScaleFactor": 1, "mobile": False})
        # A frame later, scripts have seen it too.
        browser.execute_async_script("requestAnimationFrame(() => requestAnimationFrame(arguments[0]))")
        assert browser.execute_script("return document.scrollingElement.scrollWidth - innerWidth") <= 0, width
        assert violations(browser, ["scrollable-region-focusable"]) == []
    browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


def a_refused_form(browser):
    browser.get(f"{browser.current_url.partition('/sittings')[0]}/sittings/new/")
    field = find(browser, "[name=metered_shutter]")
    field.clear()
    field.send_keys("soon")
    click(browser, ".actions .do")
    find(browser, ".field.wrong, .error")


STATES = {
    "the keys": lambda b: press(b, "?"),
    "where a value is from": lambda b: click(b, "button.value[tabindex='0']"),
    "a folded line": lambda b: click(b, ".folded button"),
    "a chart": lambda b: click(b, "[data-line=shadow_snr] .unfold"),
    "a refused form": a_refused_form,
}


@pytest.mark.parametrize("state", STATES)
def test_states_are_accessible(site, browser, state):
    address, _ = site
    browser.get(f"{address}/sittings/1/measure/")
    STATES[state](browser)
    assert violations(browser) == []


MEDIA = "Emulation.setEmulatedMedia"
# What a fill says elsewhere, in colours that the system chooses: its colour there and that of what is not filled.
FILLED = """
const fill = (css) => [...document.querySelectorAll(css)].map((e) => getComputedStyle(e).backgroundColor);
return [new Set(fill(".dots i.in")).size, fill(".dots i.in")[0], getComputedStyle(document.body).backgroundColor,
  getComputedStyle(document.querySelector(".rung.now")).outlineStyle];
"""


def test_fills_are_told_where_the_system_chooses_colours(site, browser):
    address, _ = site
    browser.execute_cdp_cmd(MEDIA, {"features": [{"name": "forced-colors", "value": "active"}]})
    browser.get(f"{address}/sittings/1/check/")
    kinds, filled, ground, outline = browser.execute_script(FILLED)
    assert (kinds, outline) == (1, "solid")
    assert filled != ground
    browser.execute_cdp_cmd(MEDIA, {"features": []})


def test_nothing_moves_for_those_who_asked_for_that(site, browser):
    """Blinking stands still, and no style fades or slides."""
    address, _ = site
    browser.execute_cdp_cmd(MEDIA, {"features": [{"name": "prefers-reduced-motion", "value": "reduce"}]})
    for path in ("/", "/sittings/1/measure/", "/sittings/1/look/", "/sittings/1/look/pair/", "/sittings/1/shoot/"):
        browser.get(address + path)
        moving = browser.execute_script(
            "return document.getAnimations().length + [...document.querySelectorAll('*')].filter((e) => "
            "parseFloat(getComputedStyle(e).transitionDuration) > 0.05).length"
        )
        assert moving == 0, path
    browser.execute_cdp_cmd(MEDIA, {"features": []})
