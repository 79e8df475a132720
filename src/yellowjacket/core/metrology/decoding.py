"""Documents decoded by their types, every mistake named in one sentence. Schemas come from the same types (tools/schemas.py)."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

_LARGEST = 1e12
_LONGEST_WORD = 60
_SHOWN = 60


def _printable(text: str) -> str:
    if "\0" in text:
        raise ValueError("holds a character that is not text")
    return text


Number = Annotated[float, Field(ge=-_LARGEST, le=_LARGEST)]
Positive = Annotated[float, Field(gt=0, le=_LARGEST)]
Word = Annotated[str, Field(max_length=_LONGEST_WORD), AfterValidator(_printable)]


class Document(BaseModel):
    """A part of a document: exactly these fields, of exactly these types. Never a NaN."""

    model_config = ConfigDict(strict=True, extra="forbid", allow_inf_nan=False)


def first_mistake(error: ValidationError) -> str:
    """The first thing that is wrong, its place first: "ladders 2, metered.iso must be a number, not 'x'."."""
    # A field that should not be there is often a misspelt one that then is missing: it is named first.
    found = min(error.errors(include_url=False), key=lambda one: one["type"] != "extra_forbidden")
    place = _place(found["loc"])
    kind, context = found["type"], found.get("ctx", {})
    shown = _shown(found.get("input"))
    if kind == "missing":
        return f"{place} is missing."
    if kind == "extra_forbidden":
        return f"{place} is not one of its fields: leave it out."
    wanted = {
        "float_type": "must be a number", "int_type": "must be a whole number", "int_from_float": "must be a whole number",
        "bool_type": "must be true or false", "string_type": "must be a word", "list_type": "must be a list",
        "tuple_type": "must be a list", "dict_type": "must be a set of named fields",
        "model_type": "must be a set of named fields", "finite_number": "must be a finite number",
        "literal_error": f"must be {context.get('expected', '')}", "string_too_long": "must be shorter",
        "greater_than": f"must be above {context.get('gt', 0):g}" if kind == "greater_than" else "",
        "greater_than_equal": f"must be {context.get('ge', 0):g} or more" if kind == "greater_than_equal" else "",
        "less_than_equal": "must be smaller", "too_long": f"must have {context.get('max_length')} entries at most",
        "too_short": f"must have {context.get('min_length')} entries or more",
        "value_error": str(context.get("error", "cannot be read")),
    }.get(kind, found["msg"])  # fmt: skip
    return f"{place} {wanted}, not {shown}."


def _place(parts: tuple[int | str, ...]) -> str:
    """ "ladders 2, metered.iso": numbers count from one."""
    text = ""
    for part in parts:
        if isinstance(part, int):
            text += f" {part + 1}"
        else:
            text += (", " if text[-1:].isdigit() else "." if text else "") + str(part)
    return text or "the document"


def _shown(value: object) -> str:
    """A wrong value as it is told back: short, and never a number of thousands of digits."""
    if isinstance(value, int) and abs(value) > _LARGEST:
        return "one so large"
    text = repr(value)
    return text if len(text) <= _SHOWN else f"{text[:_SHOWN]}…"
