"""Dark current, its growth with temperature, and glow, from darks of several exposure times.

Dark signal is the mean above the bias, in electrons; its course over time is a line, the same pixels at every time, hot
ones and glowing tiles left out. Also from the noise, which a body that subtracts its dark signal cannot hide.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, unknown, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import SIGMA_PER_MAD
from yellowjacket.core.raw.frame import RawFrame

# Side of a tile in pixels of one channel.
_TILE_PX, _SMALLEST_TILE_PX = 32, 8
# Pixels further from their tile's median than so many spreads are no ordinary ones.
_OUTLIER_SPREADS = 5.0
# A tile glows when it stands so many of its errors over the middle of all, and this share of it.
_GLOW_SE, _GLOW_SHARE = 5.0, 0.1
_GROUPS, _T95 = 12, 2.201
FEWEST_TIMES = 3
# A thermometer's word, °C either way (95 %).
THERMOMETER_C = 0.5
# The mean's slope under this share of the noise's: the body takes its dark signal off.
_HIDDEN_SHARE = 0.5

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class DarkTiles:
    """Darks of one time: by channel the mean of ordinary pixels of every tile in DN, temporal variance in DN² (NaN from
    one frame), and the median over all pixels; tiles by rows and columns."""

    exposure_s: float
    means: Mapping[str, Array]
    variances: Mapping[str, Array]
    medians: Mapping[str, float]


def dark_tiles(exposure_s: float, frames: Sequence[RawFrame]) -> DarkTiles:
    """Reduce the darks of one exposure time. Raises ValueError without frames or for frames of several sizes."""
    from yellowjacket.core.darks.pixel_statistics import ordinary_tiles

    if not frames or len({frame.mosaic.shape for frame in frames}) != 1:
        raise ValueError("darks of one time need at least one frame, all of one size")
    means, variances, medians = {}, {}, {}
    side = max(_SMALLEST_TILE_PX, 2 * _TILE_PX // frames[0].layout.step)
    for channel in frames[0].channels:
        sites = zip(*(frame.planes(channel) for frame in frames), strict=True)
        found = [ordinary_tiles(np.stack(planes), side, _OUTLIER_SPREADS) for planes in sites]
        # All sites of a channel in the tile of the layout have the same number of pixels.
        means[channel] = np.mean([one[0] for one in found], axis=0)
        variances[channel] = np.mean([one[1] for one in found], axis=0)
        medians[channel] = float(np.mean([one[2] for one in found]))
    return DarkTiles(exposure_s, means, variances, medians)


@dataclass(frozen=True, slots=True)
class DarkCurrent:
    """Of one temperature: dark current of ordinary pixels in e⁻/s over all channels and by channel, from the noise, glow
    in e⁻/s at its strongest tile, and whether the body hides its dark signal."""

    temperature_c: float | None
    current: Quantity
    by_channel: Mapping[str, Quantity]
    from_noise: Quantity
    glow: Quantity
    hidden: bool = False
    # What the electrons are told by: the gain that was given, or the darks' own.
    gain: Quantity = field(default_factory=lambda: missing(Missing.NOT_TOLD))
    # Growth of every tile over the channels in e⁻/s, shape (rows, columns); empty when not known.
    surface: Array = field(default_factory=lambda: np.zeros((0, 0)))


def dark_current(times: Sequence[DarkTiles], gain: Quantity, temperature_c: float | None = None) -> DarkCurrent:
    """Fit the course over time. ``gain`` in e⁻/DN of the ISO they share; unknown, it is told from mean and noise.

    Too few times give quantities with a reason.
    """
    ordered = sorted(times, key=lambda one: one.exposure_s)
    channels = tuple(ordered[0].means) if ordered else ()
    if len({one.exposure_s for one in ordered}) < FEWEST_TIMES:
        nothing = missing(Missing.FEW_DARK_TIMES, FEWEST_TIMES)
        return DarkCurrent(temperature_c, nothing, dict.fromkeys(channels, nothing), nothing, nothing)
    seconds = np.array([one.exposure_s for one in ordered])
    # Slope in DN/s of every tile and channel; bright times scatter more, so the line is weighted by their variance.
    slopes = np.array([_slopes(seconds, [one.means[c] for one in ordered], [one.variances[c] for one in ordered])
                       for c in channels])  # fmt: skip
    noise = np.array([_slopes(seconds, [one.variances[c] for one in ordered], None) for c in channels])
    glowing = _glowing(slopes.mean(axis=0))
    plain, noisy = slopes[:, ~glowing], noise[:, ~glowing]
    own = not gain.known
    if own:
        gain = _gain_of(plain, noisy)
    if gain.value is None:
        nothing = unknown(gain)
        return DarkCurrent(temperature_c, nothing, dict.fromkeys(channels, nothing), nothing, nothing)
    by_channel = {c: _times(_jackknifed(plain[n]), gain) for n, c in enumerate(channels)}
    current = _times(_jackknifed(plain.mean(axis=0)), gain)
    from_noise = _times(_jackknifed(noisy.mean(axis=0)), gain, 2)
    if own:
        # A gain that was told by letting noise agree with the mean makes them agree: that is no second opinion.
        from_noise = missing(Missing.GAIN_FROM_THE_SAME_NOISE)
    hidden = bool(
        current.value is not None and from_noise.value is not None and from_noise.low is not None and from_noise.low > 0
        and current.value < _HIDDEN_SHARE * from_noise.value
    )  # fmt: skip
    return DarkCurrent(
        temperature_c,
        from_noise if hidden else current,
        by_channel,
        from_noise,
        _glow(slopes, glowing, gain),
        hidden,
        gain,
        slopes.mean(axis=0).reshape(ordered[0].means[channels[0]].shape) * gain.value,
    )


def _slopes(seconds: Array, values: Sequence[Array], variances: Sequence[Array] | None) -> Array:
    """Least-squares slope over time of every tile, flat; weights from each time's typical variance."""
    stack = np.array([value.ravel() for value in values])
    weights = np.ones(len(seconds))
    if variances is not None:
        typical = np.array([float(np.nanmean(one)) if np.isfinite(one).any() else math.nan for one in variances])
        if np.isfinite(typical).all() and (typical > 0).all():
            weights = 1 / typical
    middle = np.average(seconds, weights=weights)
    centred = seconds - middle
    return np.asarray((weights * centred) @ stack / float((weights * centred**2).sum()))


def _glowing(slopes: Array) -> NDArray[np.bool_]:
    """Tiles whose dark signal grows clearly faster than that of the middle of all."""
    middle = float(np.median(slopes))
    spread = float(np.median(np.abs(slopes - middle))) * SIGMA_PER_MAD
    return np.asarray(slopes > middle + max(_GLOW_SE * spread, _GLOW_SHARE * abs(middle)))


def _jackknifed(values: Array) -> tuple[float, float]:
    """Mean over tiles and its standard error, by leaving out groups of tiles."""
    groups = [np.delete(values, np.s_[n::_GROUPS]).mean() for n in range(min(_GROUPS, values.size))]
    spread = np.array(groups)
    se = math.sqrt((len(groups) - 1) / len(groups) * float(((spread - spread.mean()) ** 2).sum()))
    return float(values.mean()), se * _T95 / Z95


def _times(found: tuple[float, float], gain: Quantity, power: int = 1) -> Quantity:
    """DN/s (or DN²/s) in e⁻/s, the gain's error taken along."""
    value, se = found
    factor = (gain.value or 0.0) ** power
    return with_error(value * factor, factor * math.hypot(se, power * value * gain.se / (gain.value or 1.0)), gain.n)


def _gain_of(slopes: Array, noise: Array) -> Quantity:
    """Without light frames: dark electrons are counted like photons, so g is slope of mean over slope of variance."""
    mean, mean_se = _jackknifed(slopes.mean(axis=0))
    variance, variance_se = _jackknifed(noise.mean(axis=0))
    if mean <= 3 * mean_se or variance <= 3 * variance_se:
        return missing(Missing.DARK_SIGNAL_SMALL)
    relative = math.hypot(mean_se / mean, variance_se / variance)
    return with_relative_error(mean / variance, relative, int(slopes.size))


def _glow(slopes: Array, glowing: NDArray[np.bool_], gain: Quantity) -> Quantity:
    every = slopes.mean(axis=0)
    if not glowing.any():
        return Quantity(0.0, 0.0, 0.0, int(every.size), (Note(Remark.NO_GLOW),))
    plain = float(np.median(every[~glowing])) if (~glowing).any() else 0.0
    strongest = float(every.max()) - plain
    factor = gain.value or 0.0
    spread = float(np.std(slopes[:, int(every.argmax())])) / 2
    return with_error(strongest * factor, factor * max(spread, 1e-9), int(glowing.sum()))


def doubling_c(currents: Sequence[DarkCurrent]) -> Quantity:
    """Degrees after which dark current doubles: from a line of its logarithm over temperature, thermometer included."""
    known = [
        (one.temperature_c, one.current)
        for one in currents
        if one.temperature_c is not None and one.current.value is not None and one.current.value > 0
        and (one.current.low or 0.0) > 0
    ]  # fmt: skip
    if len({temperature for temperature, _ in known}) < 2:
        return missing(Missing.FEW_TEMPERATURES)
    degrees = np.array([temperature for temperature, _ in known])
    logs = np.array([math.log2(current.value or 1.0) for _, current in known])
    centred = degrees - degrees.mean()
    slope = float(centred @ logs) / float(centred @ centred)
    if slope <= 0:
        return missing(Missing.NO_GROWTH_WITH_TEMPERATURE)
    # Errors of the logarithm, and of the temperatures on the slope they stand on.
    errors = np.array([current.se / (current.value or 1.0) / math.log(2) for _, current in known])
    thermometer = slope * THERMOMETER_C / Z95
    se = math.sqrt(float((centred**2) @ (errors**2 + thermometer**2))) / float(centred @ centred)
    return with_relative_error(1 / slope, se / slope, len(known))


def corner_to_centre(surface: Array) -> float | None:
    """What the brightest corner gathers over the centre in e⁻/s, by a low-order surface through the tiles; None where
    there are too few of them."""
    rows, columns = surface.shape
    if min(rows, columns) < 4:
        return None
    y, x = np.meshgrid(np.linspace(-1, 1, rows), np.linspace(-1, 1, columns), indexing="ij")
    terms = [np.ones_like(x), x, y, x * y, x**2, y**2]
    design = np.stack([term.ravel() for term in terms], axis=1)
    found, *_ = np.linalg.lstsq(design, surface.ravel(), rcond=None)
    corners = [found @ np.array([1, i, j, i * j, 1, 1]) for i in (-1, 1) for j in (-1, 1)]
    return float(max(corners) - found[0])
