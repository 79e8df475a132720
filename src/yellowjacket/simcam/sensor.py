"""The sensor: light and time in, raw numbers out.

Order of events as in the linear camera model of EMVA 1288: photons and dark current are counted
(Poisson), the well fills, noise before the gain, gain, noise after the gain, black offset, rounding,
the converter's ends. Fixed patterns (PRNU, DSNU, hot pixels) are drawn once from the serial number.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.exposure.dial import exact_exposure_s, exact_f_number
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.simcam.bodies import BodyModel
from yellowjacket.simcam.scene import GREY_REFLECTANCE, Scene

# Linear sRGB → XYZ, D65 (IEC 61966-2-1; from memory).
SRGB_TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)


@dataclass(frozen=True, slots=True)
class Lamp:
    """The light on the scene: level as exposure value at ISO 100, colour as linear RGB, green 1."""

    ev100: float = 9.0
    colour: tuple[float, float, float] = (1.12, 1.0, 0.76)


# Dark current is stated at this sensor temperature and doubles every so many degrees (common practice, no source).
REFERENCE_C, DOUBLING_C = 20.0, 6.0


@dataclass(frozen=True, slots=True)
class ExposureSettings:
    """What is set on the body. Printed marks are allowed; the camera sets the exact power of two.

    ``sensor_c``: temperature of the sensor, on which its dark current hangs. ``smoothing``: noise reduction in the raw,
    as the body's own. ``bits``: of the file, the converter's when None. ``half``: the reduced raw mode, the mean of four
    pixels of one colour; ``linear``: the one that writes red, green and blue of every 2×2 tile, interpolated. ``lenr``: the
    body takes a dark of the same length afterwards and takes it off. ``window``: (width, height) of the part that is read
    out, from the upper left; all of it when None.
    """

    iso: float
    exposure_s: float
    f_number: float
    capped: bool = False
    sensor_c: float = REFERENCE_C
    smoothing: float = 0.0
    bits: int | None = None
    half: bool = False
    linear: bool = False
    lenr: bool = False
    window: tuple[int, int] | None = None


# Noise reduction in the raw, by the word on the menu: share of each neighbour along rows and columns.
NOISE_REDUCTION = {"off": 0.0, "low": 0.06, "standard": 0.12, "high": 0.2}


def neutral_response(body: BodyModel, lamp: Lamp) -> NDArray[np.float64]:
    """Camera response to a white reflector under the lamp, R G B, green 1."""
    response = body.matrix @ SRGB_TO_XYZ @ np.array(lamp.colour)
    return np.asarray(response / response[1])


# What is hotter stands at its end within a second.
_HOTTEST_E_PER_S = 20_000.0


@lru_cache(maxsize=4)
def _fixed_pattern(
    body: BodyModel, shape: tuple[int, int]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """Per pixel: relative sensitivity, offset in e⁻, extra dark current in e⁻/s; the same for life."""
    rng = np.random.default_rng(zlib.crc32(body.serial.encode()))
    sensitivity = rng.normal(1.0, body.prnu, shape).astype(np.float32)
    offset_e = rng.normal(0.0, body.dsnu_e, shape).astype(np.float32)
    hot = np.zeros(shape, np.float32)
    count = rng.binomial(hot.size, body.hot_pixel_share)
    places = rng.choice(hot.size, count, replace=False)
    # A tail by a power law: few are seen after a second, hundreds to the megapixel after minutes (common practice, no source).
    hot.flat[places] = np.minimum(body.dark_current_e_per_s / (1 - rng.random(count)), _HOTTEST_E_PER_S)
    return sensitivity, offset_e, hot


def hot_rates_e_per_s(body: BodyModel, shape: tuple[int, int]) -> NDArray[np.float32]:
    """What every pixel of a sensor of ``shape`` gathers in the dark beyond an ordinary one, e⁻/s at the reference
    temperature."""
    return _fixed_pattern(body, shape)[2]


@lru_cache(maxsize=2)
def _mosaic_light(body: BodyModel, lamp_colour: tuple[float, float, float], scene: Scene) -> NDArray[np.float32]:
    """Scene light per pixel behind its colour filter, 1 for green on diffuse white."""
    reflectance = scene.reflectance
    to_camera = body.matrix @ SRGB_TO_XYZ * np.array(lamp_colour)
    # The lamp level is what green sees of white, so that a lamp's colour does not change the metering.
    to_camera /= to_camera[1].sum()
    light = np.empty(reflectance.shape[:2], np.float32)
    if not body.filters:
        # Without filters a pixel gathers all of the light; as bright on white as green is behind its filter.
        every = to_camera.sum(axis=0) / to_camera.sum()
        return np.asarray(np.clip(reflectance @ every.astype(np.float32), 0.0, None), np.float32)
    side = body.tile_side
    for position, colour in enumerate(body.filters):
        row, column = position // side, position % side
        weights = to_camera["RGB".index(colour)].astype(np.float32)
        light[row::side, column::side] = np.clip(reflectance[row::side, column::side] @ weights, 0.0, None)
    return light


def metered_electrons(body: BodyModel, settings: ExposureSettings, lamp: Lamp) -> float:
    """Electrons in a green pixel on the 18 % grey card under ``lamp``."""
    light = 2.0**lamp.ev100 * exact_exposure_s(settings.exposure_s) / exact_f_number(settings.f_number) ** 2
    # light is 1 when settings are correct at ISO 100; the well is filled by the light that is correct at the base ISO.
    full_e = body.converter_full_e or body.gain_modes[0].full_well_e
    return MID_GREY_SHARE * full_e * light * body.base_iso / 100.0


def expose(
    body: BodyModel, scene: Scene, settings: ExposureSettings, lamp: Lamp, rng: np.random.Generator
) -> NDArray[np.uint16]:
    """One exposure: uint16 mosaic of the scene's size in DN. ``rng`` is the only source of chance."""
    numbers = _frame(body, scene, settings, lamp, rng)
    if settings.lenr:
        dark = _frame(body, scene, replace(settings, capped=True), lamp, rng)
        # As bodies do it: number for number, around the black level.
        taken = numbers.astype(np.int32) - dark + body.black_dn
        numbers = np.clip(taken, 0, body.white_dn).astype(np.uint16)
    if settings.bits is not None and settings.bits < body.bits:
        # Fewer bits are written: the converter's last ones are dropped.
        numbers >>= body.bits - settings.bits
    if (settings.half or settings.linear) and body.tile_side != _REDUCED_SIDE:
        raise ValueError(f"{body.make} {body.model} has no reduced raw mode")
    if settings.linear:
        return _linear(numbers)
    return _reduced(numbers) if settings.half else numbers


# Reduced raw modes are those of 2×2 tiles.
_REDUCED_SIDE = 2


def _linear(mosaic: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """Three samples for each tile of 2×2, shape (rows // 2, columns // 2, 3): both greens averaged, then all smoothed a little
    against the next, as interpolation leaves them."""
    rows, columns = mosaic.shape[0] // 2 * 2, mosaic.shape[1] // 2 * 2
    red, first, second, blue = (mosaic[y:rows:2, x:columns:2].astype(np.float32) for y in (0, 1) for x in (0, 1))
    samples = np.stack([red, (first + second) / 2, blue], axis=-1)
    for axis in (0, 1):
        after = np.concatenate([samples.take(range(1, samples.shape[axis]), axis), samples.take([-1], axis)], axis)
        samples = (1 - _INTERPOLATED) * samples + _INTERPOLATED * after
    return np.rint(samples).astype(np.uint16)


# Share of the next sample in an interpolated one.
_INTERPOLATED = 0.25


def _frame(
    body: BodyModel, scene: Scene, settings: ExposureSettings, lamp: Lamp, rng: np.random.Generator
) -> NDArray[np.uint16]:
    """What the converter gives of one exposure, shape of the window or of the scene."""
    shape = (scene.reflectance.shape[0], scene.reflectance.shape[1])
    columns, rows = settings.window or (shape[1], shape[0])
    part = np.s_[:rows, :columns]
    sensitivity, offset_e, hot = (one[part] for one in _fixed_pattern(body, shape))
    seconds = exact_exposure_s(settings.exposure_s)
    warmth = 2.0 ** ((settings.sensor_c - REFERENCE_C) / DOUBLING_C)
    expected_e = (body.dark_current_e_per_s + hot) * np.float32(seconds * warmth)
    if body.glow_e_per_s:
        expected_e += _glow(body, shape[1])[:, :columns] * np.float32(seconds * warmth)
    if not settings.capped:
        light = _mosaic_light(body, lamp.colour, scene)[part]
        expected_e = expected_e + light * sensitivity * np.float32(
            metered_electrons(body, settings, lamp) / GREY_REFLECTANCE
        )
    electrons = poisson(expected_e, rng)
    if seconds >= _EVENTS_FROM_S:
        # From a stream of their own: frames in which nothing happens stay what they are.
        events = np.random.default_rng(rng.bit_generator.seed_seq.spawn(1)[0])  # type: ignore[attr-defined]
        _blink(electrons, body, shape, seconds * warmth, events)
        _hit(electrons, body, seconds, events)
    np.minimum(electrons, body.gain_mode(settings.iso).full_well_e, out=electrons)
    return _convert(body, settings, electrons, offset_e, rng)


# Below this nothing comes and goes that could be seen.
_EVENTS_FROM_S = 1.0


def blinking_places(body: BodyModel, shape: tuple[int, int]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows and columns of the pixels of a sensor of ``shape`` that blink; the same for life."""
    rng = np.random.default_rng(zlib.crc32(f"{body.serial} blinking".encode()))
    size = shape[0] * shape[1]
    places = rng.choice(size, rng.binomial(size, body.blinking_share), replace=False)
    return places // shape[1], places % shape[1]


def _blink(
    electrons: NDArray[np.float32], body: BodyModel, shape: tuple[int, int], warmed_s: float, rng: np.random.Generator
) -> None:
    """Some pixels stand high in some frames, in place."""
    rows, columns = blinking_places(body, shape)
    high = (rng.random(rows.size) < body.blinking_chance) & (rows < electrons.shape[0]) & (columns < electrons.shape[1])
    electrons[rows[high], columns[high]] += rng.poisson(body.blinking_e_per_s * warmed_s, int(high.sum()))


def _hit(electrons: NDArray[np.float32], body: BodyModel, seconds: float, rng: np.random.Generator) -> None:
    """Charged particles leave short tracks, in place."""
    rows, columns = electrons.shape
    for _ in range(rng.poisson(body.hits_per_mpix_hour * electrons.size / 1e6 * seconds / 3600)):
        y, x, angle = rng.uniform(0, rows), rng.uniform(0, columns), rng.uniform(0, np.pi)
        left_e = rng.exponential(body.hit_e)
        length = 1 + rng.poisson(1.5)
        for n in range(length):
            row, column = int(y + n * np.sin(angle)), int(x + n * np.cos(angle))
            if 0 <= row < rows and 0 <= column < columns:
                electrons[row, column] += np.float32(left_e / length)


def _convert(
    body: BodyModel, settings: ExposureSettings, electrons: NDArray[np.float32], offset_e: NDArray[np.float32],
    rng: np.random.Generator,
) -> NDArray[np.uint16]:  # fmt: skip
    """Electrons to numbers: noise before the gain, gain, noise after it, black, rounding, ends."""
    # Compiled code is loaded at first use: a start does without it.
    from yellowjacket.simcam.counting import amplify, round_off

    iso, shape = settings.iso, electrons.shape
    multiplied = body.multiplied(iso)
    noise_before = rng.standard_normal(shape, dtype=np.float32)
    rows = rng.standard_normal((shape[0],), dtype=np.float32) * np.float32(body.row_noise_e)
    noise_after = rng.standard_normal(shape, dtype=np.float32)
    errors = np.array(body.black_error_dn or (0.0,) * 4, np.float32).reshape(2, 2)
    signal = np.empty(shape, np.float32)
    amplify(
        electrons, np.ascontiguousarray(offset_e), (np.float32(body.gain_mode(iso).read_noise_before_gain_e), noise_before),
        rows, np.float32(body.gain_dn_per_e(iso) / multiplied), (np.float32(body.read_noise_after_gain_dn), noise_after),
        errors, signal,
    )  # fmt: skip
    if body.smooths(iso):
        _smooth(signal, body.smoothing, body.tile_side)
    if settings.smoothing:
        _smooth(signal, settings.smoothing, body.tile_side)
    codes = np.empty(shape, np.uint16)
    round_off(signal, np.float32(body.black_dn), np.float32(multiplied), np.float32(body.white_dn), codes)
    return codes


def _reduced(mosaic: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """A mosaic of half the side: the mean of 2 × 2 pixels of one colour, rounded."""
    rows, columns = mosaic.shape[0] // 4 * 4, mosaic.shape[1] // 4 * 4
    small = np.empty((rows // 2, columns // 2), np.uint16)
    for row in (0, 1):
        for column in (0, 1):
            plane = mosaic[row:rows:2, column:columns:2].astype(np.float32)
            blocks = plane.reshape(rows // 4, 2, columns // 4, 2).mean(axis=(1, 3))
            small[row::2, column::2] = np.rint(blocks)
    return small


def _smooth(signal: NDArray[np.float32], share: float, side: int) -> None:
    """Each site of the tile through [s, 1 − 2s, s] along rows and columns, in place; edges repeat."""
    for row in range(side):
        for column in range(side):
            plane = signal[row::side, column::side].copy()
            for axis in (0, 1):
                padded = np.pad(plane, [(1, 1) if a == axis else (0, 0) for a in (0, 1)], mode="edge")
                before, after = (np.take(padded, range(k, k + plane.shape[axis]), axis) for k in (0, 2))
                plane = (1 - 2 * share) * plane + share * (before + after)
            signal[row::side, column::side] = plane


def _glow(body: BodyModel, width: int) -> NDArray[np.float32]:
    """Extra dark signal by column in e⁻/s: falls off from the right edge."""
    from_edge = (width - 1 - np.arange(width)) / (body.glow_reach * width)
    return (body.glow_e_per_s * np.exp(-from_edge)).astype(np.float32)[None, :]


# Above this mean a rounded normal that was given the skew stands for a Poisson: what is left is a 1/λ of kurtosis.
_NORMAL_ABOVE_E = 60.0


def poisson(mean_e: NDArray[np.float32], rng: np.random.Generator) -> NDArray[np.float32]:
    """Poisson counts as float32; bright pixels by a normal with their variance and skew, which is several times faster."""
    from yellowjacket.simcam.counting import count_bright

    means = np.ascontiguousarray(mean_e).reshape(-1)
    bright = means >= _NORMAL_ABOVE_E
    counts, many = np.empty_like(means), int(np.count_nonzero(bright))
    if many < means.size:
        dim = ~bright
        counts[dim] = rng.poisson(means[dim])
    z = rng.standard_normal(many, dtype=np.float32)
    count_bright(means, np.float32(_NORMAL_ABOVE_E), z, counts)
    return counts.reshape(mean_e.shape)
