"""Plans as plain values: a ladder as asked for, and whole plan documents, read back with every mistake named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from yellowjacket.core.metrology.decoding import Document, Number, Positive, Word, first_mistake
from yellowjacket.core.planning.ladder import Exposure, Filter, LadderSpec

SCHEMA = "yellowjacket-plan/1"
_MOST_LADDERS, _MOST_LISTED = 100, 1000


class PlanFileError(ValueError):
    """A plan document that cannot be read; the message names the place and the remedy."""


@dataclass(frozen=True, slots=True)
class PlannedFor:
    """A ladder of a plan document and the body it was made for."""

    make: str
    model: str
    serial: str
    spec: LadderSpec


class _Exposure(Document):
    iso: Positive
    exposure_s: Positive
    f_number: Positive


class _Filter(Document):
    name: Word
    nominal_stops: Number
    true_stops: Number
    tint: Word


class _Ladder(Document):
    kind: Literal["iso", "exposure", "time", "setting"]
    method: Literal[
        "shutter", "lamp", "nd", "fixed", "capped", "endurance", "scene", "raw_mode", "noise_reduction", "bit_depth"
    ]
    metered: _Exposure
    step: Literal["third", "half", "full", "two", "three"] = "full"
    picked: Annotated[list[Number], Field(max_length=_MOST_LISTED)] = []
    under: Number = 5.0
    over: Number = 5.0
    shortest_s: Number = 1.0
    longest_s: Number = 960.0
    lenr: Literal["off", "on", "pairs"] = "off"
    rest_s: Number = 0.0
    shuffled: bool = False
    values: Annotated[list[Word], Field(max_length=_MOST_LISTED)] = []
    crossed: Annotated[list[Word], Field(max_length=_MOST_LISTED)] = []
    repeats: Annotated[int, Field(ge=1, le=10**9)] = 2
    darks: Annotated[int, Field(ge=0, le=10**9)] = 2
    closing_repeat: bool = False
    filters: Annotated[list[_Filter], Field(max_length=_MOST_LISTED)] = []
    lux: Number | None = None

    def spec(self) -> LadderSpec:
        """The ladder as planning knows it."""
        given = {name: getattr(self, name) for name in type(self).model_fields}
        metered, filters = self.metered, tuple(Filter(**one.model_dump()) for one in self.filters)
        listed = {name: tuple(given[name]) for name in ("picked", "values", "crossed")}
        exposure = Exposure(metered.iso, metered.exposure_s, metered.f_number)
        return LadderSpec(**{**given, **listed, "metered": exposure, "filters": filters})


class _Body(Document):
    make: Word
    model: Word
    serial: Word = ""


class _Planned(Document):
    body: _Body
    ladder: _Ladder


class PlanDocument(Document):
    """A whole plan."""

    schema_: Annotated[Literal["yellowjacket-plan/1"], Field(alias="schema")]
    name: Annotated[str, Field(max_length=200)] = ""
    held_equal: Literal["settings", "light", "brightness"] = "settings"
    ladders: Annotated[list[_Planned], Field(min_length=1, max_length=_MOST_LADDERS)]


def spec_as_dict(spec: LadderSpec) -> dict[str, Any]:
    """The spec as plain values for JSON."""
    return asdict(spec)


def spec_from(values: Mapping[str, Any]) -> LadderSpec:
    """The spec from plain values, tuples or lists; unknown names and wrong types raise PlanFileError."""
    try:
        return _Ladder.model_validate(_with_lists(values)).spec()
    except ValidationError as error:
        raise PlanFileError(f"The ladder cannot be read: {first_mistake(error)}") from error


def _with_lists(values: object) -> object:
    """Plain values as JSON has them."""
    if isinstance(values, Mapping):
        return {str(name): _with_lists(value) for name, value in values.items()}
    return [_with_lists(value) for value in values] if isinstance(values, (list, tuple)) else values


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
        raise PlanFileError('This is not a plan: it has no "schema". Export one from a Plan page to see the form.')
    if document["schema"] != SCHEMA:
        raise PlanFileError(f"This plan is of version {document['schema']!r:.60}; this application reads {SCHEMA!r}.")
    try:
        read = PlanDocument.model_validate(_with_lists(document))
    except ValidationError as error:
        raise PlanFileError(f"The plan cannot be read: {first_mistake(error)}") from error
    ladders = tuple(
        PlannedFor(one.body.make, one.body.model, one.body.serial, one.ladder.spec()) for one in read.ladders
    )
    return read.name, read.held_equal, ladders
