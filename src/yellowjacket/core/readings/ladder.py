"""What the rungs of a ladder say about each other, from stored readings alone."""

from __future__ import annotations

import math
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import (
    ChannelMeans,
    PatchColour,
    colour_shifts,
    colours_of,
    lightness_change,
    means_of,
    neutral_drift,
    neutral_drift_duv,
    told_apart,
)
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_error
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt
from yellowjacket.core.photon_transfer.iso_marks import Setting, habits_of
from yellowjacket.core.raw.codes import CodeUse
from yellowjacket.core.raw.frame import CHANNEL_NAMES

# What relating rungs reads: stored anew every time.
RELATED = (
    Measurand.EXPOSURE_ERROR_STOPS,
    Measurand.NEUTRAL_DRIFT_DE00,
    Measurand.NEUTRAL_DRIFT_CORRECTED_DE00,
    Measurand.NEUTRAL_DRIFT_DUV,
    Measurand.DRIFT_RED_STOPS,
    Measurand.DRIFT_BLUE_STOPS,
    Measurand.PATCH_DE00,
    Measurand.COLOUR_DE00,
    Measurand.COLOUR_SEPARATION,
    Measurand.BLACK_LIFT,
    Measurand.DETAIL_SHARE,
    Measurand.COLOUR_DETAIL_SHARE,
    Measurand.FLAGS,
)
_GREY = "grey patch against the reference rung"
_DRIFTS = (
    Measurand.NEUTRAL_DRIFT_DE00,
    Measurand.NEUTRAL_DRIFT_CORRECTED_DE00,
    Measurand.NEUTRAL_DRIFT_DUV,
    Measurand.DRIFT_RED_STOPS,
    Measurand.DRIFT_BLUE_STOPS,
)
_SHARES = {
    Measurand.DETAIL: Measurand.DETAIL_SHARE,
    Measurand.COLOUR_DETAIL: Measurand.COLOUR_DETAIL_SHARE,
}
_NONE_HERE = Quantity(0.0, 0.0, 0.0, 0, (Note(Remark.REFERENCE_RUNG),))


@dataclass(frozen=True, slots=True)
class RungHabits:
    """What the habits of a ladder are judged from: the stored readings of a rung, by quantity."""

    key: int
    iso: int
    readings: Mapping[str, Quantity]


# A range by a seen clip point is no less sure than this, in stops.
_SURE_STOPS = 0.05
# What moves with the clip point.
_CLIPPED_BY = (
    Measurand.RANGE_SNR1, Measurand.RANGE_SNR2, Measurand.RANGE_SNR4, Measurand.RANGE_SNR10, Measurand.RANGE_ENGINEERING,
    Measurand.HEADROOM_STOPS,
)  # fmt: skip
MOVED_BY_CLIP = (Measurand.SATURATION_E, *_CLIPPED_BY)


def with_seen_clip(quantity: Measurand, own: Quantity, tagged_e: Quantity, seen_e: Quantity, where: str) -> Quantity:
    """A quantity of MOVED_BY_CLIP of a rung that never clipped, by the clip point that another of its ISO has seen.

    ``tagged_e``: its saturation in electrons by the file's tag; ``seen_e``: as seen. Unknown ones stay as they are.
    """
    if own.value is None or not tagged_e.value or not seen_e.value:
        return own
    note = Note(Remark.CLIP_SEEN_AT, (where,))
    if quantity is Measurand.SATURATION_E:
        return replace(seen_e, notes=(note,))
    kept = tuple(one for one in own.notes if one.kind is not Remark.FROM_TAG)
    moved = own.moved(math.log2(seen_e.value / tagged_e.value))
    # The tag's own interval was a bound: what is left is that of the range and of the saturation seen.
    error = math.hypot(min(own.se, _SURE_STOPS), seen_e.se / seen_e.value / math.log(2))
    return with_error(moved.value or 0.0, error, own.n, note, *kept)


def relate_habits(rungs: Sequence[RungHabits]) -> dict[int, tuple[Reading, ...]]:
    """What the settings of one body say about each other: digital marks and a second base ISO, by rung key.

    ``rungs``: of one ladder, from low to high ISO. A reading "flags" says what is to be minded; its value is how
    many things that are, 0 for none.
    """
    habits: dict[int, list[Remark]] = {rung.iso: [] for rung in rungs}
    for advice in habits_of([_setting(rung) for rung in rungs]).advice:
        habits[advice.iso].append(advice.habit)
    how = "neighbours, codes, read noise and saturation along the ladder"
    return {
        rung.key: (Reading(None, ALL, Measurand.FLAGS, _flags(habits[rung.iso], len(rungs)), how),) for rung in rungs
    }


def _flags(habits: Sequence[Remark], rungs: int) -> Quantity:
    return Quantity(float(len(habits)), n=rungs, notes=tuple(map(Note, habits)))


def _setting(rung: RungHabits) -> Setting:
    known = rung.readings
    nothing = missing(Missing.NOT_MEASURED)
    model = [known.get(name) for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN, Measurand.READ_NOISE_E)]
    gain, noise_dn, noise_e = model
    noise = None if gain is None or noise_dn is None or noise_e is None else NoiseAt(rung.iso, gain, noise_dn, noise_e)
    smoothed = known.get(Measurand.NEIGHBOUR_CORRELATION, nothing).has(Remark.SMOOTHED)
    return Setting(rung.iso, _code_use(rung), noise, known.get(Measurand.SATURATION_E, nothing), smoothed)


def _code_use(rung: RungHabits) -> CodeUse | None:
    shares = [
        rung.readings.get(name)
        for name in (
            Measurand.CODES_EMPTY,
            Measurand.CODES_EMPTY_LOW,
            Measurand.CODES_EMPTY_HIGH,
            Measurand.CODES_DOUBLED,
        )
    ]
    if any(share is None or share.value is None for share in shares):
        return None
    values = [share.value or 0.0 for share in shares if share is not None]
    return CodeUse(rung.readings[Measurand.CODES_EMPTY].n, *values)


Levels = Mapping[str, Quantity]


@dataclass(frozen=True, slots=True)
class RungSignals:
    """What relating rungs needs of one rung: patch signals by channel, and the light it was given.

    ``expected_stops``: light and gain the settings ask for, in stops over any common zero. ``colours``: signals of
    colour patches by name. ``detail``: detail in line pairs per picture height by (patch, quantity, use). ``off_dn``: by
    channel, what a black that was measured lies above the one the file names: a converter does not know of it.
    ``colour_noise``: chroma noise of a coloured detail by (patch, use).
    """

    key: int
    grey_dn: Levels
    expected_stops: float
    black_dn: Levels = field(default_factory=dict)
    colours: Mapping[str, Levels] = field(default_factory=dict)
    detail: Mapping[tuple[str, Measurand, str], Quantity] = field(default_factory=dict)
    off_dn: Mapping[str, float] = field(default_factory=dict)
    colour_noise: Mapping[tuple[str, str], Quantity] = field(default_factory=dict)

    @property
    def grey_as_filed(self) -> Levels:
        """The grey patch with the black that the file names taken off, as a converter does."""
        return {channel: q.moved(self.off_dn.get(channel, 0.0)) for channel, q in self.grey_dn.items()}


def rung_signals(
    key: int, readings: Iterable[Reading], roles: Mapping[str, str], expected_stops: float, tag_dn: Mapping[str, float]
) -> RungSignals:
    """What relating needs, out of a rung's readings. ``roles``: by patch name; of grey and black the first patch speaks.
    ``tag_dn``: black as the file names it, by channel."""
    off: dict[str, float] = {}
    levels: dict[str, dict[str, dict[str, Quantity]]] = {}
    detail: dict[tuple[str, Measurand, str], Quantity] = {}
    colour_noise: dict[tuple[str, str], Quantity] = {}
    for one in readings:
        if one.patch is None:
            if one.quantity is Measurand.BLACK_DN and one.result.value is not None and one.channel in tag_dn:
                off[one.channel] = one.result.value - tag_dn[one.channel]
            continue
        if one.quantity is Measurand.SIGNAL_DN and not one.use:
            of_role = levels.setdefault(roles.get(one.patch, ""), {})
            of_role.setdefault(one.patch, {})[one.channel] = one.result
        elif one.quantity in (Measurand.DETAIL, Measurand.COLOUR_DETAIL):
            detail[one.patch, one.quantity, one.use] = one.result
        elif one.quantity is Measurand.COLOUR_NOISE:
            colour_noise[one.patch, one.use] = one.result

    def only(role: str) -> dict[str, Quantity]:
        return next(iter(levels.get(role, {}).values()), {})

    return RungSignals(
        key, only("grey"), expected_stops, only("black"), levels.get("colour", {}), detail, off, colour_noise
    )


def relate_rungs(
    rungs: Sequence[RungSignals], reference_key: int, xyz_to_camera: NDArray[np.float64] | None
) -> dict[int, tuple[Reading, ...]]:
    """Exposure, neutral, colour patches, blacks and detail of every rung against the reference rung, by rung key.

    Raises KeyError when the reference is not among the rungs.
    ``xyz_to_camera``: shape (3, 3).
    """
    reference = {rung.key: rung for rung in rungs}[reference_key]
    return {
        rung.key: (
            Reading(None, ALL, Measurand.EXPOSURE_ERROR_STOPS, _exposure_error(rung, reference), _GREY),
            *_drifts(rung, reference, xyz_to_camera),
            *_colours(rung, reference, xyz_to_camera),
            *_separations(rung, xyz_to_camera),
            *_blacks(rung, reference),
            *_detail_shares(rung, reference),
        )
        for rung in rungs
    }


def _exposure_error(rung: RungSignals, reference: RungSignals) -> Quantity:
    """log2 of measured over expected signal, channels weighted by 1/SE²."""
    errors, weights, n = [], [], 0
    for channel in CHANNEL_NAMES:
        one, other = rung.grey_dn.get(channel), reference.grey_dn.get(channel)
        if one is None or other is None or not one.value or not other.value or min(one.value, other.value) <= 0:
            continue
        errors.append(math.log2(one.value / other.value))
        weights.append(1 / max(math.hypot(one.se / one.value, other.se / other.value), 1e-9) ** 2)
        n += one.n
    if not errors:
        return _no_grey(rung, reference)
    value = float(np.average(errors, weights=weights)) - (rung.expected_stops - reference.expected_stops)
    if rung.key == reference.key:
        return _NONE_HERE
    return with_error(value, 1 / math.sqrt(sum(weights)) / math.log(2), n)


def _drifts(rung: RungSignals, reference: RungSignals, xyz_to_camera: NDArray[np.float64] | None) -> Iterator[Reading]:
    """How far the grey patch wanders: red and blue against green in stops, CIEDE2000, Δu′v′. As a converter sees it, with the
    file's black; and, beside it, with the black that was measured."""
    balanced = _GREY + ", white-balanced there, black as the file says"
    grey = _patch_colour(rung.grey_as_filed, reference.grey_as_filed)
    corrected = _patch_colour(rung.grey_dn, reference.grey_dn)
    found: dict[str, Quantity]
    if "M" in reference.grey_dn:
        found = dict.fromkeys(_DRIFTS, missing(Missing.NO_COLOUR_FILTERS))
    elif grey is None:
        found = dict.fromkeys(_DRIFTS, _no_grey(rung, reference))
    elif rung.key == reference.key:
        found = dict.fromkeys(_DRIFTS, _NONE_HERE)
    else:
        own, base = grey.own, grey.reference
        found = {
            Measurand.NEUTRAL_DRIFT_DE00: neutral_drift(own, base, xyz_to_camera, _draws(own, base)),
            Measurand.NEUTRAL_DRIFT_CORRECTED_DE00: _no_grey(rung, reference) if corrected is None else neutral_drift(
                corrected.own, corrected.reference, xyz_to_camera, _draws(corrected.own, corrected.reference)
            ),
            Measurand.NEUTRAL_DRIFT_DUV: neutral_drift_duv(own, base, xyz_to_camera, _draws(own, base)),
            Measurand.DRIFT_RED_STOPS: _ratio_drift(own, base, 0), Measurand.DRIFT_BLUE_STOPS: _ratio_drift(own, base, 3),
        }  # fmt: skip
    for name in _DRIFTS:
        measured = name is Measurand.NEUTRAL_DRIFT_CORRECTED_DE00
        how = balanced.replace("as the file says", "as measured") if measured else balanced
        yield Reading(None, ALL, name, found[name], how)


def _ratio_drift(own: ChannelMeans, base: ChannelMeans, channel: int) -> Quantity:
    """Red or blue over green against the reference rung, in stops."""
    value, square = 0.0, 0.0
    for sign, means in ((1, own), (-1, base)):
        green = means.mean_dn[1] + means.mean_dn[2]
        if means.mean_dn[channel] <= 0 or green <= 0:
            return missing(Missing.GREY_CHANNEL_DARK)
        value += sign * math.log2(means.mean_dn[channel] / green)
        square += (means.se_dn[channel] / means.mean_dn[channel]) ** 2
        square += (math.hypot(means.se_dn[1], means.se_dn[2]) / green) ** 2
    return with_error(value, math.sqrt(square) / math.log(2), own.n)


def _colours(rung: RungSignals, reference: RungSignals, xyz_to_camera: NDArray[np.float64] | None) -> Iterator[Reading]:
    """What became of the colour patches: CIEDE2000 of each and on average, and how much of their saturation is left."""
    how = "colour patches against the reference rung, brought to equal grey"
    if not reference.colours and not rung.colours:
        return
    if rung.key == reference.key:
        yield Reading(None, ALL, Measurand.COLOUR_DE00, _NONE_HERE, how)
        return
    grey = _patch_colour(rung.grey_dn, reference.grey_dn)
    known = {
        name: pair
        for name, own in rung.colours.items()
        if (pair := _patch_colour(own, reference.colours.get(name, {}))) is not None
    }
    if grey is None or not known:
        nothing = _no_grey(rung, reference)
        yield Reading(None, ALL, Measurand.COLOUR_DE00, nothing, how)
        return
    shifts = colour_shifts(list(known.values()), grey, xyz_to_camera, _draws(grey.own, grey.reference))
    for name, shift in zip(known, shifts.de00, strict=True):
        yield Reading(name, ALL, Measurand.PATCH_DE00, shift, "against the reference rung, brought to equal grey")
    yield Reading(None, ALL, Measurand.COLOUR_DE00, shifts.mean_de00, f"{len(known)} {how}")


def _separations(rung: RungSignals, xyz_to_camera: NDArray[np.float64] | None) -> Iterator[Reading]:
    """How well neighbouring colours of the rung are told apart, by use. It takes no reference: noise alone decides."""
    grey = means_of(rung.grey_dn)
    means = {name: found for name, own in rung.colours.items() if (found := means_of(own)) is not None}
    for use in dict.fromkeys(use for _, use in rung.colour_noise):
        how = (
            "distance of each colour patch in a*b* to the nearest other, over the noise of a detail of 3 × 3 output px"
        )
        noise = {name: q for (name, its_use), q in rung.colour_noise.items() if its_use == use and name in means}
        lab = None if grey is None or not noise else colours_of([means[name] for name in noise], grey, xyz_to_camera)
        apart = _no_grey(rung) if lab is None else told_apart(lab, list(noise.values()))
        yield Reading(None, ALL, Measurand.COLOUR_SEPARATION, apart, how, use=use)


def _blacks(rung: RungSignals, reference: RungSignals) -> Iterator[Reading]:
    """How far the black patch is lifted in the developed picture."""
    how = "L* of the black patch against the reference rung, brought to equal grey"
    if not reference.black_dn:
        return
    if rung.key == reference.key:
        yield Reading(None, ALL, Measurand.BLACK_LIFT, _NONE_HERE, how)
        return
    grey, black = _patch_colour(rung.grey_dn, reference.grey_dn), _patch_colour(rung.black_dn, reference.black_dn)
    lift = _no_grey(rung, reference)
    if grey is not None and black is not None:
        lift = lightness_change(black, grey, _draws(black.own, black.reference))
    yield Reading(None, ALL, Measurand.BLACK_LIFT, lift, how)


def _detail_shares(rung: RungSignals, reference: RungSignals) -> Iterator[Reading]:
    """Detail as a share of the reference rung's, by patch and use."""
    for (patch, quantity, use), own in rung.detail.items():
        base = reference.detail.get((patch, quantity, use))
        how = "detail of this rung over that of the reference rung"
        if base is None or not base.value or own.value is None:
            share = missing(Missing.NOT_ON_REFERENCE)
            if base is not None:
                share = unknown(own, otherwise=Missing.REFERENCE_WITHOUT_DETAIL)
        elif rung.key == reference.key:
            share = replace(_NONE_HERE, value=1.0, low=1.0, high=1.0)
        else:
            share = _share_of(own, base)
        yield Reading(patch, ALL, _SHARES[quantity], share, how, use=use)


def _share_of(own: Quantity, base: Quantity) -> Quantity:
    """A ratio of two bounded quantities; the ends move with both intervals, in the root of their squares."""
    one, other = own.value or 0.0, base.value or 1.0
    value = one / other
    down = math.hypot(one - (own.low or 0.0), value * ((base.high or other) - other)) / other
    up = math.hypot((own.high or one) - one, value * (other - (base.low or other))) / other
    return Quantity(value, max(0.0, value - down), value + up, own.n, own.notes)


def _patch_colour(own: Levels, reference: Levels) -> PatchColour | None:
    means = means_of(own), means_of(reference)
    return None if means[0] is None or means[1] is None else PatchColour(means[0], means[1])


def _draws(one: ChannelMeans, other: ChannelMeans) -> np.random.Generator:
    """The same readings give the same interval, whoever asks and in whatever order."""
    return np.random.default_rng(zlib.crc32(repr([one, other]).encode()))


def _no_grey(*rungs: RungSignals) -> Quantity:
    return unknown(*(q for rung in rungs for q in rung.grey_dn.values()), otherwise=Missing.NO_GREY_READING)
