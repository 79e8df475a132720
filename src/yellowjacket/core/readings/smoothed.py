"""Readings of a rung whose raw is smoothed: what that flatters says so itself, with the value before it where it can be told."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Note, Remark
from yellowjacket.core.noise.smoothing import noise_hidden_stops
from yellowjacket.core.photon_transfer.characterise import IsoFindings

# By how many stops of noise too few a quantity reads, to the power of two: more, less, or in stops themselves.
_TOO_LITTLE = (Measurand.NOISE_DN, Measurand.READ_NOISE_DN)
# Gain is signal over the square of noise, and turns DN into electrons: read noise in electrons comes out too large.
_TOO_MUCH: Mapping[Measurand, float] = {
    Measurand.SNR: 1.0, Measurand.SHADOW_SNR: 1.0, Measurand.GAIN_E_PER_DN: 2.0, Measurand.READ_NOISE_E: 1.0,
    Measurand.SATURATION_E: 2.0,
}  # fmt: skip
_STOPS_TOO_MANY = (
    Measurand.RANGE_SNR1, Measurand.RANGE_SNR2, Measurand.RANGE_SNR4, Measurand.RANGE_SNR10, Measurand.RANGE_ENGINEERING,
)  # fmt: skip
# Of the developed picture: how much is hidden depends on the size, so that only the fact is told.
_SEEN = (Measurand.NOISE_LUMA, Measurand.NOISE_CHROMA, Measurand.NOISE_VISUAL, Measurand.COLOUR_NOISE)


def hidden_stops(found: IsoFindings) -> float:
    """Stops of noise that the smoothing of a rung hides; 0 where none was found."""
    if found.every is None or not found.every.cooked.flag:
        return 0.0
    return noise_hidden_stops(found.every.cooked.lag1).value or 0.0


def remarked(readings: Iterable[Reading], hidden: float) -> Iterator[Reading]:
    """The same readings; those that ``hidden`` stops of noise flatter with a remark."""
    for one in readings:
        note = _note(one, hidden) if hidden > 0 and one.result.value is not None else None
        yield one if note is None else replace(one, result=replace(one.result, notes=(*one.result.notes, note)))


def before_smoothing(result: Quantity) -> float | None:
    """The value of a reading before the raw was smoothed, where it says so; else the value."""
    told = next((note.details[0] for note in result.notes if note.kind is Remark.BEFORE_SMOOTHING), result.value)
    return None if told is None else float(told)


def _note(one: Reading, hidden: float) -> Note | None:
    value = one.result.value or 0.0
    seen = one.use or (one.channel == ALL and one.quantity in (Measurand.SNR, Measurand.SHADOW_SNR))
    if one.quantity in _SEEN or (seen and (one.quantity in _TOO_MUCH or one.quantity in _STOPS_TOO_MANY)):
        return Note(Remark.SMOOTHED)
    if one.quantity in _TOO_LITTLE:
        return Note(Remark.BEFORE_SMOOTHING, (value * 2.0**hidden,))
    if one.quantity in _TOO_MUCH:
        return Note(Remark.BEFORE_SMOOTHING, (value * 2.0 ** (-hidden * _TOO_MUCH[one.quantity]),))
    if one.quantity in _STOPS_TOO_MANY:
        return Note(Remark.BEFORE_SMOOTHING, (value - hidden,))
    return None
