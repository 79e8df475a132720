"""The forms that pages show, with what a browser would send of them untouched."""

from __future__ import annotations

from dataclasses import dataclass, field
from html.parser import HTMLParser


@dataclass
class FoundForm:
    """Where a form goes, how, and its fields as they stand."""

    action: str
    method: str
    fields: dict[str, str] = field(default_factory=dict)
    buttons: list[tuple[str, str]] = field(default_factory=list)


class _Forms(HTMLParser):
    def __init__(self, address: str) -> None:
        super().__init__()
        self.found: list[FoundForm] = []
        self._address, self._open, self._select, self._text = address, None, "", ""

    def handle_starttag(self, tag, attributes):
        values = {name: value or "" for name, value in attributes}
        post = values.get("hx-post")
        if tag == "form":
            self._open = FoundForm(values.get("action") or post or self._address, values.get("method", "get").lower())
            if post:
                self._open.method = "post"
            self.found.append(self._open)
        elif post:
            sent = {values["name"]: values.get("value", "")} if "name" in values else {}
            self.found.append(FoundForm(post, "post", sent))
        elif values.get("hx-get"):
            self.found.append(FoundForm(values["hx-get"], "get", {}))
        name = values.get("name", "")
        if self._open is None or not name:
            if tag == "option" and self._select and self._open is not None and self._select not in self._open.fields:
                self._open.fields[self._select] = values.get("value", "")
            return
        if tag == "input" and (values.get("type") not in ("checkbox", "radio") or "checked" in values):
            self._open.fields[name] = values.get("value", "")
        elif tag == "select":
            self._select = name
        elif tag == "textarea":
            self._open.fields[name] = ""
        elif tag == "button":
            self._open.buttons.append((name, values.get("value", "")))

    def handle_endtag(self, tag):
        if tag == "form":
            self._open = None
        elif tag == "select":
            self._select = ""


def forms_in(address: str, html: str) -> list[FoundForm]:
    """All of a page."""
    parser = _Forms(address)
    parser.feed(html)
    return parser.found
