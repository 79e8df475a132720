"""Calendar files (iCalendar, RFC 5545): entries at local clock times."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from django.utils import timezone


@dataclass(frozen=True, slots=True)
class Event:
    """One entry; ``key`` tells it from all others."""

    key: str
    begins: datetime
    ends: datetime
    title: str
    words: str


def calendar_text(what: str, events: Iterable[Event]) -> str:
    """The file as text with the line ends the standard wants. ``what``: which part of the application made it."""
    stamp = timezone.now().strftime("%Y%m%dT%H%M%SZ")
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", f"PRODID:-//Yellowjacket//{what}//EN"]
    for one in events:
        lines += [
            "BEGIN:VEVENT", f"UID:{one.key}@yellowjacket.invalid", f"DTSTAMP:{stamp}",
            f"DTSTART:{one.begins:%Y%m%dT%H%M%S}", f"DTEND:{one.ends:%Y%m%dT%H%M%S}", f"SUMMARY:{_escaped(one.title)}",
            f"DESCRIPTION:{_escaped(one.words)}", "END:VEVENT",
        ]  # fmt: skip
    lines.append("END:VCALENDAR")
    return "".join(f"{_folded(line)}\r\n" for line in lines)


def _escaped(text: str) -> str:
    """Text as RFC 5545 §3.3.11 wants it."""
    for plain, escaped in (("\\", "\\\\"), (";", "\\;"), (",", "\\,"), ("\n", "\\n")):
        text = text.replace(plain, escaped)
    return text


def _folded(line: str) -> str:
    """Lines of more than 75 octets go on in the next, which begins with a space (RFC 5545 §3.1)."""
    parts, part = [], ""
    for character in line:
        if len((part + character).encode()) > 74:
            parts.append(part)
            part = ""
        part += character
    return "\r\n ".join([*parts, part])
