"""From the files of a rung to readings: a pure function of (files, patches), run in worker processes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.level import level_of
from yellowjacket.core.photon_transfer.accumulate import masked_part, no_black
from yellowjacket.core.photon_transfer.characterise import IsoFindings, characterise_frames
from yellowjacket.core.raw.frame import FrameError, Layout, RawFrame, first_green
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.output_size import UseSize, appearances, enlarged_of, sizes_of
from yellowjacket.core.readings.patch import (
    UNIFORM,
    Noise,
    PatchSpec,
    known_noise,
    noise_of,
    patch_of_role,
    patch_readings,
    without_full,
)
from yellowjacket.core.readings.scene import SEEN, Known, scene_readings
from yellowjacket.core.readings.sensor import gained_at_uses, habits, headroom, rung_readings, shadow_readings
from yellowjacket.core.readings.smoothed import hidden_stops, remarked
from yellowjacket.core.rendering.develop import Development

# Code of the problem that a rung has one frame only.
SINGLE = "single"
# The black level is read in a central window of at most this side: 260 000 pixels a channel.
_DARK_WINDOW_PX = 1024


@dataclass(frozen=True, slots=True)
class RungTask:
    """Everything a worker needs: file paths and patches. ``key`` comes back with the result.

    ``uses``: sizes to read at. ``picture``: width and height of the body's full picture, of which the frames may be a
    window; the frames' own when None. ``threads``: files decoded at once, no input of the result. ``known``: what was
    read of the rung already, when only patches that stand alone are asked for; darks are not read again then.
    """

    key: int
    light: tuple[str, ...]
    dark: tuple[str, ...]
    patches: tuple[PatchSpec, ...]
    uses: tuple[UseSize, ...] = ()
    picture: tuple[int, int] | None = None
    threads: int = 1
    known: Known | None = None


@dataclass(frozen=True, slots=True)
class RungResult:
    """Readings of one rung and the files that failed on the way."""

    key: int
    readings: tuple[Reading, ...]
    problems: tuple[FrameError, ...] = ()


def measure_rung(task: RungTask) -> RungResult:
    """Measure one rung from its files. Bad files become problems, missing pairs become reasons."""
    problems: list[FrameError] = []
    light = _read_all(task.light, problems, task.threads)
    dark = _read_all(task.dark, problems, task.threads)
    if not light:
        return RungResult(
            task.key, (Reading(None, ALL, Measurand.SNR, missing(Missing.NO_FRAME_YET)),), tuple(problems)
        )
    if "black" in light[0].unsaid and not dark and task.known is None and masked_part(light[0]) is None:
        problems.append(no_black(Path(task.light[0])))
        return RungResult(
            task.key, (Reading(None, ALL, Measurand.SNR, missing(Missing.BLACK_UNSAID)),), tuple(problems)
        )
    if len(light) == 1:
        problems.append(_single(Path(task.light[0])))
    return RungResult(task.key, measure_frames(light, dark, task), tuple(problems))


def measure_frames(light: Sequence[RawFrame], dark: Sequence[RawFrame], task: RungTask) -> tuple[Reading, ...]:
    """The same from frames that are read already: one or more light frames, none or more darks, all of one size."""
    layout = light[0].layout
    if layout.rendered:
        return _of_pictures(light, task)
    width, height = task.picture or light[0].size
    sizes, enlarged = sizes_of(width * height, task.uses), enlarged_of(width * height, task.uses)
    if task.known is not None:
        black_dn, top = task.known.black_dn, task.known.saturation_dn
        clip = {c: light[0].white_dn if top is None else top + black_dn[c] for c in light[0].channels}
        noise = without_full(noise_of(light, task.patches, black_dn), black_dn, clip)
        readings = [one for patch in task.patches for one in patch_readings(light, patch, noise, black_dn, clip)]
        scene = scene_readings(light, task.patches, noise, task.known, sizes, height, enlarged)
        return tuple(remarked(_as_far_as_told((*readings, *scene), layout), task.known.hidden_stops))
    black, black_source = _black_levels(light, dark)
    levels = {channel: black[channel].value or 0.0 for channel in light[0].channels}
    readings = [
        Reading(None, channel, Measurand.BLACK_DN, black[channel], f"mean of {black_source}")
        for channel in light[0].channels
    ]
    noise = noise_of(light, task.patches, levels)
    found = _characterised(light, dark, task.patches, noise)
    clip = {
        channel: found.channels[channel].quantities[Measurand.CLIP_DN].value or light[0].white_dn
        for channel in light[0].channels
    }
    noise = without_full(noise, levels, clip)
    for patch in task.patches:
        readings += patch_readings(light, patch, noise, levels, clip)
    known = _known(found, task.patches, noise, levels)
    readings += rung_readings(task.patches, noise, found)
    scene = scene_readings(light, task.patches, noise, known, sizes, height, enlarged)
    readings += shadow_readings(task.patches, noise, found, scene)
    if found.every is not None:
        readings += habits(found.every, sizes, gained_at_uses(task.patches, noise, scene))
        readings.append(headroom(found, task.patches, noise))
    readings += scene
    return tuple(remarked(_as_far_as_told(readings, layout), hidden_stops(found)))


def _of_pictures(light: Sequence[RawFrame], task: RungTask) -> tuple[Reading, ...]:
    """Of what a camera has rendered: its noise as it looks, in display units, and no number of the sensor."""
    width, height = task.picture or light[0].size
    sizes, enlarged = sizes_of(width * height, task.uses), enlarged_of(width * height, task.uses)
    white = light[0].white_dn
    how = Development(light[0].layout, dict(light[0].black_dn), (1 / white, 1 / white, 1 / white), None)
    nothing = missing(Missing.CAMERA_PICTURE)
    readings = [Reading(None, ALL, Measurand.SHADOW_SNR, nothing)]
    for patch in task.patches:
        outside = not patch.rect.fits(*light[0].size)
        why = (Note(Missing.PATCH_OUTSIDE_FRAME, (patch.name, *light[0].size)),) if outside else ()
        if patch.role in SEEN:
            for one in appearances(light, patch.name, patch.rect, how, sizes, why, enlarged):
                own = "two of the camera's own pictures" if len(light) > 1 else "one of the camera's own pictures"
                words = f"{own}, in display units, {one.method.rpartition(', ')[2]}"
                # Its curve is unknown: what light made a tone, and how noisy that was, cannot be told.
                told = nothing if one.quantity is Measurand.SNR else one.result
                readings.append(replace(one, method=words, result=told))
    return tuple(readings)


# Of interpolated samples: what would be said of single pixels, or counted in electrons by their noise.
_OF_PIXELS = frozenset({
    Measurand.NOISE_DN, Measurand.SNR, Measurand.SHADOW_SNR,
    Measurand.NOISE_LUMA, Measurand.NOISE_CHROMA, Measurand.NOISE_VISUAL, Measurand.GRAIN_PX,
    Measurand.RANGE_SNR1, Measurand.RANGE_SNR2, Measurand.RANGE_SNR4, Measurand.RANGE_SNR10, Measurand.RANGE_ENGINEERING,
})  # fmt: skip
_OF_ELECTRONS = frozenset({
    Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN, Measurand.READ_NOISE_E, Measurand.SATURATION_E, Measurand.PRNU,
    Measurand.RANGE_SNR1, Measurand.NEIGHBOUR_CORRELATION,
})  # fmt: skip


def _as_far_as_told(readings: Iterable[Reading], layout: Layout) -> Iterator[Reading]:
    """Readings as they are; of interpolated samples those at output sizes alone."""
    for one in readings:
        untold = one.quantity in _OF_ELECTRONS or (one.quantity in _OF_PIXELS and not one.use)
        yield replace(one, result=missing(Missing.DEMOSAICED)) if layout.demosaiced and untold else one


def _known(found: IsoFindings, patches: Sequence[PatchSpec], noise: Noise, black_dn: Mapping[str, float]) -> Known:
    """What readings of the scene need of the rung."""
    grey = patch_of_role(patches, "grey")
    channels = tuple(black_dn)
    outcomes = {channel: known_noise(noise[grey.name, channel]) for channel in channels} if grey else {}
    every = found.every
    first = first_green(found.channels)
    saturation = first.quantities[Measurand.SATURATION_DN].value if first is not None else None
    return Known(
        dict(black_dn), {channel: one.signal.value or 0.0 for channel, one in outcomes.items() if one is not None},
        every.quantities[Measurand.PRNU].value if every is not None else None, saturation,
    )  # fmt: skip


def _read(name: str) -> RawFrame | FrameError:
    try:
        return read_frame(Path(name))
    except FrameError as error:
        return error


def _read_all(paths: Sequence[str], problems: list[FrameError], threads: int) -> list[RawFrame]:
    """The frames that could be read and share the first one's size."""
    frames: list[RawFrame] = []
    # LibRaw decodes without holding the interpreter, so two threads take half the time of one.
    with ThreadPoolExecutor(threads) as pool:
        read = list(pool.map(_read, paths)) if threads > 1 else map(_read, paths)
    for name, frame in zip(paths, read, strict=True):
        if isinstance(frame, FrameError):
            problems.append(frame)
            continue
        if frames and frame.mosaic.shape != frames[0].mosaic.shape:
            problems.append(
                FrameError(Path(name), "size", "differs in size from its pair.", "Shoot the rung again in one mode.")
            )
            continue
        frames.append(frame)
    return frames


def _single(path: Path) -> FrameError:
    return FrameError(
        path, SINGLE, "is the only usable frame of its rung: its fixed pattern counts as noise.",
        "Shoot a second frame of this rung, or import it, to tell the two apart; or leave it so.",
    )  # fmt: skip


def _black_levels(light: Sequence[RawFrame], dark: Sequence[RawFrame]) -> tuple[dict[str, Quantity], str]:
    """Black by channel from the darks of this ISO, else from masked borders, else what the file says."""
    usable = [frame for frame in dark if frame.mosaic.shape == light[0].mosaic.shape]
    masked = masked_part(light[0])
    if not usable and masked is not None:
        return {c: level_of([masked.parts(frame, c) for frame in light]) for c in light[0].channels}, "masked pixels"
    if not usable:
        return {
            c: Quantity(light[0].black_dn[c], notes=(Note(Remark.BLACK_FROM_TAG_NO_DARKS),)) for c in light[0].channels
        }, "the tag"
    levels = {}
    for channel in light[0].channels:
        levels[channel] = level_of([_dark_window(frame).parts(frame, channel) for frame in usable])
    return levels, counted(len(usable), "dark frame")


def _dark_window(frame: RawFrame) -> Rect:
    """The central part of a dark that is read."""
    width, height = frame.size
    unit = max(2, frame.layout.step)
    w, h = (min(side, _DARK_WINDOW_PX) // unit * unit for side in (width, height))
    return Rect((width - w) // (2 * unit) * unit, (height - h) // (2 * unit) * unit, w, h)


def _characterised(
    light: Sequence[RawFrame], dark: Sequence[RawFrame], patches: Sequence[PatchSpec],
    noise: Noise,
) -> IsoFindings:  # fmt: skip
    """What the first pair says as a whole: it stands for the rung in every other reading too."""
    areas = [
        (patch.rect, {c: known for c in light[0].channels if (known := known_noise(noise[patch.name, c])) is not None})
        for patch in patches
        if patch.role in UNIFORM
    ]
    return characterise_frames(light[:2], dark[:2], areas)
