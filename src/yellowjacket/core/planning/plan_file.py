"""Plans as plain values: a ladder as asked for, and whole plan documents, read back with every mistake named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields
from typing import Any

from yellowjacket.core.planning.ladder import Exposure, Filter, LadderSpec

SCHEMA = "yellowjacket-plan/1"
_LONGEST_WORD = 60
_LARGEST = 1e12
_MOST_LADDERS = 100


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
    if not isinstance(values, Mapping):
        raise PlanFileError(f"A ladder is a set of named fields, not {_shown(values)}.")
    unknown = sorted(map(str, set(values) - set(known)))
    if unknown:
        raise PlanFileError(f"A ladder has no field {_shown(unknown[0])}; it has {', '.join(known)}.")
    try:
        given = dict(values)
        given["metered"] = Exposure(**given["metered"])
        given["filters"] = tuple(Filter(**one) for one in given.get("filters", ()))
        for name in ("picked", "values", "crossed"):
            listed = given.get(name, ())
            if isinstance(listed, (str, Mapping)):
                raise PlanFileError(f"{name} must be a list, not {_shown(listed)}.")
            given[name] = tuple(listed)
        spec = LadderSpec(**given)
    except (KeyError, TypeError, AttributeError) as error:
        raise PlanFileError(f"A ladder of the plan is incomplete: {error}.") from error
    _check_types(spec)
    return spec


def _check_types(spec: LadderSpec) -> None:
    for name in ("kind", "method", "step", "lenr"):
        if not isinstance(getattr(spec, name), str):
            raise PlanFileError(f"{name} must be a word, not {_shown(getattr(spec, name))}.")
    for name in ("values", "crossed"):
        for word in getattr(spec, name):
            if not isinstance(word, str) or len(word) > _LONGEST_WORD or "\0" in word:
                raise PlanFileError(f"{name} must be words, not {_shown(word)}.")
    for name in ("shuffled", "closing_repeat"):
        if not isinstance(getattr(spec, name), bool):
            raise PlanFileError(f"{name} must be true or false, not {_shown(getattr(spec, name))}.")
    for name in ("repeats", "darks"):
        _require_number(name, getattr(spec, name), whole=True)
    numbers = {"under": spec.under, "over": spec.over, "shortest_s": spec.shortest_s, "longest_s": spec.longest_s,
               "rest_s": spec.rest_s, "metered.iso": spec.metered.iso, "metered.exposure_s": spec.metered.exposure_s,
               "metered.f_number": spec.metered.f_number}  # fmt: skip
    numbers |= {f"picked {n + 1}": value for n, value in enumerate(spec.picked)}
    if spec.lux is not None:
        numbers["lux"] = spec.lux
    for n, one in enumerate(spec.filters, start=1):
        numbers |= {f"filter {n}, nominal_stops": one.nominal_stops, f"filter {n}, true_stops": one.true_stops}
        for word in (one.name, one.tint):
            if not isinstance(word, str) or len(word) > _LONGEST_WORD or "\0" in word:
                raise PlanFileError(f"filter {n} must be named in words, not {_shown(word)}.")
    for name, value in numbers.items():
        _require_number(name, value)
    for name in ("metered.iso", "metered.exposure_s", "metered.f_number"):
        if not numbers[name] > 0:
            raise PlanFileError(f"{name} must be positive, not {numbers[name]!r}.")


def _require_number(name: str, value: object, *, whole: bool = False) -> None:
    fits = isinstance(value, int) if whole else isinstance(value, (int, float))
    if isinstance(value, bool) or not fits or not abs(value) <= _LARGEST:  # type: ignore[arg-type]
        raise PlanFileError(f"{name} must be a {'whole ' if whole else ''}number, not {_shown(value)}.")


def _shown(value: object) -> str:
    """A wrong value as it is told back: short, and never a number of thousands of digits."""
    if isinstance(value, int) and abs(value) > _LARGEST:
        return "one so large"
    text = repr(value)
    return text if len(text) <= _LONGEST_WORD else f"{text[:_LONGEST_WORD]}…"


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
        raise PlanFileError(f"This plan is of version {_shown(document['schema'])}; this application reads {SCHEMA!r}.")
    listed = document.get("ladders")
    if not isinstance(listed, list) or len(listed) > _MOST_LADDERS:
        raise PlanFileError(f"The plan needs a list of ladders, {_MOST_LADDERS} at most.")
    try:
        ladders = tuple(
            PlannedFor(str(one["body"]["make"]), str(one["body"]["model"]), str(one["body"].get("serial", "")),
                       spec_from(one["ladder"]))
            for one in listed
        )  # fmt: skip
    except (KeyError, TypeError, AttributeError) as error:
        raise PlanFileError(f"The plan is incomplete: {error}.") from error
    if not ladders:
        raise PlanFileError("The plan has no ladder.")
    return str(document.get("name", "")), str(document.get("held_equal", "settings")), ladders
