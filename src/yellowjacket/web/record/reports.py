"""The report of a sitting: one HTML file that needs nothing else, for paper and for keeping."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.template.loader import render_to_string

from yellowjacket import __version__
from yellowjacket.bench.models import Frame, Ladder, Rung, Sitting
from yellowjacket.bench.services import comparing, other_limits, recording
from yellowjacket.bench.services.comparing import QUANTITIES
from yellowjacket.bench.services.developing import Developing
from yellowjacket.core.frames import FrameError
from yellowjacket.core.quantity import Quantity
from yellowjacket.web import pictures

_CROP_PX = (150, 110)
_STYLE = Path(__file__).with_name("report.css")


@dataclass(frozen=True, slots=True)
class RungPart:
    """A rung in the report: its crop as a data address (empty where the original is gone) and its readings."""

    rung: Rung
    crop: str
    readings: Sequence[Quantity | None]


@dataclass(frozen=True, slots=True)
class LadderPart:
    """A ladder in the report: limits, rungs, frames with their digests."""

    ladder: Ladder
    proposals: Sequence[recording.Proposal]
    conditions: object
    rungs: Sequence[RungPart]
    others: Sequence[other_limits.OtherLimit]
    to_mind: Sequence[tuple[int, str]]
    frames: Sequence[Frame]
    records: Sequence[object]


def report_html(sitting: Sitting) -> str:
    """The whole sitting: question, limits with intervals, conditions, crops, readings, records and provenance."""
    parts = [_ladder(ladder, sitting) for ladder in sitting.ladders.select_related("body", "sitting__profile")]
    page = render_to_string(
        "record/report.html", {"sitting": sitting, "parts": parts, "quantities": QUANTITIES, "version": __version__}
    )
    # The page's own style comes into the file, as nothing lies beside it when it is kept.
    return page.replace("</head>", f"<style>\n{_STYLE.read_text(encoding='utf-8')}</style></head>", 1)


def _ladder(ladder: Ladder, sitting: Sitting) -> LadderPart:
    rungs = list(ladder.rungs.all())
    found = comparing.findings_of(ladder, None)
    frames = list(Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot__rung"))
    first: dict[int, Frame] = {}
    for frame in sorted(frames, key=lambda one: one.shot.repeat if one.shot else 0):
        if frame.shot is not None and frame.shot.kind == frame.shot.Kind.LIGHT:
            first.setdefault(frame.shot.rung_id, frame)
    developing = Developing.of(ladder, rungs)
    shown = [
        RungPart(
            rung, _crop(first.get(rung.pk), rung, ladder, developing),
            [found.get(rung.pk, {}).get(quantity) for _, quantity, _ in QUANTITIES],
        )
        for rung in rungs
    ]  # fmt: skip
    return LadderPart(
        ladder, recording.proposals(ladder), recording.conditions(ladder), shown,
        other_limits.of_ladder(ladder, list(sitting.uses.all())) if ladder.kind == Ladder.Kind.ISO else (),
        other_limits.marks_to_mind(ladder), frames, list(ladder.records.prefetch_related("decisions__use")),
    )  # fmt: skip


def _crop(frame: Frame | None, rung: Rung, ladder: Ladder, developing: Developing) -> str:
    if frame is None:
        return ""
    spot = (ladder.spot_x, ladder.spot_y) if ladder.spot_x is not None and ladder.spot_y is not None else None
    centre = spot or (frame.width // 2, frame.height // 2)
    rect = pictures.clamped(frame.width, frame.height, centre, _CROP_PX)
    try:
        data = pictures.crop_png(frame, rect, developing.of_frame(frame, rung.pk).how)
    except FrameError:
        return ""
    return "data:image/png;base64," + base64.b64encode(data).decode()
