"""A newcomer's ways in, from an empty data folder to a signed record, each action counted."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests import making
from tests.bench.intake.test_real_cameras import write_pictures
from tests.browser.driving import click, complaints, find, press, violations, wait_for_text, waiting

pytestmark = pytest.mark.browser


class Counting:
    """What a tester does, one action a call: a click, a key, or something typed."""

    def __init__(self, browser) -> None:
        self.browser, self.actions = browser, 0

    def click(self, css: str) -> None:
        self.actions += 1
        click(self.browser, css)

    def type(self, css: str, text: str) -> None:
        self.actions += 1
        find(self.browser, css).send_keys(text)

    def press(self, key: str) -> None:
        self.actions += 1
        press(self.browser, key)


def signed(tester: Counting) -> None:
    """From where frames are measured by a key to the signature."""
    find(tester.browser, "[data-key=m]")
    tester.press("m")
    wait_for_text(tester.browser, ".picture-side", "Everything is measured", 120)
    tester.click("[data-step=record]")
    tester.type("#signed_by", "Wren")
    tester.click("[name=sign][value=accept]")
    wait_for_text(tester.browser, ".record-foot", "Amend")
    assert "Wren" in find(tester.browser, ".record-foot").text


def test_the_simulated_camera(fresh_site, browser):
    address, _ = fresh_site
    tester = Counting(browser)
    browser.get(address)
    assert find(browser, "#guide")
    assert violations(browser) == []
    tester.click("form[action*='try-out'] button")
    wait_for_text(browser, ".next", "Every shot is in", 120)
    tester.click("[data-step=measure]")
    signed(tester)
    assert tester.actions <= 12
    assert complaints(browser) == []


def test_a_folder_of_ones_own_frames(fresh_site, browser, tmp_path):
    """With other files among them, as folders are: those are named, and stop nobody."""
    address, _ = fresh_site
    card = making.write_ladder(tmp_path)
    (card / "notes.txt").write_text("dim lamp")
    (card / "CUT.DNG").write_bytes((card / "F001.DNG").read_bytes()[:90_000])
    (card / "EMPTY.DNG").touch()
    tester = Counting(browser)
    browser.get(address)
    tester.type("#folder", f"{card}{Keys.ENTER}")
    tester.click("form[action*='allow'] .do")
    # Where the frames stand in their ladder; measuring begins there.
    find(browser, ".axis .rung")
    told = find(browser, ".body").text
    assert "12 frames in 1 ladder, 2 files not used; passed over: 1 .txt" in told
    assert all(name in told for name in ("CUT.DNG", "EMPTY.DNG"))
    signed(tester)
    # Typing the folder counts with Enter, as does the name with the button.
    assert tester.actions <= 6
    assert complaints(browser) == []


def test_one_frame_at_each_iso(fresh_site, browser, tmp_path):
    """Single frames are measured, signed, and said to be that; what a second would add is told."""
    address, folder = fresh_site
    card = folder / "inbox" / "single"
    card.mkdir()
    rng = np.random.default_rng(3)
    for n, iso in enumerate((100, 200, 400)):
        making.write(card / f"S{n}.DNG", making.shot(iso, rng), iso=iso, exposure_s=Fraction(1, 8 * 2**n))
    tester = Counting(browser)
    browser.get(address)
    tester.type("#folder", f"{card}{Keys.ENTER}")
    find(browser, ".axis .rung")
    signed(tester)
    assert "single frames" in find(browser, ".body").text
    browser.get(browser.current_url.replace("/record/", "/measure/"))
    assert "A second frame of each rung" in find(browser, ".picture-side").text.replace("\n", " ")
    wait_for_text(browser, "#foot", "one frame, ")
    assert complaints(browser) == []


def test_a_frame_and_its_copy(fresh_site, browser):
    """No ladder: both files are named, and one click deletes what came of them."""
    address, folder = fresh_site
    card = folder / "inbox" / "copy"
    card.mkdir()
    making.write(card / "A.DNG", making.shot(100, np.random.default_rng(3)))
    (card / "A copy.DNG").write_bytes((card / "A.DNG").read_bytes())
    tester = Counting(browser)
    browser.get(address)
    tester.type("#folder", f"{card}{Keys.ENTER}")
    wait_for_text(browser, ".body", "No ladder could be made of these files")
    told = find(browser, ".body").text
    assert "ISO 100" in told
    assert "has the same content" in told
    assert violations(browser) == []
    tester.click("form[action*='delete'] button")
    wait_for_text(browser, ".notice", "is deleted")
    assert len(list(card.iterdir())) == 2


def test_pictures_only(fresh_site, browser, tmp_path):
    """Camera pictures without raw files are looked at, graded by key, and signed for the use they were graded for."""
    address, folder = fresh_site
    (folder / "inbox" / "pictures").mkdir()
    write_pictures(folder / "inbox" / "pictures")
    tester = Counting(browser)
    browser.get(address)
    tester.type("#folder", f"{folder}/inbox/pictures{Keys.ENTER}")
    find(browser, ".axis .rung")
    tester.click("[data-step=look]")
    # Whoever signed before is known by name.
    if not find(browser, "#person").get_attribute("value"):
        tester.type("#person", f"Wren{Keys.ENTER}")
    waiting(browser).until(lambda b: find(b, "#person").get_attribute("value") == "Wren")
    find(browser, "body").click()
    tester.press("1")
    wait_for_text(browser, ".wall-cells .now b", "A")
    tester.click("[data-step=record]")
    assert "camera pictures are judged by eye" in find(browser, ".limits").text
    assert "measure first" not in find(browser, ".record-foot").text
    tester.click("[name=sign][value=accept]")
    wait_for_text(browser, ".record-foot", "Amend")
    told = find(browser, ".body").text
    assert "Usable up to ISO 100 for pixel level." in told
    assert "not decided" in told
    assert tester.actions <= 8
    assert complaints(browser) == []


def test_a_plan_without_a_camera(fresh_site, browser):
    address, _ = fresh_site
    browser.get(f"{address}/bodies/new/")
    click(browser, "form[action*='simulated'] button")
    wait_for_text(browser, ".notice", "is a simulated camera")
    # Only what has to be asked; the rest is folded, and the plan stands already.
    assert not find(browser, ".new-sitting").find_elements(By.CSS_SELECTOR, "details[open]")
    wait_for_text(browser, "#preview .summary", "shots")
    click(browser, ".actions .do")
    wait_for_text(browser, ".timeline", "shots in")
