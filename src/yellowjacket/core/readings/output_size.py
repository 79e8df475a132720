"""Readings at the sizes of the uses: SNR, range, noise as it looks, detail; per pixel where no use is named."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.image_quality.texture import NYQUIST, finest_detail
from yellowjacket.core.image_quality.visual_noise import Appearance, appearance, stand_ins, unseen
from yellowjacket.core.limits.output_size import AT_PIXEL_LEVEL, LookedAt, UseView, use_noise_factor
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.photon_transfer.characterise import ChannelFindings
from yellowjacket.core.photon_transfer.dynamic_range import dynamic_range_stops
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import GRADIENT, Development, developed_crop, gains_from_grey


@dataclass(frozen=True, slots=True)
class UseSize:
    """A use by its key, its output pixels, and how they are looked at."""

    key: str
    output_pixels: int
    looked_at: LookedAt = AT_PIXEL_LEVEL

    @classmethod
    def of(cls, key: str, view: UseView) -> UseSize | None:
        """A use as it is looked at; None at pixel level, which is always read."""
        pixels = view.whole_frame_pixels
        return None if pixels is None else cls(key, pixels, view.looked_at)


@dataclass(frozen=True, slots=True)
class Size:
    """A size to read at: how many raw pixels fall on an output pixel's side, the use it belongs to, and how that is looked at."""

    use: str
    raw_px: float
    share: float
    looked_at: LookedAt = AT_PIXEL_LEVEL

    @property
    def enlarged(self) -> bool:
        """Whether the use has no fewer pixels than the picture."""
        return bool(self.use) and self.raw_px <= 1

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
            found.append(Size(use.key, factor, 1 / factor**2, use.looked_at))
    return tuple(found)


def enlarged_of(picture_pixels: int, uses: Iterable[UseSize]) -> tuple[Size, ...]:
    """The other uses: nothing is enlarged to be measured, but the eye sees each pixel the larger."""
    return tuple(
        Size(use.key, math.sqrt(picture_pixels / use.output_pixels), 1.0, use.looked_at)
        for use in uses
        if use.output_pixels >= picture_pixels
    )


def ranges_at_uses(found: ChannelFindings, sizes: Sequence[Size], gained: Mapping[str, Quantity]) -> Iterator[Reading]:
    """Range down to SNR 1 in one output pixel. ``gained``: by use, how many times the SNR of a raw pixel its own has, as it was
    measured on the darkest patch; without one every raw pixel is taken to count in full."""
    parts = [
        found.quantities[name] for name in (Measurand.SATURATION_DN, Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN)
    ]
    for size in sizes:
        gain = gained.get(size.use) if size.use else None
        share = size.share if gain is None or not gain.value else 1 / gain.value**2
        value = dynamic_range_stops(1, *parts, use_share=share)
        if value.value is not None and gain is not None and gain.value:
            error = math.hypot(value.se, gain.se / gain.value / math.log(2))
            value = with_error(value.value, error, value.n, *value.notes)
        how = f"from saturation down to SNR 1, by the noise model, {size.words}"
        yield Reading(None, ALL, Measurand.RANGE_SNR1, value, how, use=size.use)


def rendering_of(frame: RawFrame, black: Mapping[str, float], grey_dn: Mapping[str, float]) -> Development | None:
    """How patches are developed: the rung's own grey patch at 18 % and neutral; None where it has no signal."""
    if set(grey_dn) != set(frame.channels) or min(grey_dn.values()) <= 0:
        return None
    return Development(frame.layout, dict(black), gains_from_grey(dict(grey_dn)), frame.xyz_to_camera, GRADIENT)


def appearances(
    light: Sequence[RawFrame],
    name: str,
    rect: Rect,
    how: Development | None,
    sizes: Sequence[Size],
    why: Sequence[Note],
    enlarged: Sequence[Size] = (),
) -> Iterator[Reading]:
    """SNR, luma noise, chroma noise, grain and visual noise of a patch at every size, as developed, and visual noise alone at
    ``enlarged`` ones; ``why`` there is none, if so."""
    if how is None or why:
        nothing = unseen(*why or [Note(Missing.GREY_DARK_SETS_BALANCE)])
        for size in sizes:
            yield from _seen(name, nothing, size, len(light))
        return
    pictures = [developed_crop(frame.mosaic, rect, how) for frame in light[:2]]
    one, other = pictures if len(pictures) > 1 else stand_ins(pictures[0])
    for size in (*sizes, *enlarged):
        coloured = light[0].layout.coloured
        seen = appearance(one, other, size.raw_px, coloured=coloured, looked_at=size.looked_at)
        if len(pictures) == 1:
            seen = seen.remarked(Note(Remark.SINGLE_FRAME))
        yield from [_to_the_eye(name, seen, size)] if size.enlarged else _seen(name, seen, size, len(light))


def in_details(sizes: Iterable[Size], detail_px: int) -> list[Size]:
    """The same uses, read in details of so many output pixels a side."""
    return [replace(size, raw_px=size.raw_px * detail_px) for size in sizes]


def colour_noise(seen: Iterable[Reading]) -> Iterator[Reading]:
    """Of how a patch appears in details, the chroma noise alone."""
    return (replace(one, quantity=Measurand.COLOUR_NOISE) for one in seen if one.quantity is Measurand.NOISE_CHROMA)


def _seen(name: str, seen: Appearance, size: Size, frames: int) -> Iterator[Reading]:
    if frames > 1:
        lab = f"two frames developed to CIELAB, half the variance of their difference, {size.words}"
        light = f"luminance of two frames as developed, mean over the noise of their difference, {size.words}"
    else:
        lab = f"one frame developed to CIELAB, what departs from a plane, {size.words}"
        light = f"luminance of one frame as developed, mean over what departs from a plane, {size.words}"
    width = f"width of the noise's autocorrelation, {size.words}"
    yield Reading(name, ALL, Measurand.SNR, seen.snr, light, use=size.use)
    yield Reading(name, ALL, Measurand.NOISE_LUMA, seen.luma, lab, use=size.use)
    yield Reading(name, ALL, Measurand.NOISE_CHROMA, seen.chroma, lab, use=size.use)
    yield Reading(name, ALL, Measurand.GRAIN_PX, seen.grain, width, use=size.use)
    yield _to_the_eye(name, seen, size)


def _to_the_eye(name: str, seen: Appearance, size: Size) -> Reading:
    how = f"as the eye weighs it at {size.looked_at.pixels_per_degree:.0f} pixels to a degree (after ISO 15739), {size.words}"
    return Reading(name, ALL, Measurand.NOISE_VISUAL, seen.visual, how, use=size.use)


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
