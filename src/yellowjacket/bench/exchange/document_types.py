"""What the JSON of a sitting is, field by field: the exporter is checked against it, and its published schema comes from it."""

from __future__ import annotations

from typing import Annotated, Any, NotRequired

from pydantic import Field
from typing_extensions import TypedDict

from yellowjacket.bench.record.kept import Level, ProposalPart, one_of

SCHEMA = "yellowjacket-sitting/1"

_Count = Annotated[int, Field(ge=0)]
_Positive = Annotated[float, Field(gt=0)]
_Sha256 = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
_Day = Annotated[str, Field(pattern=r"^\d{4}-\d\d-\d\d$")]


class SittingPart(TypedDict):
    """The sitting itself."""

    name: str
    scene: str
    asked: str
    expected: str
    held_on: _Day
    lens: str
    light: str
    temperature_c: float | None
    profile: str


class UsePart(TypedDict):
    """A use of the pictures."""

    name: str
    output_pixels: int | None
    crop_share: Annotated[float, Field(gt=0, le=1)]
    print_width_cm: float | None
    viewing_cm: float | None
    monochrome: bool


class BodyPart(TypedDict):
    """The body of a ladder; width and height of its frames."""

    make: str
    model: str
    serial: str
    pixels: Annotated[list[_Count], Field(min_length=2, max_length=2)]


class MeteredPart(TypedDict):
    """The exposure from which a ladder was planned."""

    iso: _Count
    exposure_s: float
    f_number: float


class PatchPart(TypedDict):
    """A patch, in raw pixels."""

    name: str
    role: Annotated[
        str,
        one_of(
            "grey", "shadow", "black", "highlight", "field", "colour", "wedge", "texture", "colour_texture", "other"
        ),
    ]
    x: _Count
    y: _Count
    w: _Count
    h: _Count


class FramePart(TypedDict):
    """A file of a rung."""

    file: str
    sha256: _Sha256
    kind: Annotated[str, one_of("light", "dark")]
    captured_at: str | None
    firmware: str
    width: _Count
    height: _Count


class ReadingPart(TypedDict):
    """A quantity with its interval; ``reason``: why it has no value, or what is said of it. Channels are those of the sensor,
    ``all``, or what the quantity is told from (an edge of the frame, a reduced raw mode beside the full one)."""

    patch: str | None
    channel: str
    quantity: str
    value: float | None
    low: float | None
    high: float | None
    n: _Count
    excluded: _Count
    method: str
    reason: NotRequired[str]


class GradePart(TypedDict):
    """A grade; null takes an earlier one back."""

    use: str
    person: str
    grade: Annotated[str | None, one_of("A", "B", "C", "D", "E", None)]
    reason: str | None
    note: str | None
    lane: str | None
    steps: Annotated[int, one_of(3, 5)]
    size_percent: int | None
    equalised: bool
    moved_stops: float | None
    push_stops: float
    developer: str
    seen: Annotated[str, one_of("alone", "beside", "paper")]
    given_at: str


class RungPart(TypedDict):
    """A rung with what belongs to it."""

    iso: _Count
    exposure_s: _Positive
    extended: bool
    frames: list[FramePart]
    readings: list[ReadingPart]
    grades: list[GradePart]


class PicturePart(TypedDict):
    """A picture of a lane and where it lies on its frame."""

    file: str
    sha256: str
    rung: str
    frame: str | None
    matched_by: str
    place: list[float]
    effect: dict[str, Any]


class LanePart(TypedDict):
    """Pictures of a ladder finished in one way."""

    name: str
    kind: Annotated[str, one_of("finish", "camera", "converter")]
    settings: str
    person: str
    pictures: list[PicturePart]


class DecisionPart(TypedDict):
    """A decided limit."""

    use: str
    level: Level
    iso: int | None


class OtherDecisionPart(TypedDict):
    """What was decided besides the highest ISO, in words."""

    what: str
    use: str
    text: str


class RecordPart(TypedDict):
    """A version of a record; ``evidence``: what it rested on when it was signed."""

    version: _Count
    answer: str
    note: str
    signed_by: str | None
    signed_at: str | None
    evidence: dict[str, Any] | None
    decisions: list[DecisionPart]
    besides: list[OtherDecisionPart]


class LadderPart(TypedDict):
    """A ladder of one body."""

    kind: str
    method: str
    body: BodyPart
    metered: MeteredPart
    patches: list[PatchPart]
    rungs: list[RungPart]
    lanes: list[LanePart]
    conditions: dict[str, Any]
    proposals: list[ProposalPart]
    records: list[RecordPart]


class RungNamed(TypedDict):
    """A rung by its body and key."""

    body: str
    rung: str


class VerdictPart(TypedDict):
    """Two rungs compared by a person."""

    one: RungNamed
    other: RungNamed
    one_lane: str | None
    other_lane: str | None
    use: str
    person: str
    score: Annotated[int, Field(ge=-2, le=2)]
    reason: str | None
    blind: bool
    size_percent: int | None
    developer: str
    held_equal: str
    given_at: str


class ProblemPart(TypedDict):
    """A file that was not taken."""

    file_name: str
    code: str
    reason: str
    remedy: str


class SittingDocument(TypedDict):
    """The whole document."""

    schema: Annotated[str, Field(json_schema_extra={"const": SCHEMA})]
    sitting: SittingPart
    uses: list[UsePart]
    ladders: list[LadderPart]
    verdicts: list[VerdictPart]
    problems: list[ProblemPart]
