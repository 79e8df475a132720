"""The lines of the stave that more than one page shows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.db.models import Q

from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.models import Frame, Grade, Lane, Patch, Reading, Rung, Shot, Use
from yellowjacket.bench.record.proposals import Proposal
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.raw.frame import CHANNEL_NAMES
from yellowjacket.web import pictures
from yellowjacket.web.sheet.stave import Cell, Line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

CROP_HEIGHT_PX = 60
# Patches whose clipping the sheets show.
_CLIPPING = (Patch.Role.GREY, Patch.Role.HIGHLIGHT)
_MOST_DOTS = 12


@dataclass(frozen=True, slots=True)
class Crops:
    """Crop addresses for the rungs of a page, what they rest on fetched once."""

    page: SittingPage
    developing: Developing

    @classmethod
    def of(cls, page: SittingPage) -> Crops:
        """Crops for a page."""
        return cls(page, page.developing)

    def spot(self, frame: Frame) -> tuple[int, int]:
        """The current spot in raw pixels of a frame: from the URL, else the ladder's, else the middle."""
        asked, widest = self.page.asked_spot, self.page.widest_px
        if asked is not None:
            return round(asked[0] * frame.width / widest), round(asked[1] * frame.width / widest)
        return self.page.ladder.spot_in(frame.width, frame.height, widest)

    def view(
        self,
        rung: Rung,
        size: tuple[int, int],
        *,
        equalised: bool = True,
        factor: float = 1.0,
        monochrome: bool = False,
    ) -> pictures.CropView | None:
        """The crop of a rung's first frame at the current spot, or None without a frame. ``size`` in pixels of the picture,
        ``factor`` sensor pixels to the side of one."""
        frames = self.page.light(rung)
        if not frames:
            return None
        frame = frames[0]
        switches = Switches(equalised=equalised, monochrome=monochrome)
        developed = self.developing.of_frame(frame, rung.pk, switches)
        return pictures.crop_view(frame, self.spot(frame), size, developed, factor)

    def with_black(self, error_dn: Mapping[str, float]) -> Crops:
        """The same with a black that lies so many DN above what the files say, by channel."""
        return replace(self, developing=self.developing.with_black(error_dn))

    def treated(
        self,
        rung: Rung,
        frame: Frame,
        size: tuple[int, int],
        push_stops: float,
        factor: float,
        treated: pictures.Treated,
    ) -> pictures.CropView:
        """The spot of a frame, equally bright and pushed, after what was done to its numbers."""
        developed = self.developing.of_frame(frame, rung.pk, Switches(push_stops=push_stops))
        return pictures.crop_view(frame, self.spot(frame), size, developed, factor, treated)

    def of_dark(
        self, frame: Frame, rung: Rung, size: tuple[int, int], push_stops: float, factor: float = 1.0,
        treated: pictures.Treated = pictures.UNTREATED,
    ) -> pictures.CropView:  # fmt: skip
        """The middle of a dark, as bright as a correct exposure at its ISO would be developed and pushed."""
        developed = self.developing.of_frame(frame, rung.pk, Switches(equalised=False, push_stops=push_stops))
        return pictures.crop_view(frame, (frame.width // 2, frame.height // 2), size, developed, factor, treated)


def crop_line(page: SittingPage, column_px: int) -> Line:
    """The spot at 100 % for every rung, all at the same brightness."""
    crops = Crops.of(page)
    cells = [Cell(extra=crops.view(rung, (column_px - 2, CROP_HEIGHT_PX))) for rung in page.rungs]
    rendered = any(frame.mosaic_layout.rendered for rung in page.rungs for frame in page.light(rung)[:1])
    how = "camera's own" if rendered else "equal brightness"
    return Line("crops", str(page.ladder.body), f"spot at 100 %, {how}", "crops", cells)


def frames_line(page: SittingPage) -> Line:
    """Which shots of a rung are in: light and dark."""

    def cell(rung: Rung) -> Cell:
        marks = []
        for kind in (Shot.Kind.LIGHT, Shot.Kind.DARK):
            planned, taken = page.shots.get((rung.pk, kind), 0), len(page.frames.get((rung.pk, kind), []))
            # A long run is counted; a dot for each of it would fill the page.
            dots = [n < taken for n in range(planned)] if planned <= _MOST_DOTS else []
            marks.append((kind, dots, f"{taken} of {planned}"))
        title = ", ".join(f"{count} {kind}" for kind, _, count in marks)
        return Cell(extra=marks, title=title)

    return Line("frames", "Frames in", "light above, dark below", "frames", [cell(rung) for rung in page.rungs])


@dataclass(frozen=True, slots=True)
class SeenReading:
    """A reading as a sheet shows it; by its id its provenance opens. A page has hundreds: no more than that is made of each."""

    pk: int
    excluded: int
    result: Quantity

    @property
    def value(self) -> float | None:
        """None where it could not be measured."""
        return self.result.value

    @property
    def low(self) -> float | None:
        """The lower end of its interval."""
        return self.result.low

    @property
    def high(self) -> float | None:
        """The upper end of its interval."""
        return self.result.high

    @property
    def n(self) -> int:
        """Of how many samples."""
        return self.result.n

    @property
    def reason(self) -> str:
        """The notes in words."""
        return self.result.reason


class Readings:
    """The readings of some quantities that a sheet shows, at the size that the page shows where they depend on it: of one rung or
    of all, of the rung ``in_full`` those of single channels too."""

    def __init__(
        self, page: SittingPage, quantities: Iterable[Measurand], *, of: Rung | None = None, in_full: Rung | None = None
    ) -> None:
        many = (Patch.Role.FIELD, Patch.Role.COLOUR, Patch.Role.WEDGE)
        rungs = page.rungs if of is None else [of]
        asked = Reading.objects.filter(Q(use=None) | Q(use=page.size_use), rung__in=rungs, quantity__in=set(quantities))
        # The sheet shows what stands for all channels; clipping is the worst of them.
        shown = Q(channel__in=("G", "all")) | Q(quantity=Measurand.CLIPPED_SHARE, patch__role__in=_CLIPPING)
        rows = asked.exclude(patch__role__in=many).filter(shown if in_full is None else shown | Q(rung=in_full))
        self._found: dict[tuple[Any, ...], SeenReading] = {}
        fields = ("use_id", "pk", "excluded", "rung_id", "patch__role", "channel", "quantity")
        # Per pixel first: what was read at the use's size takes its place.
        for _, pk, excluded, *place, result in sorted(rows.quantities(*fields), key=lambda row: row[0] is not None):
            self._found[*place,] = SeenReading(pk, excluded, result)

    def __bool__(self) -> bool:
        return bool(self._found)

    def get(self, rung: Rung, quantity: str, channel: str = "all", role: str | None = None) -> SeenReading | None:
        """One reading, or None."""
        return self._found.get((rung.pk, role, channel, quantity))

    def worst_share(self, rung: Rung, role: str) -> SeenReading | None:
        """The largest clipped share of a patch over its channels."""
        rows = [self.get(rung, Measurand.CLIPPED_SHARE, channel, role) for channel in CHANNEL_NAMES]
        known = [row for row in rows if row is not None]
        return max(known, key=lambda row: row.value or 0.0) if known else None


def reading_cell(reading: SeenReading | None, text: str, *, strong: bool = False) -> Cell:
    """A cell whose value opens its provenance; an unmeasured one shows a dash and its reason."""
    if reading is None:
        return Cell()
    if reading.value is None:
        return Cell("–", title=reading.reason, reading_id=reading.pk)
    inside_noise = reading.result.has(Remark.NOT_DISTINGUISHABLE)
    bound = reading.result.bound
    return Cell(f"{bound} {text}" if bound else text, strong, _interval_text(reading), inside_noise, reading.pk)


def _interval_text(reading: SeenReading) -> str:
    if reading.low is None or reading.high is None:
        return reading.reason
    spread = f"95 %: {values.number(reading.low)} … {values.number(reading.high)}"
    return f"{spread}; {reading.reason}" if reading.reason else spread


def error_line(page: SittingPage, readings: Readings) -> Line:
    """Exposure error of each rung in stops; beyond a sixth it stands out."""

    def cell(rung: Rung) -> Cell:
        reading = readings.get(rung, Measurand.EXPOSURE_ERROR_STOPS)
        text = values.stops_signed(reading.value) if reading else ""
        return reading_cell(reading, text, strong=bool(reading and reading.value and abs(reading.value) > 1 / 6))

    return Line("error", "Exposure error", "stops, ±1/6 allowed", cells=[cell(rung) for rung in page.rungs])


@dataclass(frozen=True, slots=True)
class GradeMark:
    """A grade in a cell: 1–5 and the reason given with it."""

    grade: int | None
    reason: str


def grade_lines(
    page: SittingPage, proposals: Sequence[Proposal], *, person: str | None = None, lane: Lane | None = None
) -> list[Line]:
    """One line per use with its grades, as is or of a lane, the usable limit marked by a bracket behind its last rung."""
    as_is = person is None and lane is None
    grades = page.grades if as_is else Grade.objects.current(page.ladder, person, lane)
    return [_grade_line(page, use, grades, proposals) for use in page.uses]


def _grade_line(
    page: SittingPage, use: Use, grades: Mapping[tuple[int, int], Grade], proposals: Sequence[Proposal]
) -> Line:
    usable = next((p for p in proposals if p.use.pk == use.pk and p.level == "usable"), None)
    cells = []
    for rung in page.rungs:
        grade = grades.get((rung.pk, use.pk))
        mark = GradeMark(grade.grade, grade.get_reason_display()) if grade else GradeMark(None, "")
        cells.append(Cell(extra=mark, title=_grade_title(grade), bracket=_bracket(rung, usable)))
    return Line(f"grade-{use.pk}", use.name, use.size_text, "grades", cells, chosen=use.pk == page.use.pk)


def _grade_title(grade: Grade | None) -> str:
    if grade is None:
        return "not graded"
    because = f", {grade.get_reason_display()}" if grade.reason else ""
    size = f"at {grade.size_percent} %" if grade.size_percent else "at the use's size"
    note = f": {grade.note}" if grade.note else ""
    return f"{grade.letter}{because}, by {grade.person}, {size}, {grade.get_seen_display()}{note}"


def _bracket(rung: Rung, usable: Proposal | None) -> str:
    """ "measured", "graded" or "both" when the usable limit stands behind this rung."""
    if usable is None:
        return ""

    def ends(limit: Limit) -> bool:
        return limit.mark == rung.iso and not limit.at_least

    found = [name for name, limit in (("measured", usable.measured), ("graded", usable.graded)) if ends(limit)]
    return "both" if len(found) == 2 else "".join(found)
