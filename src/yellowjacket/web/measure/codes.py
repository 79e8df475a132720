"""The codes of a frame as a plot: how many pixels hold each, and which codes stay empty though their neighbours do not."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.models import Frame
from yellowjacket.core.raw.codes import missing_codes
from yellowjacket.web.graphics.scale import Scale
from yellowjacket.web.sheet.charts import Tick

WIDTH, HEIGHT, STRIP = 640, 150, 96
# Of 16 bits.
_CODES = 65536
_LEFT, _BINS, _STRIP_CODES = 52, 220, 147
_PAD = 8


@dataclass(frozen=True, slots=True)
class Bar:
    """A code of the strip: where it stands, how tall, and its words; ``missing`` when none holds it."""

    x: float
    y: float
    height: float
    missing: bool
    title: str


@dataclass(frozen=True, slots=True)
class CodePlot:
    """What the template draws. ``courses``: pixel counts over codes by channel, as SVG points."""

    courses: Sequence[tuple[str, str]]
    ticks: Sequence[Tick]
    bars: Sequence[Bar]
    strip_ticks: Sequence[Tick]
    missing: int
    telling: int
    channel: str = ""

    width, height, strip, left, base = WIDTH, HEIGHT, STRIP, _LEFT, HEIGHT - 22
    bar_width = round((WIDTH - _LEFT) / _STRIP_CODES, 2)


def code_plot(frame: Frame, grey_dn: float | None) -> CodePlot:
    """The plot of a frame; the strip shows single codes around the grey patch's level (black where there is none).

    Raises FrameError when the original is gone.
    """
    raw = raw_frame(frame)
    counts = {
        channel: sum(
            (np.bincount(p.ravel(), minlength=_CODES) for p in raw.planes(channel)), np.zeros(_CODES, np.int64)
        )
        for channel in raw.channels
    }
    green = raw.layout.greens[0]
    top = int(frame.white_dn) + 1
    most = max(int(found.max()) for found in counts.values())
    courses = [(channel, _course(found, top)) for channel, found in counts.items()]
    gaps = missing_codes(counts[green])
    middle = round((grey_dn or 0.0) / 4 + raw.black_dn[green])
    first = max(0, min(middle - _STRIP_CODES // 2, top - _STRIP_CODES))
    axis = _axis(top)
    ticks = [Tick(axis.at(code), str(code)) for code in _round_codes(top)]
    return CodePlot(
        courses, ticks, _bars(counts[green], gaps.missing, first), _strip_ticks(first), int(gaps.missing.sum()), gaps.telling,
        green,
    ) if most else CodePlot([], ticks, [], [], 0, 0)  # fmt: skip


def _axis(top: int) -> Scale:
    return Scale(0, top, _LEFT, WIDTH - _PAD)


def _course(counts: NDArray[np.int64], top: int) -> str:
    """Counts in bins, on a logarithmic scale."""
    edges = np.linspace(0, top, _BINS + 1).astype(int)
    sums = np.add.reduceat(counts[:top], edges[:-1])
    x, y = _axis(top), Scale(1.0, max(float(sums.max()), 10.0), HEIGHT - 22, _PAD, logarithmic=True)
    return " ".join(
        f"{x.at((a + b) / 2)},{y.at(float(count))}" for a, b, count in zip(edges[:-1], edges[1:], sums, strict=True)
    )


def _bars(counts: NDArray[np.int64], gaps: NDArray[np.bool_], first: int) -> list[Bar]:
    part = counts[first : first + _STRIP_CODES]
    tallest = max(int(part.max()), 1)
    width, base = (WIDTH - _LEFT) / _STRIP_CODES, STRIP - 22
    bars = []
    for n, count in enumerate(part):
        height = round(float(count) / tallest * (base - _PAD), 1)
        words = f"code {first + n}: {count} pixels" + (", missing" if gaps[first + n] else "")
        bars.append(Bar(round(_LEFT + n * width, 2), round(base - height, 1), height, bool(gaps[first + n]), words))
    return bars


def _strip_ticks(first: int) -> list[Tick]:
    width = (WIDTH - _LEFT) / _STRIP_CODES
    begin = math.ceil(first / 20) * 20
    return [
        Tick(round(_LEFT + (code - first + 0.5) * width, 1), str(code))
        for code in range(begin, first + _STRIP_CODES, 20)
    ]


def _round_codes(top: int) -> list[int]:
    step = 2 ** max(0, math.ceil(math.log2(top)) - 3)
    return list(range(0, top, step))
