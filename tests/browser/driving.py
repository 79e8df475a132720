"""What a tester does with mouse and keys, for all tests in the browser."""

from __future__ import annotations

from pathlib import Path

from selenium.common.exceptions import (
    ElementClickInterceptedException,
    StaleElementReferenceException,
    WebDriverException,
)
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

WAIT_S = 60
_POLL_S = 0.12


# An element that a fragment has just taken the place of is looked for again.
_RENEWED = (StaleElementReferenceException, ElementClickInterceptedException)


def waiting(browser, seconds: float = WAIT_S):
    """A wait that looks often: the ways of a tester have many steps, and Selenium's own pause adds up to minutes."""
    return WebDriverWait(browser, seconds, poll_frequency=_POLL_S, ignored_exceptions=_RENEWED)


def find(browser, css: str):
    return waiting(browser).until(lambda b: b.find_element(By.CSS_SELECTOR, css), css)


def click(browser, css: str) -> None:
    """Scroll it to the middle, clear of the foot, and click it; once more if the page was just renewed."""

    def clicked(b):
        element = b.find_element(By.CSS_SELECTOR, css)
        b.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
        try:
            element.click()
        except WebDriverException as error:
            # The driver's other words for an element that was just taken away.
            if "does not belong to the document" not in str(error):
                raise
            return False
        return True

    waiting(browser).until(clicked, css)


def wait_for_text(browser, css: str, text: str, seconds: float = WAIT_S) -> None:
    # Asked within the page: what Selenium calls the text of an element takes a hundred times as long to tell.
    def there(b):
        return b.execute_script(
            "return [...document.querySelectorAll(arguments[0])].some(e => e.innerText.includes(arguments[1]))",
            css,
            text,
        )

    waiting(browser, seconds).until(there, f"{text!r} in {css}")


def press(browser, *keys: str) -> None:
    for key in keys:
        ActionChains(browser).send_keys(key).perform()


def now_rung(browser) -> str:
    return find(browser, ".axis .rung.now").get_attribute("data-rung")


def complaints(browser) -> list[str]:
    """What the browser itself found wrong: blocked by the policy, missing, or an error of a script."""
    return [entry["message"] for entry in browser.get_log("browser") if entry["level"] in ("SEVERE", "WARNING")]


def unfold(browser) -> None:
    """Everything a new sitting may be asked for beside its three fields."""
    for summary in find(browser, ".new-sitting").find_elements(By.CSS_SELECTOR, "details:not([open]) > summary"):
        browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", summary)
        summary.click()


def accept_first_frame(browser):
    """The simulated camera takes the first frame alone, and it is found good."""
    click(browser, "[value=one]")
    click(browser, "[data-accept]")
    first_frame_is_in(browser)


def first_frame_is_in(browser):
    """The page renews itself once when the first shot is done: what is sent just then would go to the old one."""
    waiting(browser).until(lambda b: not b.find_elements(By.CSS_SELECTOR, "[data-accept], .job progress"))


def tab_to(browser, css, most=150):
    """Tab until what is asked for has the focus."""
    find(browser, css)
    for _ in range(most):
        if browser.execute_script("return document.activeElement.matches(arguments[0])", css):
            return
        press(browser, Keys.TAB)
    raise AssertionError(f"Tab does not come to {css}")


def enter(browser, css):
    tab_to(browser, css)
    press(browser, Keys.ENTER)


def violations(browser, rules=("wcag2a", "wcag2aa", "wcag21aa")) -> list[str]:
    """What axe-core finds by its rules for WCAG 2 A and AA, contrast included, or by those that are named."""
    if not browser.execute_script("return 'axe' in window"):
        browser.execute_script(Path("node_modules/axe-core/axe.min.js").read_text())
    return browser.execute_async_script(
        "axe.run({runOnly: arguments[0], resultTypes: ['violations']})"
        ".then(r => arguments[1](r.violations.map("
        "v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 160)).join(' | '))))",
        list(rules),
    )
