"""The book under /help/, and Settings: every page and link is there, and what was found last is shown as it was found."""

import re
from datetime import UTC, datetime
from pathlib import Path

import pytest
from mkdocs.commands.build import build
from mkdocs.config import load_config

from yellowjacket import last_checks
from yellowjacket.bench import health
from yellowjacket.web.help import book

ROOT = Path(__file__).parents[2]
PAGES = [page for section in book.contents() for page in section.pages]
_LINK = re.compile(r'(?:href|src)="(/[^"#]*)')


def test_every_page_of_the_folder_is_in_the_contents_once():
    files = sorted(path.stem for path in book.FOLDER.glob("*.md"))
    assert sorted(page.key for page in PAGES) == files


@pytest.mark.outside
def test_the_documentation_tool_finds_nothing_to_complain_of(tmp_path):
    """MkDocs, strict: links between pages and to headings, and pages that nothing leads to."""
    config = load_config(str(ROOT / "mkdocs.yml"), site_dir=str(tmp_path / "site"))
    build(config)
    assert (tmp_path / "site" / "quick-start" / "index.html").is_file()


@pytest.mark.django_db
@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.key)
def test_a_page_has_its_heading_and_every_link_leads_somewhere(client, page):
    text = client.get(f"/help/{page.key}/").content.decode()
    article = text[text.index('class="book-page"') :]
    assert "<h1" in article
    assert "style=" not in article, "the content security policy forbids styles in the page"
    for to in set(_LINK.findall(article)):
        assert client.get(to).status_code == 200, to


@pytest.mark.django_db
@pytest.mark.parametrize(
    "path", ["nothing/", "screenshots/../../../pyproject.toml", "screenshots/none.png", "methods.md"]
)
def test_nothing_but_the_book_is_served(client, path):
    assert client.get(f"/help/{path}").status_code == 404


def test_pages_name_a_page_of_the_book_that_is_there():
    named = {
        key
        for path in (ROOT / "src/yellowjacket/web/templates").rglob("*.html")
        for key in re.findall(r"'help:page' '([a-z-]+)'", path.read_text())
    }
    assert len(named) > 5
    assert named <= {page.key for page in PAGES}


@pytest.mark.django_db
def test_settings_show_what_was_found_last(client, data_folder):
    text = client.get("/settings/").content.decode()
    assert "Not looked at yet" in text
    assert "Not verified on this machine yet" in text
    assert last_checks.last(data_folder, last_checks.HEALTH) is None, "looking at the page is no look at the data"
    assert client.post("/settings/look/").status_code == 302
    lines = [{"what": "Read noise", "condition": "a body", "goal": "within 1 %", "found": "0.5 of it", "holds": ""}]
    last_checks.keep(
        data_folder, last_checks.ACCURACY, last_checks.Looked(datetime(2026, 11, 27, tzinfo=UTC), "0.1.0", False, lines)
    )
    text = client.get("/settings/").content.decode()
    for one in health.examine():
        assert one.what.capitalize() in text
    assert "0 of 1 lines hold" in text
    assert "27 November 2026" in text
    assert "verify again" in text
    assert "Missed: Read noise (a body): 0.5 of it" in " ".join(text.split())


@pytest.mark.django_db
@pytest.mark.parametrize("broken", ["", "{", "[]", '{"at": "yesterday", "version": "1", "whole": true, "lines": []}'])
def test_a_look_that_cannot_be_read_is_none(client, data_folder, broken):
    (data_folder / "last-accuracy.json").write_text(broken)
    assert "Not verified on this machine yet" in client.get("/settings/").content.decode()
