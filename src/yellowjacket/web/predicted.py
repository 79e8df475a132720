"""Predicted crops on pages: their addresses, which hold all they depend on, and the pictures behind them."""

from __future__ import annotations

import hashlib
import math
import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import urlencode

import numpy as np
from django.urls import reverse
from numpy.typing import NDArray

from yellowjacket.bench.darks.hot_population import population_of
from yellowjacket.bench.decoding import prepare
from yellowjacket.bench.development import Switches
from yellowjacket.bench.models import Ladder, Rung
from yellowjacket.bench.prediction.clean_frame import Predicting, Wanted, why_not
from yellowjacket.bench.typed import identity
from yellowjacket.core.prediction.sensor_at import NoPicture
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import GRADIENT
from yellowjacket.web.pictures import cached_png, framed

# Raise with every change of what a predicted picture looks like.
_VERSION = 4
_LARGEST_ISO, _LARGEST_STOPS, _LARGEST_DARK_E, _LONGEST_S, _LARGEST_FACTOR = 1e8, 24.0, 1e6, 1e6, 64.0


@dataclass(frozen=True, slots=True)
class PredictedCrop:
    """A picture on a page: address and size on the screen, or why there is none."""

    url: str = ""
    width: int = 0
    height: int = 0
    refusal: str = ""


@dataclass(frozen=True, slots=True)
class PredictedCrops:
    """Crops around the spot of a ladder, ``size`` screen pixels, ``factor`` sensor pixels to the side of one."""

    ladder: Ladder
    predicting: Predicting | None
    size: tuple[int, int]
    factor: float = 1.0
    monochrome: bool = False
    taken_by: Ladder | None = None

    @classmethod
    def of(
        cls, ladder: Ladder, size: tuple[int, int], factor: float = 1.0, *, monochrome: bool = False,
        rungs: list[Rung] | None = None,
    ) -> PredictedCrops:  # fmt: skip
        """Of a measured ladder, in a few queries for all its crops; ``rungs``: its own, where they are known."""
        predicting = Predicting.of(ladder, rungs)
        if predicting is not None:
            prepare(predicting.frame)
        return cls(ladder, predicting, size, max(factor, 1.0), monochrome)

    def as_taken_by(self, other: Ladder) -> PredictedCrops:
        """The same scene as the body of another measured ladder would have taken it; no pictures where that has no sensor to
        tell of."""
        own = Predicting.of(other)
        taken = None if self.predicting is None or own is None else replace(self.predicting, target=own.sensor)
        return replace(self, predicting=taken, taken_by=other)

    def with_hot_pixels(self) -> PredictedCrops:
        """The same with the hot pixels of its body in long exposures."""
        if self.predicting is None:
            return self
        return replace(self, predicting=replace(self.predicting, hot=population_of(self.ladder.body)))

    def sized(self, width: int, height: int) -> PredictedCrops:
        """The same in another size."""
        return replace(self, size=(width, height))

    def at(self, wanted: Wanted) -> PredictedCrop:
        """One picture, or the reason why it cannot be told."""
        refusal = why_not(self.predicting, wanted)
        if refusal or self.predicting is None:
            return PredictedCrop(refusal=refusal)
        frame = self.predicting.frame
        spot = self.ladder.spot_in(frame.width, frame.height)
        rect, shown = framed(frame.width, frame.height, spot, self.size, self.factor)
        parts: dict[str, object] = {"iso": f"{wanted.iso:.6g}"}
        for name, value in (
            ("d", wanted.stops_less),
            ("p", wanted.push_stops),
            ("e", wanted.dark_e),
            ("s", wanted.hot_s),
        ):
            if value:
                parts[name] = f"{value:.4f}"
        if self.factor > 1:
            parts["f"] = f"{self.factor:.4f}"
        if self.monochrome:
            parts["m"] = 1
        if self.taken_by is not None:
            parts["by"] = self.taken_by.pk
        parts["k"] = _key(self.predicting, _wanted(parts), monochrome=self.monochrome)
        place = [self.ladder.pk, rect.x, rect.y, rect.w, rect.h]
        return PredictedCrop(f"{reverse('predicted-crop', args=place)}?{urlencode(parts)}", *shown)


def _key(predicting: Predicting, wanted: Wanted, *, monochrome: bool) -> str:
    """What was measured, and how it is developed, in short: with other findings a picture has another address. Raises
    NoPicture."""
    how = predicting.development(predicting.asked(wanted), wanted, _switches(monochrome))
    whole = f"{_VERSION} {predicting.address_key(wanted)} {how.gains} {how.black_dn}"
    return hashlib.sha256(whole.encode()).hexdigest()[:16]


def _switches(monochrome: bool) -> Switches:
    return Switches(developer=GRADIENT, monochrome=monochrome)


def _wanted(query: Mapping[str, object]) -> Wanted:
    """Raises ValueError for what no page of ours asks for."""

    def number(name: str, least: float, most: float) -> float:
        value = float(str(query.get(name, "0")))
        if not (math.isfinite(value) and least <= value <= most):
            raise ValueError(f"{name} is out of its range")
        return value

    return Wanted(
        number("iso", 1, _LARGEST_ISO), number("d", -_LARGEST_STOPS, _LARGEST_STOPS),
        number("p", -_LARGEST_STOPS, _LARGEST_STOPS), number("e", 0, _LARGEST_DARK_E),
        number("s", 0, _LONGEST_S),
    )  # fmt: skip


def predicted_png(ladder_id: int, rect: Rect, query: Mapping[str, str]) -> bytes:
    """The picture of an address; one that is there already asks nothing of the database. Raises ValueError for an address of
    other findings than today's, or of none; NoPicture; FrameError for a lost original."""
    wanted, factor = _wanted(query), float(query.get("f", "1"))
    if not 1 <= factor <= _LARGEST_FACTOR:
        raise ValueError("no such picture")
    # The address holds everything the picture depends on; what else stands in it counts for nothing.
    address = f"{ladder_id} {rect} {wanted} {factor:.4f} {'m' in query} {query.get('by', '')} {query.get('k', '')}"
    return cached_png(
        "predicted",
        hashlib.sha256(address.encode()).hexdigest(),
        lambda: _predicted(ladder_id, rect, wanted, factor, query),
    )


def _predicted(
    ladder_id: int, rect: Rect, wanted: Wanted, factor: float, query: Mapping[str, str]
) -> NDArray[np.uint8]:
    monochrome = "m" in query
    for kept in (True, False):
        predicting = _predicting(ladder_id, query.get("by", ""), kept)
        if predicting is not None and wanted.hot_s:
            predicting = replace(predicting, hot=population_of(_ladder(ladder_id).body))
        try:
            current = predicting is not None and _key(predicting, wanted, monochrome=monochrome) == query.get("k")
        except NoPicture as error:
            raise ValueError(str(error)) from error
        if predicting is None or not current or not rect.fits(predicting.frame.width, predicting.frame.height):
            continue
        try:
            return predicting.picture(rect, wanted, factor, _switches(monochrome))
        except FrameError:
            # The file may lie elsewhere since.
            if not kept:
                raise
    raise ValueError("no such picture: what it rests on was measured anew")


# What the pictures of a page are made from, by ladder and whose body it looks as taken by; looked at by several threads.
_MOST_KEPT = 8
_kept: OrderedDict[tuple[int, str], Predicting | None] = OrderedDict()
_lock = threading.Lock()


def _ladder(ladder_id: int) -> Ladder:
    ladder = Ladder.objects.select_related("body").filter(pk=ladder_id).first()
    if ladder is None:
        raise ValueError("no such ladder")
    return ladder


def _predicting(ladder_id: int, by: str, kept: bool) -> Predicting | None:
    """As it was fetched for the picture before, or anew. Whether that is still so the address tells."""
    with _lock:
        if kept and (ladder_id, by) in _kept:
            _kept.move_to_end((ladder_id, by))
            return _kept[ladder_id, by]
    predicting = Predicting.of(_ladder(ladder_id))
    if predicting is not None and by:
        other = Ladder.objects.select_related("body").filter(pk=identity(by)).first()
        own = Predicting.of(other) if other is not None else None
        predicting = None if own is None else replace(predicting, target=own.sensor)
    with _lock:
        _kept[ladder_id, by] = predicting
        if len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
    return predicting
