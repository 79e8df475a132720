"""Hot pixels, hits and longest exposures of bodies whose every pixel is known."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from yellowjacket.benchmarks.truths.row import Row, coverage_row, many
from yellowjacket.core.darks.hot_pixels import HOT, hot_pixels, showing_at
from yellowjacket.core.darks.usable_exposure import AS_SHOT, Counted, Course, lifted_signal_e, longest
from yellowjacket.core.limits.tolerance import LONG_CRITERIA
from yellowjacket.core.metrology.intervals import density
from yellowjacket.core.raw.frame import BAYER, Layout, RawFrame
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.scene import Scene
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, expose, hot_rates_e_per_s

_LAYOUT = Layout(BAYER, (("R", "G1"), ("G2", "B")))
_ISO = 800
_SHAPE = (1216, 1824)


def _frame(mosaic: np.ndarray) -> RawFrame:
    black = dict.fromkeys(_LAYOUT.channels, float(HEATH.black_dn))
    return RawFrame(mosaic, _LAYOUT, black, float(HEATH.white_dn), HEATH.matrix, None)


def showing(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Hot pixels over a lifted shadow, against the pixels that gather so much; two repeats against four."""
    scene = Scene("dark", np.zeros((*_SHAPE, 3), np.float32))
    gain = 1 / HEATH.gain_dn_per_e(_ISO)
    shadow_e = lifted_signal_e(HEATH.gain_mode(_ISO).full_well_e)
    for seconds in (60.0, 240.0) if share >= 1 else (240.0,):
        settings = ExposureSettings(_ISO, seconds, 8.0, True, 20.0)
        frames = [_frame(expose(HEATH, scene, settings, Lamp(), rng)) for _ in range(4)]
        four, one, other = (
            showing_at(hot_pixels(some, gain), shadow_e / gain**2) for some in (frames, frames[:2], frames[2:])
        )
        ordinary = HEATH.dark_current_e_per_s * seconds + HEATH.dsnu_e**2 + HEATH.row_noise_e**2
        bar = 8 * math.sqrt(shadow_e + ordinary + HEATH.read_noise_e(_ISO) ** 2)
        truth = int((hot_rates_e_per_s(HEATH, _SHAPE) * seconds > bar).sum())
        compared = (
            ("against the truth", four, truth, 0.03),
            ("two repeats against four", (one + other) / 2, four, 0.02),
        )
        for name, found, against, within in compared:
            yield Row(
                "Hot pixels that show", f"{seconds:g} s, {name}", f"within {within:.0%}", f"{found:g} of {against}",
                abs(found / against - 1) <= within,
            )  # fmt: skip


def hits(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Darks alone, gain unknown: hot pixels that were hit once besides must not pass for hot as they seem."""
    wrong = seen = 0
    for _ in range(many(40, share, 3)):
        expected = np.zeros((256, 384))
        rates = np.geomspace(20, 500, 60)
        expected.flat[rng.choice(expected.size, 60, replace=False)] = rates
        places = np.argwhere(expected)[:10]
        frames = []
        for n in range(3):
            numbers = rng.poisson(expected) * 2.0 + rng.normal(HEATH.black_dn, 3.0, expected.shape)
            if n == 0:
                # Twelve times what the pixel scatters by itself.
                numbers[tuple(places.T)] += 36 + 24 * np.sqrt(expected[tuple(places.T)])
            frames.append(_frame(np.clip(np.rint(numbers), 0, HEATH.white_dn).astype(np.uint16)))
        hot = {(one.x, one.y) for one in hot_pixels(frames, None).pixels() if one.kind == HOT}
        wrong += sum((int(x), int(y)) in hot for y, x in places)
        seen += len(places)
    part = wrong / seen
    yield Row(
        "Hits on hot pixels", f"{seen} of them, darks alone", "under 5 % taken for hot", f"{part:.1%}", part < 0.05
    )


def longest_exposures(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """The time at which hot pixels end it, their number growing by a power, counted on two megapixels."""
    held: list[bool] = []
    bodies = many(300, share, 20)
    bar = LONG_CRITERIA[0].thresholds[1]
    for _ in range(bodies):
        power, at_minute = rng.uniform(0.5, 1.0), 10.0 ** rng.uniform(0.8, 2.6)
        truth = 60 * (bar / at_minute) ** (1 / power)
        times = (1.0, 4.0, 15.0, 60.0, 240.0, 960.0)
        # Longer exposures have all the pixels of shorter ones: what is added is drawn.
        means = [2 * at_minute * (t / 60) ** power for t in times]
        counts = np.cumsum(rng.poisson(np.diff([0.0, *means])))
        course = Course(tuple(Counted(t, density(float(n), 2.0)) for t, n in zip(times, counts, strict=True)))
        found = longest(AS_SHOT, course, None, LONG_CRITERIA[:1], "usable")
        if found.known and found.low is not None and found.high is not None:
            held.append(found.low <= truth <= found.high)
    condition = f"{bodies} bodies, {len(held)} of them told"
    part = float(np.mean(held))
    # Between times a course is drawn straight: what it is there is not known to the last.
    yield (
        coverage_row("Longest exposure", condition, held, share)
        if part < 0.98
        else Row("Longest exposure", condition, "92 % and more", f"{part:.1%}", True)
    )
