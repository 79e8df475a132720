"""Tolerance profiles as documents: thresholds by criterion and level, read back with every mistake named."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from yellowjacket.core.limits.tolerance import LEVELS, Criterion, Profile, profile_from
from yellowjacket.core.metrology.decoding import Document, Positive, first_mistake

SCHEMA = "yellowjacket-tolerance/1"
_LONGEST_NAME = 80


class ProfileFileError(ValueError):
    """A document that is no profile; the message names the place and the remedy."""


class _Thresholds(Document):
    thresholds: Annotated[list[Positive], Field(min_length=len(LEVELS), max_length=len(LEVELS))]
    label: str = ""
    better: Literal["more", "less"] = "more"


class ProfileDocument(Document):
    """A profile with its thresholds by criterion: clean, usable, emergency."""

    schema_: Annotated[Literal["yellowjacket-tolerance/1"], Field(alias="schema")]
    name: Annotated[str, Field(min_length=1, max_length=_LONGEST_NAME)]
    levels: list[Literal["clean", "usable", "emergency"]] = ["clean", "usable", "emergency"]
    criteria: dict[str, _Thresholds]
    # Criteria that do not count.
    without: list[str] = []


def profile_document(profile: Profile) -> dict[str, Any]:
    """A profile with every threshold spelt out, whether it is the default's or the tester's own."""
    return {
        "schema": SCHEMA, "name": profile.name, "levels": list(LEVELS),
        "criteria": {one.key: _criterion(one) for one in profile.every},
        "without": [one.key for one in Profile(profile.name).every if one.key not in {own.key for own in profile.every}],
    }  # fmt: skip


def _criterion(one: Criterion) -> dict[str, Any]:
    return {"label": one.label, "better": "more" if one.at_least else "less", "thresholds": list(one.thresholds)}


def read_profile(document: object) -> tuple[str, dict[str, list[float] | None]]:
    """Name and thresholds ``{criterion key: [clean, usable, emergency]}`` of a document, None for those that do not count.
    Raises ProfileFileError."""
    if not isinstance(document, Mapping) or not str(document.get("schema", "")).startswith("yellowjacket-tolerance/"):
        raise ProfileFileError("This file is not a tolerance profile: its schema is missing.")
    if document["schema"] != SCHEMA:
        raise ProfileFileError(f"This file is of version {document['schema']}; this one reads {SCHEMA}: upgrade it.")
    try:
        read = ProfileDocument.model_validate(dict(document))
    except ValidationError as error:
        raise ProfileFileError(f"The profile cannot be read: {first_mistake(error)}") from error
    name = read.name.strip()
    if not name or not name.isprintable():
        raise ProfileFileError("The profile has no name.")
    thresholds: dict[str, list[float] | None] = {key: list(one.thresholds) for key, one in read.criteria.items()}
    thresholds |= dict.fromkeys(read.without)
    try:
        profile_from(name, thresholds)
    except ValueError as error:
        raise ProfileFileError(f"The profile “{name}”: {error}.") from error
    return name, thresholds
