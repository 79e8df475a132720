"""The places of the house, as the rail names them."""

from __future__ import annotations

from dataclasses import dataclass

from django.http import HttpRequest


@dataclass(frozen=True, slots=True)
class Place:
    """A place: its key, the page it opens, its name and what is there."""

    key: str
    page: str
    name: str
    words: str


PLACES = (
    Place("desk", "desk:page", "Desk", "bodies and sittings"),
    Place("bodies", "desk:bodies", "Bodies", "the register"),
    Place("darks", "darks:page", "Darks", "masters, and which fits"),
    Place("night", "night:page", "Night", "long exposures, planned"),
    Place("compare", "compare:page", "Compare", "bodies on one axis"),
    Place("advice", "advice:page", "Advice", "what to set, and why"),
    Place("tolerance", "tolerance:page", "Tolerance", "what you accept"),
    Place("practice", "practice:page", "Practice", "can you tell them apart"),
    Place("archive", "desk:archive", "Archive", "where your frames lie"),
    Place("people", "people:page", "People", "who decided what"),
    Place("settings", "help:settings", "Settings", "health, accuracy, folders"),
    Place("help", "help:contents", "Help", "how to, and what it means"),
)


def rail(_request: HttpRequest) -> dict[str, object]:
    """For every template: the places."""
    return {"places": PLACES}
