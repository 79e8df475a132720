"""The loupe wall: columns are the rungs of one axis, rows are ladders with their lanes, or spots; every cell the same spot."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from django.db.models import prefetch_related_objects

from yellowjacket.bench.development import BY_GREY, Developed, Developing
from yellowjacket.bench.look import registration
from yellowjacket.bench.look.grades import to_look_at_again
from yellowjacket.bench.models import Frame, Grade, Ladder, Lane, LanePicture, MarkedSpot, Reading, Rung, Shot
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.models.queries.readings import ReadingQuerySet, Said
from yellowjacket.core.exposure import dial, notation
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.registration.similarity import NoMatch, Similarity
from yellowjacket.web import pictures
from yellowjacket.web.look import aligning
from yellowjacket.web.look.switches import LADDERS, SPOTS, Looking
from yellowjacket.web.sitting_page import SittingPage

# A cell on the screen, device pixels; the height by how many rows there are.
CELL_WIDTH_PX = 227
_HEIGHTS_PX = {1: 350, 2: 196, 3: 116}
_LOWEST_PX = 110
# Columns of two ladders closer than this are one.
_COLUMN_STOPS = 1 / 6
Point = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Cell:
    """One picture of the wall. ``key`` names it when it is pinned; ``rect`` is cut from a picture of ``width`` × ``height``
    that lies at ``place`` of the current ladder's frames; ``zoom``: screen pixels for one of its own."""

    key: str
    rung: Rung
    url: str
    rect: Rect
    width: int
    height: int
    place: Similarity
    image_px: tuple[int, int]
    zoom: float
    moved: str
    remark: str
    grade: Grade | None
    again: str
    current: bool

    @property
    def shown_px(self) -> tuple[int, int]:
        """Size on a screen of one device pixel to the CSS pixel."""
        return round(self.image_px[0] * self.zoom), round(self.image_px[1] * self.zoom)

    @property
    def placed(self) -> str:
        """The place for the script that moves the spot."""
        return f"{self.place.a:.6f},{self.place.b:.6f},{self.place.x0:.2f},{self.place.y0:.2f}"


@dataclass(frozen=True, slots=True)
class Row:
    """A row of the wall: its name, what is to be said of it, and a cell per column, None where a rung or frame is missing."""

    key: str
    name: str
    sub: str
    ladder: Ladder
    lane: Lane | None
    cells: Sequence[Cell | None]
    current: bool


@dataclass(frozen=True, slots=True)
class Wall:
    """The whole wall with the height of its cells."""

    rows: Sequence[Row]
    columns: int
    height_px: int


@dataclass(frozen=True, slots=True)
class _Planned:
    """What a row is to show: a ladder, in a lane, at a spot of its own, in one raw mode of several."""

    ladder: Ladder
    lane: Lane | None
    spot: MarkedSpot | None
    value: str | None = None


class Walls:
    """Builds walls and single cells for a page; frames, grades and developments are fetched once for every ladder shown."""

    def __init__(self, page: SittingPage, looking: Looking) -> None:
        self.page, self.looking = page, looking
        wanted = looking.rows == LADDERS
        kin = [ladder for ladder in page.ladders if ladder.kind == page.ladder.kind and not ladder.capped]
        self.ladders = kin if wanted and page.ladder in kin else [page.ladder]
        prefetch_related_objects(self.ladders, "rungs")
        page.fetch_lanes(self.ladders, "pictures")
        self.frames = self._frames()
        self.sizes = {
            ladder.pk: max((frame.width, frame.height) for frame in frames)
            for ladder in self.ladders
            if (frames := [f for r in self._rungs(ladder) if (f := self.frames.get(r.pk))])
        }
        for ladder in self.ladders:
            # Without raw frames a ladder's spots are in pixels of the whole sensor, and its lanes lie on that.
            if ladder.pk not in self.sizes and any(lane.pictures.all() for lane in ladder.lanes.all()):
                self.sizes[ladder.pk] = (ladder.body.pixel_width, ladder.body.pixel_height)
        self._developing: dict[int, Developing] = {}

    def _rungs(self, ladder: Ladder) -> Sequence[Rung]:
        return self.page.rungs if ladder.pk == self.page.ladder.pk else list(ladder.rungs.all())

    def _frames(self) -> dict[int, Frame]:
        """The first light frame of every rung shown: those of the page, of more ladders one query."""
        if self.ladders == [self.page.ladder]:
            return {rung.pk: frames[0] for rung in self.page.rungs if (frames := self.page.light(rung))}
        found: dict[int, Frame] = {}
        rows = Frame.objects.filter(shot__rung__ladder__in=self.ladders, shot__kind=Shot.Kind.LIGHT).defer("report")
        for frame in rows.select_related("shot").order_by("shot__repeat"):
            if frame.shot is not None:
                found.setdefault(frame.shot.rung_id, frame)
        return found

    def asked(self) -> dict[str, ReadingQuerySet]:
        """The readings that the development of all ladders rests on, to be asked for with others."""
        return Developing.asked_of(*self.ladders)

    def tell(self, said: Mapping[str, Sequence[Said]]) -> None:
        """What was ``asked``; the page gets the same."""
        for ladder in self.ladders:
            self._developing[ladder.pk] = Developing.told(ladder, said, self._rungs(ladder))
        self.page.developing = self._developing[self.page.ladder.pk]

    def developing(self, ladder: Ladder) -> Developing:
        """What a ladder's development rests on."""
        if not self._developing:
            self.tell(Reading.objects.in_one(self.asked()))
        return self._developing[ladder.pk]

    def spot(self) -> Point:
        """The spot in raw pixels of the current ladder: from the URL, else the ladder's, else the middle."""
        asked = self.page.asked_spot
        if asked is not None:
            return asked
        ladder = self.page.ladder
        return ladder.spot_in(*self.sizes.get(ladder.pk, (0, 0)))

    def wall(self) -> Wall:
        """Rows by what the switch says: this ladder and its lanes, every ladder of its kind, or spots."""
        columns = self._columns()
        height = self.wall_height
        rows = [self._row(planned, columns, height) for planned in self._plan]
        return Wall(rows, len(columns), height)

    @cached_property
    def _plan(self) -> Sequence[_Planned]:
        if self.looking.rows == SPOTS:
            return [_Planned(self.page.ladder, None, spot) for spot in self._spots()]
        lit = {ladder.pk for ladder in self.ladders if any(rung.pk in self.frames for rung in self._rungs(ladder))}
        return [
            _Planned(ladder, lane, None, value)
            for ladder in self.ladders
            for lane in (None, *self._lanes(ladder))
            if lane is not None or ladder.pk in lit or not self._lanes(ladder)
            for value in self._values(ladder)
        ]

    def _values(self, ladder: Ladder) -> Sequence[str | None]:
        """The raw modes that a ladder is repeated in, a row each; None where there is one row."""
        if ladder.kind == Ladder.Kind.SETTING:
            return (None,)
        found = list(dict.fromkeys(rung.value for rung in self._rungs(ladder)))
        return found if len(found) > 1 else (None,)

    @property
    def wall_height(self) -> int:
        """Height of a cell, device pixels."""
        return _HEIGHTS_PX.get(len(self._plan), _LOWEST_PX)

    def _lanes(self, ladder: Ladder) -> Sequence[Lane]:
        return list(ladder.lanes.all())

    def _spots(self) -> Sequence[MarkedSpot]:
        """The current spot and the marked ones."""
        x, y = self.spot()
        here = MarkedSpot(name="here", x=x, y=y)
        return [here, *self.page.spots]

    def _at(self, rung: Rung, ladder: Ladder) -> float:
        """Where a rung stands on the axis, stops; ladders that are slid stand lower by the slide."""
        if ladder.kind == Ladder.Kind.ISO:
            own = rung.iso_stops
        elif ladder.kind == Ladder.Kind.TIME:
            own = math.log2(dial.exact_exposure_s(rung.exposure_s))
        else:
            own = rung.at_stops if ladder.kind == Ladder.Kind.EXPOSURE else float(rung.position)
        return own - (self.looking.slide if ladder.pk != self.page.ladder.pk else 0)

    def _columns(self) -> list[float]:
        places: list[float] = []
        for at in sorted(self._at(rung, ladder) for ladder in self.ladders for rung in self._rungs(ladder)):
            if not places or at - places[-1] > _COLUMN_STOPS:
                places.append(at)
        return places

    def _row(self, planned: _Planned, columns: Sequence[float], height: int) -> Row:
        ladder, lane, spot, value = planned.ladder, planned.lane, planned.spot, planned.value
        by_column: dict[int, Rung] = {}
        for rung in self._rungs(ladder):
            if value is not None and rung.value != value:
                continue
            at = self._at(rung, ladder)
            by_column[min(range(len(columns)), key=lambda n: abs(columns[n] - at))] = rung
        grades = self._grades.get(lane.pk if lane else None, {})
        lane_pictures = self._lane_pictures(lane)
        cells = [
            self.cell(by_column[n], ladder, lane, height, spot, grades, lane_pictures) if n in by_column else None
            for n in range(len(columns))
        ]
        current = ladder.pk == self.page.ladder.pk and self.page.lane_id == (lane.pk if lane else None)
        if spot is not None:
            name, sub = spot.name, spot.note or f"{spot.x}, {spot.y}"
        else:
            name = f"{ladder.body} · {lane.name}" if lane else str(ladder.body)
            sub = lane.settings if lane else self._words(ladder)
        if value is not None:
            name = f"{name} · {value}" if value else name
            current = current and self.page.rung.value == value
        return Row(f"{ladder.pk}{f'~{lane.pk}' if lane else ''}", name, sub, ladder, lane, cells, current)

    @cached_property
    def _grades(self) -> Mapping[int | None, Grades]:
        """Of the person who judges, or in force whoever spoke last where nobody does: by lane, None as is."""
        if self.ladders == [self.page.ladder] and not self.page.person:
            return self.page.grades_by_lane
        found = Grade.objects.by_lane(self.ladders, self.page.person or None)
        if not self.page.person:
            # The lines of the sheet ask for the same.
            self.page.grades_by_lane = found
        return found

    def _lane_pictures(self, lane: Lane | None) -> Mapping[int, LanePicture]:
        found: dict[int, LanePicture] = {}
        for picture in lane.pictures.all() if lane else ():
            found.setdefault(picture.rung_id, picture)
        return found

    def _place(self, ladder: Ladder) -> Similarity:
        return registration.between(self.page.ladder, ladder, self.sizes)

    def _words(self, ladder: Ladder) -> str:
        """How a ladder's frames lie on the current one's, where there is something to say."""
        if ladder.pk == self.page.ladder.pk:
            return ""
        place = self._place(ladder)
        known = getattr(ladder, "placement", None) or getattr(self.page.ladder, "placement", None)
        parts = [
            f"{place.scale:.3g} px for one of {self.page.ladder.body.model}" if abs(place.scale - 1) > 0.002 else ""
        ]
        parts.append(f"turned {notation.with_sign(place.turned_deg, 1)}°" if abs(place.turned_deg) > 0.05 else "")
        if not known and ladder.body_id != self.page.ladder.body_id:
            parts.append("not laid on one another yet")
        return ", ".join(part for part in parts if part)

    def _finer(self, ladder: Ladder) -> float:
        """Pixels of this ladder's frames for one of the shown ladder that has fewest; 1 unless like for like is on."""
        if not self.looking.alike or len(self.ladders) < 2:
            return 1.0
        scales = [self._place(one).scale for one in self.ladders if one.pk in self.sizes]
        return self._place(ladder).scale / min(scales) if scales else 1.0

    def cell(
        self, rung: Rung, ladder: Ladder, lane: Lane | None, height: int, spot: MarkedSpot | None = None,
        grades: Mapping[tuple[int, int], Grade] | None = None, lane_pictures: Mapping[int, LanePicture] | None = None,
        width: int = CELL_WIDTH_PX,
    ) -> Cell | None:  # fmt: skip
        """One cell, or None where the rung has no frame or picture."""
        picture = (
            (lane_pictures if lane_pictures is not None else self._lane_pictures(lane)).get(rung.pk) if lane else None
        )
        frame = self.frames.get(rung.pk)
        if (picture if lane else frame) is None:
            return None
        place = self._place(ladder) if spot is None else Similarity()
        here = (float(spot.x), float(spot.y)) if spot is not None else self.spot()
        factor, zoom = self.looking.scale(self.page.use, ladder.body.pixels, self._finer(ladder))
        grade = (grades or {}).get((rung.pk, self.page.use.pk))
        moved_stops: float | None = None
        if picture is not None:
            place = place.then(picture.place)
            # A finish has its own pixels; at the size of a use they are brought to the same scale.
            factor = factor if self.looking.percent else factor * picture.place.scale
            if factor < 1:
                factor, zoom = 1.0, zoom / factor
            size = (picture.width, picture.height)
            moved, remark = picture.matched_by, picture.remark
        else:
            assert frame is not None  # noqa: S101 - told above
            size = (frame.width, frame.height)
            # A reduced raw mode shows the same scene in fewer pixels.
            place = place.then(Similarity(frame.width / self.sizes[ladder.pk][0]))
            developed = self.developing(ladder).of_frame(frame, rung.pk, self.looking.switches(self.page.use))
            moved_stops = developed.moved_stops
            moved, remark = _moved_words(developed, self.looking), ""
        cut = (max(1, round(width * factor / zoom)), max(1, round(height * factor / zoom)))
        centre = place.at(here)
        rect = clamped(size[0], size[1], (round(centre[0]), round(centre[1])), cut)
        outside = not (0 <= centre[0] < size[0] and 0 <= centre[1] < size[1])
        if outside:
            remark = "the spot lies outside this frame: its nearest edge is shown"
        if picture is not None:
            url = pictures.lane_crop_address(picture, rect, factor, monochrome=self.page.use.monochrome)
        else:
            assert frame is not None  # noqa: S101 - told above
            how = developed.how
            if self.looking.aligned and not outside:
                shift, remark = self._aligned(ladder, frame, rect)
                how = replace(how, shift_px=shift)
            url = pictures.crop_address(frame, rect, how, factor)
        image = (max(1, round(rect.w / factor)), max(1, round(rect.h / factor)))
        return Cell(
            f"{rung.pk}{f'~{lane.pk}' if lane else ''}", rung, url, rect, *size, place, image, zoom, moved, remark, grade,
            to_look_at_again(grade, moved_stops) if grade else "", rung.pk == self.page.rung.pk,
        )  # fmt: skip

    def _aligned(self, ladder: Ladder, frame: Frame, rect: Rect) -> tuple[tuple[float, float], str]:
        """The shift that puts a frame on its ladder's reference at this spot, and a sentence on it."""
        reference = self.frames.get(self.developing(ladder).reference_id or 0)
        if reference is None or reference.pk == frame.pk:
            return (0.0, 0.0), ""
        try:
            x, y = aligning.shift_of(reference, frame, rect)
        except NoMatch as error:
            return (0.0, 0.0), f"not aligned: {error}"
        if abs(x) < 0.02 and abs(y) < 0.02:
            return (0.0, 0.0), "lies right"
        return (x, y), f"moved {notation.with_sign(x, 1)}, {notation.with_sign(y, 1)} px, interpolated"


def _moved_words(developed: Developed, looking: Looking) -> str:
    """ "+0.31 stop", and the push if there is one."""
    parts = [f"{notation.with_sign(developed.moved_stops)} stop"]
    if looking.push:
        parts.append(f"push {looking.push:+d}".replace("-", "−"))
    if looking.balanced and developed.balance != BY_GREY:
        parts.append(f"white {developed.balance}")
    return ", ".join(parts)
