"""Limits and proposals as plain values: what signed records and exports keep of them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field
from typing_extensions import TypedDict

from yellowjacket.core.limits.tolerance import LEVELS


def one_of(*values: str | int | None) -> Any:
    """That a field holds one of these, said in the schema: its type stays that of the column it comes from."""
    return Field(json_schema_extra={"enum": list(values)})


Level = Annotated[str, one_of(*LEVELS)]


class LimitPart(TypedDict):
    """A limit along ISO as measured or graded."""

    level: Level
    mark: int | None
    crossing: float | None
    low: float | None
    high: float | None
    at_least: bool
    criterion: str
    criterion_key: str
    doubts: list[str]
    reason: str


class ProposalPart(TypedDict):
    """Measured and graded limit of a use and level beside each other."""

    use: str
    level: Level
    measured: LimitPart
    graded: LimitPart
