"""The report of a sitting: what is in it, and one HTML file that needs nothing else; ``report_pdf`` makes the same as PDF."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.template.loader import render_to_string
from django.utils.safestring import SafeString, mark_safe

from yellowjacket import __version__
from yellowjacket.bench.compare import bodies
from yellowjacket.bench.compare.bodies import COMPARED
from yellowjacket.bench.development import Developing
from yellowjacket.bench.models import Frame, Ladder, Record, Rung, Sitting
from yellowjacket.bench.record.standing import Standing, newest_signed, standing_of
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import clamped
from yellowjacket.web import pictures
from yellowjacket.web.graphics.drawing import Drawing, svg
from yellowjacket.web.record import plots

_CROP_PX = (150, 110)
# How everything was found, for whoever reads the report elsewhere.
METHODS = (
    "Temporal noise from the difference of two frames of a rung over a patch; gain from the photon transfer line, read noise "
    "from darks; range from saturation and the noise model; chroma noise and colour in CIELAB (CIEDE2000); detail from the "
    "coherence of two frames. A limit is the last dial mark before the first criterion of the tolerance fails, with the "
    "interpolated crossing behind it. Intervals are 95 %. A dash is not measured."
)
_STYLE = Path(__file__).with_name("report.css")


@dataclass(frozen=True, slots=True)
class RungPart:
    """A rung in the report: its crop as PNG (empty where the original is gone) and its readings."""

    rung: Rung
    png: bytes
    readings: Sequence[Quantity | None]

    @property
    def crop(self) -> str:
        """The crop as a data address."""
        return "data:image/png;base64," + base64.b64encode(self.png).decode() if self.png else ""


@dataclass(frozen=True, slots=True)
class LadderPart:
    """A ladder in the report: its limits as the newest signed version has them, else today's; rungs, frames with digests."""

    ladder: Ladder
    standing: Standing
    rungs: Sequence[RungPart]
    frames: Sequence[Frame]
    records: Sequence[Record]
    plots: Sequence[Drawing]

    @property
    def drawn(self) -> Sequence[SafeString]:
        """The plots as SVG."""
        return [mark_safe(svg(one)) for one in self.plots]  # noqa: S308 - made here, every text escaped


def report_html(sitting: Sitting) -> str:
    """The whole sitting: question, limits with intervals, conditions, crops, readings, records and provenance."""
    parts = parts_of(sitting)
    page = render_to_string(
        "record/report.html",
        {
            "sitting": sitting,
            "parts": parts,
            "quantities": [quantity.described for quantity in COMPARED],
            "version": __version__,
            "methods": METHODS,
        },
    )
    # The page's own style comes into the file, as nothing lies beside it when it is kept.
    return page.replace("</head>", f"<style>\n{_STYLE.read_text(encoding='utf-8')}</style></head>", 1)


def parts_of(sitting: Sitting) -> list[LadderPart]:
    """The ladders of a sitting with all that is said of them."""
    return [_ladder(ladder, sitting) for ladder in sitting.ladders.select_related("body", "sitting__profile")]


def _ladder(ladder: Ladder, sitting: Sitting) -> LadderPart:
    rungs = list(ladder.rungs.all())
    found = bodies.findings_of(ladder, None)
    frames = list(Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot__rung"))
    first: dict[int, Frame] = {}
    for frame in sorted(frames, key=lambda one: one.shot.repeat if one.shot else 0):
        if frame.shot is not None and frame.shot.kind == frame.shot.Kind.LIGHT:
            first.setdefault(frame.shot.rung_id, frame)
    developing = Developing.of(ladder, rungs)
    shown = [
        RungPart(
            rung, _crop(first.get(rung.pk), rung, ladder, developing),
            [found.get(rung.pk, {}).get(quantity) for quantity in COMPARED],
        )
        for rung in rungs
    ]  # fmt: skip
    return LadderPart(
        ladder, standing_of(newest_signed(ladder) or Record(ladder=ladder, version=1), list(sitting.uses.all())), shown, frames,
        list(ladder.records.prefetch_related("decisions__use", "other_decisions")), _plots(shown),
    )  # fmt: skip


def _plots(rungs: Sequence[RungPart]) -> list[Drawing]:
    """Every quantity that two rungs and more have."""
    labels = [one.rung.label.removeprefix("ISO ") for one in rungs]
    found = []
    for n, quantity in enumerate(COMPARED):
        words, unit = quantity.described.words, quantity.described.short_unit
        plot = plots.plot_of(f"{words}, {unit}" if unit else words, labels, [one.readings[n] for one in rungs])
        if plot is not None:
            found.append(plot)
    return found


def _crop(frame: Frame | None, rung: Rung, ladder: Ladder, developing: Developing) -> bytes:
    if frame is None:
        return b""
    rect = clamped(frame.width, frame.height, ladder.spot_in(frame.width, frame.height), _CROP_PX)
    try:
        return pictures.crop_png(frame, rect, developing.of_frame(frame, rung.pk).how)
    except FrameError:
        return b""
