"""Readings at the sizes of the uses: SNR, range, noise as it looks, detail; per pixel where no use is named."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import camera_to_srgb
from yellowjacket.core.image_quality.texture import NYQUIST, finest_detail
from yellowjacket.core.image_quality.visual_noise import Appearance, Rendering, appearance, excess_over_white, unseen
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.autocorrelation import LagSums
from yellowjacket.core.photon_transfer.characterise import ChannelFindings
from yellowjacket.core.photon_transfer.dynamic_range import dynamic_range_stops
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import gains_from_grey


@dataclass(frozen=True, slots=True)
class UseSize:
    """A use by its key and its output pixels."""

    key: str
    output_pixels: int


@dataclass(frozen=True, slots=True)
class Size:
    """A size to read at: how many raw pixels fall on an output pixel's side, and the use it belongs to."""

    use: str
    raw_px: float
    share: float

    @property
    def words(self) -> str:
        """For the provenance line."""
        return f"at the use's size, {self.raw_px:.3g} raw px to an output px" if self.use else "per pixel"


def sizes_of(picture_pixels: int, uses: Iterable[UseSize]) -> tuple[Size, ...]:
    """Per pixel, and every use smaller than the picture. A larger one is read per pixel: nothing is enlarged."""
    found = [Size("", 1.0, 1.0)]
    for use in uses:
        factor, _ = use_noise_factor(picture_pixels, use.output_pixels)
        if factor > 1.0:
            found.append(Size(use.key, factor, 1 / factor**2))
    return tuple(found)


def ratios_at_uses(
    plain: Reading, sizes: Sequence[Size], smoothed: LagSums | None, pitch: int = 2
) -> Iterator[Reading]:
    """An SNR per pixel and at every size. ``smoothed``: correlations of a raw that was smoothed, else None.
    ``pitch``: raw pixels between the pixels that were correlated.

    White noise averages out with the root of the pixels; where neighbours vary together, by less.
    """
    yield plain
    for size in sizes[1:]:
        excess = 1.0 if smoothed is None else excess_over_white(smoothed, size.raw_px, pitch)
        how = f"{plain.method}, {size.words}" + (", noise correlated" if smoothed is not None else "")
        yield replace(plain, result=plain.result.scaled(size.raw_px / excess), use=size.use, method=how)


def ranges_at_uses(found: ChannelFindings, sizes: Sequence[Size]) -> Iterator[Reading]:
    """Range down to SNR 1 in one output pixel."""
    parts = [
        found.quantities[name] for name in (Measurand.SATURATION_DN, Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN)
    ]
    for size in sizes:
        value = dynamic_range_stops(1, *parts, use_share=size.share)
        how = f"from saturation down to SNR 1, by the noise model, {size.words}"
        yield Reading(None, ALL, Measurand.RANGE_SNR1, value, how, use=size.use)


def rendering_of(frame: RawFrame, black: Mapping[str, float], grey_dn: Mapping[str, float]) -> Rendering | None:
    """How patches are developed: the rung's own grey patch at 18 % and neutral; None where it has no signal."""
    if set(grey_dn) != set(frame.channels) or min(grey_dn.values()) <= 0:
        return None
    return Rendering(black, gains_from_grey(dict(grey_dn)), camera_to_srgb(frame.xyz_to_camera))


def appearances(
    light: Sequence[RawFrame],
    name: str,
    rect: Rect,
    how: Rendering | None,
    sizes: Sequence[Size],
    why: Sequence[Note],
) -> Iterator[Reading]:
    """Luma noise, chroma noise and grain of a patch at every size; ``why`` there is none, if so."""
    planes = [{c: rect.cells(frame, c) for c in frame.channels} for frame in light[:2]] if not why else []
    cell = light[0].layout.cell
    for size in sizes:
        if how is None or why:
            seen = unseen(*why or [Note(Missing.GREY_DARK_SETS_BALANCE)])
        else:
            seen = appearance(planes[0], planes[1], how, size.raw_px / cell)
        yield from _three(name, seen, size)


def _three(name: str, seen: Appearance, size: Size) -> Iterator[Reading]:
    how = f"two frames developed to CIELAB, half the variance of their difference, {size.words}"
    yield Reading(name, ALL, Measurand.NOISE_LUMA, seen.luma, how, use=size.use)
    yield Reading(name, ALL, Measurand.NOISE_CHROMA, seen.chroma, how, use=size.use)
    yield Reading(
        name, ALL, Measurand.GRAIN_PX, seen.grain, f"width of the noise's autocorrelation, {size.words}", use=size.use
    )


def detail_of(
    light: Sequence[RawFrame], rect: Rect, black: Mapping[str, float], prnu: float, *, coloured: bool
) -> tuple[Quantity, str]:
    """Finest detail of a textured patch in cycles per channel pixel, and how it was found.

    ``coloured``: of the differences red − green and blue − green instead of green. ``prnu``: spread of response, which
    both frames share.
    """
    channels, greens = light[0].channels, light[0].layout.greens
    fields = [{c: rect.cells(frame, c).astype(np.float64) - black[c] for c in channels} for frame in light[:2]]
    if coloured and not light[0].layout.coloured:
        return missing(Missing.NO_COLOUR_FILTERS), ""
    if coloured:
        levels = {c: float(fields[0][c].mean()) for c in channels}
        if min(levels.values()) <= 0:
            return missing(Missing.TEXTURE_CHANNEL_DARK), ""
        one, other = ({c: field[c] / levels[c] for c in channels} for field in fields)
        pairs = [(_difference(one, c, greens), _difference(other, c, greens)) for c in ("R", "B")]
        # Where two greens are averaged, their fixed pattern counts half.
        fixed = [prnu**2 * (float(np.mean(one[c] ** 2)) + 1 / len(greens)) for c in ("R", "B")]
        how = "coherence of two frames of the coloured texture, red and blue against green"
    else:
        pairs = [(fields[0][c], fields[1][c]) for c in greens]
        fixed = [prnu**2 * float(np.mean(fields[0][c] ** 2)) for c in greens]
        how = "coherence of two frames of the texture, green"
    return finest_detail(pairs, fixed), how + ", where noise outweighs detail"


def _difference(planes: Mapping[str, NDArray[np.float64]], channel: str, greens: Sequence[str]) -> NDArray[np.float64]:
    return np.asarray(planes[channel] - sum(planes[name] for name in greens) / len(greens))


def detail_readings(
    name: str, cycles: Quantity, how: str, sizes: Sequence[Size], picture_height: int, *, coloured: bool, cell: int = 2
) -> Iterator[Reading]:
    """Detail in line pairs per picture height at every size: an output shows no more than its own pixels can."""
    quantity = Measurand.COLOUR_DETAIL if coloured else Measurand.DETAIL
    # ``cell``: raw pixels between two of a channel, by which cycles were counted.
    full = cycles.scaled(picture_height / cell)
    for size in sizes:
        most = picture_height / (2 * size.raw_px) if size.use else picture_height / cell * NYQUIST
        shown = full
        if full.value is not None and size.use and (full.low or 0.0) > most:
            shown = Quantity(most, most, most, full.n, (Note(Remark.AS_FINE_AS_SHOWN),))
        elif full.value is not None and size.use:
            value, low, high = (
                min(q if q is not None else full.value, most) for q in (full.value, full.low, full.high)
            )
            shown = Quantity(
                value, low, high, full.n, (Note(Remark.AS_FINE_AS_SHOWN),) if value == most else full.notes
            )
        yield Reading(name, ALL, quantity, shown, f"{how}, {size.words}", use=size.use)
