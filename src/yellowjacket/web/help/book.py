"""The book: its contents, and its pages from Markdown to HTML with addresses of the application."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from xml.etree.ElementTree import Element

import markdown
import yaml
from django.urls import reverse
from markdown.extensions import Extension
from markdown.treeprocessors import Treeprocessor

import yellowjacket

_ROOT = Path(yellowjacket.__file__).parent
FOLDER = _ROOT / "book"
_CONTENTS = _ROOT / "book.yml"
_PAGE = re.compile(r"^([a-z-]+)\.md(#.*)?$")
_OUTSIDE = re.compile(r"^(https?:|mailto:|#|/)")


@dataclass(frozen=True, slots=True)
class Page:
    """A page of the book: its key in the address, and its name in the contents."""

    key: str
    name: str


@dataclass(frozen=True, slots=True)
class Section:
    """Pages of one purpose."""

    name: str
    pages: tuple[Page, ...]


@cache
def contents() -> tuple[Section, ...]:
    """The sections in reading order."""
    nav = yaml.safe_load(_CONTENTS.read_text(encoding="utf-8"))["nav"]
    return tuple(
        Section(name, tuple(Page(Path(file).stem, title) for one in pages for title, file in one.items()))
        for section in nav
        for name, pages in section.items()
    )


def page_of(key: str) -> Page | None:
    """The page of that key, None where the book has none."""
    return next((page for section in contents() for page in section.pages if page.key == key), None)


@cache
def html_of(page: Page) -> str:
    """The page as HTML; it ships with the application, so that nothing in it needs escaping."""
    text = (FOLDER / f"{page.key}.md").read_text(encoding="utf-8")
    return markdown.markdown(
        text, extensions=["tables", "fenced_code", "toc", "sane_lists", _Addresses()],
        extension_configs={"tables": {"use_align_attribute": True}},
    )  # fmt: skip


def file_of(name: str) -> Path | None:
    """A picture or a schema that pages link to, None for anything else."""
    known = {str(one.relative_to(FOLDER)): one for one in (*FOLDER.glob("screenshots/*.png"), *FOLDER.glob("*.json"))}
    return known.get(name)


class _Addresses(Extension):
    def extendMarkdown(self, md: markdown.Markdown) -> None:  # noqa: N802 - the library's name
        md.treeprocessors.register(_Rewrite(md), "addresses", 0)


class _Rewrite(Treeprocessor):
    """Links between files of the book become addresses of the application."""

    def run(self, root: Element) -> None:
        for element in root.iter():
            for attribute in ("href", "src"):
                if to := element.get(attribute):
                    element.set(attribute, _address(to))
            if element.tag == "img":
                element.set("loading", "lazy")


def _address(to: str) -> str:
    if _OUTSIDE.match(to):
        return to
    if page := _PAGE.match(to):
        return reverse("help:page", args=[page[1]]) + (page[2] or "")
    return reverse("help:file", args=[to])
