"""Readings that need the scene: noise as it looks, detail of textures, the wedge."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.core.image_quality.step_wedge import wedge_range
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import GREEN, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.noise.two_frame import PairNoise, joint_noise
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.readings.output_size import (
    Size,
    appearances,
    colour_noise,
    detail_of,
    detail_readings,
    in_details,
    rendering_of,
)
from yellowjacket.core.readings.patch import Noise, PatchSpec

# Roles shown in the developed picture, and textures.
SEEN = ("grey", "shadow", "other")
_TEXTURES = ("texture", "colour_texture")
# The side of a coloured detail, in output pixels: less is seen as a speck, not as a colour (common practice, no source).
_COLOURED_DETAIL_PX = 3


@dataclass(frozen=True, slots=True)
class Known:
    """What readings of the scene need of the rung: black and the grey patch's signal by channel (DN), spread of response
    and saturation of green (DN above black) where they are known; stops of noise that smoothing hides."""

    black_dn: Mapping[str, float]
    grey_dn: Mapping[str, float]
    prnu: float | None
    saturation_dn: float | None
    hidden_stops: float = 0.0


def scene_readings(
    light: Sequence[RawFrame],
    patches: Sequence[PatchSpec],
    noise: Noise,
    known: Known,
    sizes: Sequence[Size],
    height: int,
    enlarged: Sequence[Size] = (),
) -> list[Reading]:
    """Readings of all patches that show something of the scene. ``height``: of the full picture, in raw pixels. ``enlarged``:
    uses with more pixels than the picture."""
    readings: list[Reading] = []
    how = rendering_of(light[0], known.black_dn, known.grey_dn)
    for patch in patches:
        why = next((one for channel in light[0].channels if (one := _why_not(noise[patch.name, channel]))), ())
        if patch.role in SEEN:
            readings += appearances(light, patch.name, patch.rect, how, sizes, why, enlarged)
        elif patch.role == "colour" and light[0].layout.coloured:
            details = in_details(sizes, _COLOURED_DETAIL_PX)
            readings += colour_noise(appearances(light, patch.name, patch.rect, how, details, why))
        elif patch.role in _TEXTURES:
            coloured = patch.role == "colour_texture"
            why = why or (() if len(light) > 1 else (Note(Missing.NO_PAIR),))
            cycles, words = Quantity(None, notes=why), "coherence of two frames"
            if not why:
                cycles, words = detail_of(light, patch.rect, known.black_dn, known.prnu or 0.0, coloured=coloured)
            readings += detail_readings(
                patch.name, cycles, words, sizes, height, coloured=coloured, cell=light[0].layout.cell
            )
    return readings + _wedge(patches, noise, known.saturation_dn, light[0].layout.greens)


def _why_not(outcome: PairNoise | Note) -> tuple[Note, ...]:
    """Why a patch has no noise in a channel, empty when it has."""
    if isinstance(outcome, Note):
        return (outcome,)
    return () if outcome.noise.known else outcome.noise.notes


def _wedge(
    patches: Sequence[PatchSpec], noise: Noise, saturation: float | None, greens: Sequence[str]
) -> list[Reading]:
    """Range as the wedge of the scene shows it, beside that of the noise model."""
    steps = [patch for patch in patches if patch.role == "wedge"]
    if not steps:
        return []
    outcomes = [[noise[step.name, channel] for channel in greens] for step in steps]
    if any(isinstance(one, Note) for pair in outcomes for one in pair):
        return []
    read = [joint_noise([one for one in pair if isinstance(one, PairNoise)]) for pair in outcomes]
    seen = wedge_range(read, steps[0].step_stops, tuple(float(level) for level in SNR_LEVELS))
    how = f"{len(steps)} steps of the wedge, green"
    first = next((one.signal.value for one in read if one.signal.value), None)
    if saturation and first and first > 0:
        how += f"; its lightest measured step lies {math.log2(saturation / first):.1f} stops under saturation"
    start = missing(Missing.SATURATION_UNKNOWN)
    if saturation and first and first > 0:
        start = Quantity(math.log2(saturation / first))
    return [
        *(Reading(None, GREEN, Measurand(f"wedge_snr{level}"), seen.at_snr[float(level)], how) for level in SNR_LEVELS),
        Reading(None, GREEN, Measurand.WEDGE_START, start, "saturation over the lightest step that was measured"),
        Reading(None, GREEN, Measurand.WEDGE_TOLD_APART, seen.told_apart, how),
        Reading(None, GREEN, Measurand.WEDGE_FLOOR, seen.floor, how),
    ]
