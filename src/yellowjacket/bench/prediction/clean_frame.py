"""The clean frame of a ladder, its body as the ladder measured it, and crops of the one as the other would have given them."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.models import Frame, Ladder, Reading, Rung, Shot
from yellowjacket.bench.models.queries.readings import Said
from yellowjacket.core.exposure import dial
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import ALL, Measurand
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.prediction import shown_small
from yellowjacket.core.prediction.hot_population import HotPopulation
from yellowjacket.core.prediction.predicted_mosaic import Asked, asked_for, predicted
from yellowjacket.core.prediction.sensor_at import NoPicture, Sensor, SensorAt
from yellowjacket.core.raw.frame import first_green
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.smoothed import before_smoothing
from yellowjacket.core.rendering.develop import Development, develop_at_use, develop_means

_MODEL = (
    Measurand.GAIN_E_PER_DN, Measurand.BLACK_DN, Measurand.CLIP_DN, Measurand.SATURATION_E, Measurand.READ_NOISE_E,
    Measurand.ROW_NOISE_DN, Measurand.COLUMN_NOISE_DN, Measurand.NEIGHBOUR_CORRELATION, Measurand.CODES_EMPTY,
)  # fmt: skip
# Codes of which more are empty tell a multiplied raw.
_EMPTY_SHARE = 0.2
# What development looks at around a crop.
_MARGIN_PX = 16


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a predicted crop is to show: ``iso`` set, so many ``stops_less`` light than that exposes correctly, shown
    ``push_stops`` brighter than the clean frame is; ``dark_e``: mean dark signal; ``hot_s``: after how long, at the temperature
    of the darks, hot pixels are shown."""

    iso: float
    stops_less: float = 0.0
    push_stops: float = 0.0
    dark_e: float = 0.0
    hot_s: float = 0.0


@dataclass(frozen=True)
class Predicting:
    """A clean frame, the body that took it, the setting it was taken at, and the body's hot pixels where they are known.
    ``target``: another body to look as taken by, None the same: its colours stay those of the body that took the frame."""

    frame: Frame
    rung: Rung
    sensor: Sensor
    developing: Developing
    hot: HotPopulation | None = None
    target: Sensor | None = None

    @classmethod
    def of(cls, ladder: Ladder, rungs: list[Rung] | None = None) -> Predicting | None:
        """Of a measured ISO ladder; None where no light frame of its correctly exposed rung is there."""
        rungs = list(ladder.rungs.all()) if rungs is None else rungs
        if not rungs or ladder.kind != Ladder.Kind.ISO:
            return None
        rung = ladder.reference_rung(rungs)
        frame = (
            Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT)
            .defer("report").order_by("shot__repeat").first()
        )  # fmt: skip
        if frame is None or frame.mosaic_layout.rendered or frame.mosaic_layout.demosaiced:
            return None
        model = Reading.objects.filter(
            rung__ladder=ladder, patch=None, use=None, quantity__in=_MODEL, value__isnull=False
        )
        said = Reading.objects.in_one({"model": model, **Developing.asked_of(ladder)})
        return cls(frame, rung, _sensor_of(said["model"], rungs, frame), Developing.told(ladder, said, rungs))

    @cached_property
    def clean(self) -> SensorAt:
        """The body at the setting of the clean frame. Raises NoPicture where it was not measured."""
        return self.sensor.at(dial.exact_iso(self.rung.iso))

    @property
    def grey_e(self) -> float | None:
        """Electrons of the grey patch in the clean frame; None where there is none."""
        signal = first_green(self.developing.grey.get(self.rung.pk, {}))
        gain = first_green(self.clean.gain_e_per_dn)
        return signal * gain if signal and gain else None

    def asked(self, wanted: Wanted) -> Asked:
        """The physics of a wanted picture. Raises NoPicture with the reason."""
        return asked_for(
            self.sensor,
            self.clean,
            self.target or self.sensor,
            wanted.iso,
            wanted.stops_less,
            wanted.dark_e,
            self.grey_e,
        )

    def development(self, asked: Asked, wanted: Wanted, switches: Switches) -> Development:
        """As the clean frame is developed, so much brighter that the lost light does not show."""
        how = self.developing.clean(self.frame, replace(switches, equalised=True))
        gains = []
        for n, colour in enumerate("RGB"):
            channel = next((name for name in asked.light if name[0] in (colour, "M")), "")
            up = asked.target.gain_e_per_dn[channel] / asked.clean.gain_e_per_dn[channel] / asked.light[channel]
            gains.append(how.gains[n] * up * 2.0**wanted.push_stops)
        return replace(how, gains=(gains[0], gains[1], gains[2]), black_dn=dict(asked.target.tag_dn))

    def picture(self, rect: Rect, wanted: Wanted, factor: float, switches: Switches) -> NDArray[np.uint8]:
        """A crop as it would look, sRGB of shape (rows, columns, 3). Raises NoPicture, FrameError for a lost original."""
        how = self.development(self.asked(wanted), wanted, switches)
        layout = self.frame.mosaic_layout
        if not shown_small.is_small_enough(self.asked(wanted), layout, factor):
            area, inside = self.area(rect, wanted)
            return develop_at_use(area, inside, how, factor)
        outer, _ = rect.around(self.frame.width, self.frame.height, 0, layout.step)
        points = (max(1, round(rect.h / factor)), max(1, round(rect.w / factor)))
        blocks = shown_small.blocks_of(self._clean(outer), layout, points)
        asked = self._with_hot(outer, rect, wanted)
        means = shown_small.predicted_means(blocks, layout, asked, self._seed(rect, wanted))
        return develop_means(shown_small.as_interpolated(means, layout, factor), how)

    def area(self, rect: Rect, wanted: Wanted) -> tuple[NDArray[np.uint16], Rect]:
        """The raw numbers of a crop, uint16 of shape (rows, columns) with what development looks at around it, and where in
        them the crop lies. Raises NoPicture, FrameError for a lost original."""
        # Development counts the tile from the area's corner.
        outer, inner = rect.around(self.frame.width, self.frame.height, _MARGIN_PX, self.frame.mosaic_layout.step)
        asked, layout = self._with_hot(outer, rect, wanted), self.frame.mosaic_layout
        made = predicted(self._clean(outer), (outer.x, outer.y), layout, asked, self._seed(rect, wanted))
        return made.mosaic, inner

    def _clean(self, area: Rect) -> NDArray[np.uint16]:
        mosaic = mosaic_of(self.frame)
        return np.ascontiguousarray(mosaic[area.y : area.y + area.h, area.x : area.x + area.w])

    def _with_hot(self, area: Rect, rect: Rect, wanted: Wanted) -> Asked:
        """The physics, with the hot pixels of an area where they are to be seen."""
        asked = self.asked(wanted)
        if self.hot is None or not wanted.hot_s:
            return asked
        # The places are those of the body, whatever is set on it.
        place = int.from_bytes(hashlib.sha256(f"{self.hot.digest} {rect}".encode()).digest()[:8])
        return replace(asked, hot=(self.hot.within(area, (self.frame.width, self.frame.height), wanted.hot_s, place),))

    def _seed(self, rect: Rect, wanted: Wanted) -> int:
        return int.from_bytes(hashlib.sha256(f"{self.address_key(wanted)} {rect}".encode()).digest()[:8])

    def address_key(self, wanted: Wanted) -> str:
        """Everything the picture depends on but its place: it changes with what was measured. Raises NoPicture."""
        asked = self.asked(wanted)
        hot = self.hot.digest if self.hot is not None and wanted.hot_s else ""
        return f"{self.frame.sha256} {asked.clean} {asked.target} {sorted(asked.light.items())} {wanted} {hot}"


def _sensor_of(readings: Iterable[Said], rungs: list[Rung], frame: Frame) -> Sensor:
    """The body as a ladder's readings have it; settings that lack gain, noise or saturation are left out."""
    found: dict[int, dict[tuple[Measurand, str], Quantity]] = {}
    for one in readings:
        found.setdefault(one.rung_id, {})[Measurand(one.quantity), one.channel] = one.result
    marks = [_mark(rung, found.get(rung.pk, {}), frame) for rung in rungs]
    return Sensor([one for one in marks if one is not None])


def _mark(rung: Rung, readings: Mapping[tuple[Measurand, str], Quantity], frame: Frame) -> SensorAt | None:
    def value(quantity: Measurand, otherwise: float, channel: str = ALL) -> float:
        """As it was before any smoothing: the picture is smoothed anew."""
        result = readings.get((quantity, channel))
        return (before_smoothing(result) if result is not None else None) or otherwise

    read, saturation = value(Measurand.READ_NOISE_E, 0.0), value(Measurand.SATURATION_E, 0.0)
    mean_gain = value(Measurand.GAIN_E_PER_DN, 0.0)
    if not (read and saturation and mean_gain):
        return None
    channels = frame.mosaic_layout.channels
    tag = {c: float(frame.black_dn[c]) for c in channels}
    smoothed = readings[Measurand.GAIN_E_PER_DN, ALL].has(Remark.BEFORE_SMOOTHING)
    empty = value(Measurand.CODES_EMPTY, 0.0)
    return SensorAt(
        rung.iso, {c: value(Measurand.GAIN_E_PER_DN, mean_gain, c) for c in channels},
        {c: value(Measurand.BLACK_DN, tag[c], c) for c in channels}, tag, value(Measurand.CLIP_DN, frame.white_dn),
        saturation, read, value(Measurand.ROW_NOISE_DN, 0.0) * mean_gain, value(Measurand.COLUMN_NOISE_DN, 0.0) * mean_gain,
        value(Measurand.NEIGHBOUR_CORRELATION, 0.0) if smoothed else 0.0,
        round(1 / (1 - empty)) if _EMPTY_SHARE < empty < 1 else 1.0,
    )  # fmt: skip


def why_not(predicting: Predicting | None, wanted: Wanted) -> str:
    """Why there is no such picture, in words; empty when there is."""
    try:
        if predicting is None:
            raise NoPicture(Note(Missing.NO_CLEAN_FRAME))
        predicting.asked(wanted)
    except NoPicture as error:
        return str(error)
    return ""


def wanted_of(rung: Rung) -> Wanted:
    """The picture that a rung of an ISO ladder shows when it is correctly exposed."""
    return Wanted(dial.exact_iso(rung.iso))


def predictable(rungs: Sequence[Rung]) -> list[Rung]:
    """Those whose picture can be predicted from another rung of their ladder."""
    found = []
    by_ladder: dict[int, Predicting | None] = {}
    for rung in rungs:
        if rung.ladder_id not in by_ladder:
            by_ladder[rung.ladder_id] = Predicting.of(rung.ladder)
        predicting = by_ladder[rung.ladder_id]
        if predicting is not None and predicting.rung.pk != rung.pk and not why_not(predicting, wanted_of(rung)):
            found.append(rung)
    return found
