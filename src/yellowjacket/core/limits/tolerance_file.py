"""Tolerance profiles as documents: thresholds by criterion and level, read back with every mistake named."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from yellowjacket.core.limits.tolerance import LEVELS, Criterion, Profile, profile_from

SCHEMA = "yellowjacket-tolerance/1"
_LARGEST = 1e9
_LONGEST_NAME = 80


class ProfileFileError(ValueError):
    """A document that is no profile; the message names the place and the remedy."""


def profile_document(profile: Profile) -> dict[str, Any]:
    """A profile with every threshold spelt out, whether it is the default's or the tester's own."""
    return {
        "schema": SCHEMA, "name": profile.name, "levels": list(LEVELS),
        "criteria": {one.key: _criterion(one) for one in (*profile.criteria, *profile.long_exposure)},
    }  # fmt: skip


def _criterion(one: Criterion) -> dict[str, Any]:
    return {"label": one.label, "better": "more" if one.at_least else "less", "thresholds": list(one.thresholds)}


def read_profile(document: object) -> tuple[str, dict[str, list[float]]]:
    """Name and thresholds ``{criterion key: [clean, usable, emergency]}`` of a document. Raises ProfileFileError."""
    if not isinstance(document, Mapping) or not str(document.get("schema", "")).startswith("yellowjacket-tolerance/"):
        raise ProfileFileError("This file is no tolerance profile: its schema is missing.")
    if document["schema"] != SCHEMA:
        raise ProfileFileError(f"This file is of version {document['schema']}; this one reads {SCHEMA}: upgrade it.")
    name, criteria = document.get("name"), document.get("criteria")
    if not isinstance(name, str) or not name.strip() or not name.strip().isprintable():
        raise ProfileFileError("The profile has no name.")
    if len(name) > _LONGEST_NAME:
        raise ProfileFileError(f"The profile's name is longer than {_LONGEST_NAME} characters.")
    if not isinstance(criteria, Mapping):
        raise ProfileFileError("The profile has no criteria.")
    thresholds = {str(key): _thresholds(str(key), one) for key, one in criteria.items()}
    try:
        profile_from(name, thresholds)
    except ValueError as error:
        raise ProfileFileError(f"The profile “{name}”: {error}.") from error
    return name.strip(), thresholds


def _thresholds(key: str, one: object) -> list[float]:
    values = one.get("thresholds") if isinstance(one, Mapping) else None
    numbers = isinstance(values, list) and len(values) == len(LEVELS) and all(
        isinstance(v, (int, float)) and not isinstance(v, bool) and abs(v) <= _LARGEST for v in values
    )  # fmt: skip
    if not numbers:
        raise ProfileFileError(f"{key} needs three numbers: {', '.join(LEVELS)}.")
    assert isinstance(values, list)  # noqa: S101 - seen above
    return [float(v) for v in values]
