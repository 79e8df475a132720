"""Plans as plain values: a ladder as asked for, and whole plan documents, read back with every mistake named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields
from typing import Any

from yellowjacket.core.ladder import Exposure, Filter, LadderSpec

SCHEMA = "yellowjacket-plan/1"


class PlanFileError(ValueError):
    """A plan document that cannot be read; the message names the place and the remedy."""


@dataclass(frozen=True, slots=True)
class PlannedFor:
    """A ladder of a plan document and the body it was made for."""

    make: str
    model: str
    serial: str
    spec: LadderSpec


def spec_as_dict(spec: LadderSpec) -> dict[str, Any]:
    """The spec as plain values for JSON."""
    return asdict(spec)


def spec_from(values: Mapping[str, Any]) -> LadderSpec:
    """The spec from plain values; unknown names and wrong types raise PlanFileError."""
    known = {field.name: field for field in fields(LadderSpec)}
    unknown = sorted(set(values) - set(known))
    if unknown:
        raise PlanFileError(f"A ladder has no field {unknown[0]!r}; it has {', '.join(known)}.")
    try:
        given = dict(values)
        given["metered"] = Exposure(**given["metered"])
        given["filters"] = tuple(Filter(**one) for one in given.get("filters", ()))
        for name in ("picked", "values", "crossed"):
            given[name] = tuple(given.get(name, ()))
        spec = LadderSpec(**given)
    except (KeyError, TypeError) as error:
        raise PlanFileError(f"A ladder of the plan is incomplete: {error}.") from error
    _check_types(spec)
    return spec


def _check_types(spec: LadderSpec) -> None:
    for name in ("kind", "method", "step", "lenr"):
        if not isinstance(getattr(spec, name), str):
            raise PlanFileError(f"{name} must be a word, not {getattr(spec, name)!r}.")
    numbers = {"under": spec.under, "over": spec.over, "shortest_s": spec.shortest_s, "longest_s": spec.longest_s,
               "rest_s": spec.rest_s, "repeats": spec.repeats, "darks": spec.darks, "metered.iso": spec.metered.iso,
               "metered.exposure_s": spec.metered.exposure_s, "metered.f_number": spec.metered.f_number}  # fmt: skip
    for name, value in numbers.items():
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise PlanFileError(f"{name} must be a number, not {value!r}.")
    for name in ("metered.iso", "metered.exposure_s", "metered.f_number"):
        if not numbers[name] > 0:
            raise PlanFileError(f"{name} must be positive, not {numbers[name]!r}.")


def plan_document(name: str, ladders: Sequence[PlannedFor], held_equal: str) -> dict[str, Any]:
    """A whole plan as a document for export and templates."""
    return {
        "schema": SCHEMA,
        "name": name,
        "held_equal": held_equal,
        "ladders": [
            {"body": {"make": one.make, "model": one.model, "serial": one.serial}, "ladder": spec_as_dict(one.spec)}
            for one in ladders
        ],
    }


def read_plan(document: Any) -> tuple[str, str, tuple[PlannedFor, ...]]:
    """Name, what is held equal, and ladders of a plan document. Raises PlanFileError."""
    if not isinstance(document, dict) or "schema" not in document:
        raise PlanFileError('This is no plan: it has no "schema". Export one from a Plan page to see the form.')
    if document["schema"] != SCHEMA:
        raise PlanFileError(f"This plan is of version {document['schema']!r}; this application reads {SCHEMA!r}.")
    try:
        ladders = tuple(
            PlannedFor(str(one["body"]["make"]), str(one["body"]["model"]), str(one["body"].get("serial", "")),
                       spec_from(one["ladder"]))
            for one in document["ladders"]
        )  # fmt: skip
    except (KeyError, TypeError, AttributeError) as error:
        raise PlanFileError(f"The plan is incomplete: {error}.") from error
    if not ladders:
        raise PlanFileError("The plan has no ladder.")
    return str(document.get("name", "")), str(document.get("held_equal", "settings")), ladders
