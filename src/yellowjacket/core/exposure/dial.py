"""The marks of a dial: printed numbers and the powers of two they stand for."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

# How far a reported number may lie from a mark, as a share: files round to two digits; thirds are 26 % apart.
_MARK_TOLERANCE = 0.03


@dataclass(frozen=True, slots=True)
class Mark:
    """A setting as the dial shows it beside the value it stands for.

    ``nominal`` is the printed number (s, ISO or f-number), ``exact`` the power of two it rounds.
    """

    label: str
    nominal: float
    exact: float
    step: str  # "full" or "third"


def _thirds(labels: str) -> list[str]:
    return labels.split()


# Marks from slow to fast, three to a stop, beginning on a full stop.
_SLOW = (30, 25, 20, 15, 13, 10, 8, 6, 5, 4, 3.2, 2.5, 2, 1.6, 1.3, 1, 0.8, 0.6)
_FAST = _thirds(
    "1/2 1/2.5 1/3 1/4 1/5 1/6 1/8 1/10 1/13 1/15 1/20 1/25 1/30 1/40 1/50 1/60 1/80 1/100 1/125 1/160 "
    "1/200 1/250 1/320 1/400 1/500 1/640 1/800 1/1000 1/1250 1/1600 1/2000 1/2500 1/3200 1/4000 1/5000 "
    "1/6400 1/8000 1/10000 1/13000 1/16000 1/20000 1/25000 1/32000"
)
# Bulb marks beyond 30 s are whole minutes on the tester's timer, one to a stop.
_BULB_MINUTES = (32, 16, 8, 4, 2, 1)
# Exact time of the slowest dial mark, in stops over 1 s (30 s stands for 32 s).
_SLOWEST_DIAL_STOPS = 5


def _plain(value: float) -> str:
    return f"{value:g}"


def _build_shutter_marks() -> tuple[Mark, ...]:
    # A bulb timer counts true seconds, so beyond the dial mark and exact time are the same.
    marks = [Mark(f"{minutes} min", 60.0 * minutes, 60.0 * minutes, "full") for minutes in _BULB_MINUTES]
    dial = [(f"{_plain(v)} s", float(v)) for v in _SLOW]
    dial += [(f"{label} s", 1.0 / float(label[2:])) for label in _FAST]
    for n, (label, nominal) in enumerate(dial):
        exact = 2.0 ** (_SLOWEST_DIAL_STOPS - n / 3)
        marks.append(Mark(label, nominal, exact, "full" if n % 3 == 0 else "third"))
    return tuple(marks)


SHUTTER_MARKS: tuple[Mark, ...] = _build_shutter_marks()

_ISO_THIRDS = (100, 125, 160, 200, 250, 320, 400, 500, 640, 800, 1000, 1250)
_LOW_ISO = {-6: 25, -5: 32, -4: 40, -3: 50, -2: 64, -1: 80}
# Highest mark: ISO 3276800, as far as dials go.
_HIGHEST_ISO_THIRD = 3 * 15


def _iso_nominal(n: int) -> int:
    """Mark n thirds over ISO 100; each decade of the printed series repeats one stop-doubling later."""
    if n in _LOW_ISO:
        return _LOW_ISO[n]
    if n % 3 == 0:
        return 100 * 2 ** (n // 3)
    if n < len(_ISO_THIRDS):
        return _ISO_THIRDS[n]
    # From ISO 1600 on the printed thirds are ten times those one decade (ten thirds) below.
    return 10 * _iso_nominal_printed(n - 10)


def _iso_nominal_printed(n: int) -> int:
    if n < len(_ISO_THIRDS):
        return _ISO_THIRDS[n]
    if n == len(_ISO_THIRDS):
        return 1600
    return 10 * _iso_nominal_printed(n - 10)


def _build_iso_marks() -> tuple[Mark, ...]:
    return tuple(
        Mark(str(_iso_nominal(n)), float(_iso_nominal(n)), 100.0 * 2.0 ** (n / 3), "full" if n % 3 == 0 else "third")
        for n in range(min(_LOW_ISO), _HIGHEST_ISO_THIRD + 1)
    )


ISO_MARKS: tuple[Mark, ...] = _build_iso_marks()

_APERTURES = _thirds(
    "1 1.1 1.2 1.4 1.6 1.8 2 2.2 2.5 2.8 3.2 3.5 4 4.5 5 5.6 6.3 7.1 8 9 10 11 13 14 16 18 20 22 25 29 32"
)
APERTURE_MARKS: tuple[Mark, ...] = tuple(
    Mark(f"f/{label}", float(label), 2.0 ** (n / 6), "full" if n % 3 == 0 else "third")
    for n, label in enumerate(_APERTURES)
)


def _nearest(marks: tuple[Mark, ...], value: float) -> Mark:
    if not (value > 0 and math.isfinite(value)):
        raise ValueError(f"a mark needs a positive finite value, got {value!r}")
    return min(marks, key=lambda mark: abs(math.log2(mark.exact / value)))


@lru_cache(maxsize=1024)
def shutter_mark(exposure_s: float, step: str = "third") -> Mark:
    """The dial mark nearest to an exact exposure in seconds; ``step`` "full" keeps to full stops."""
    return _nearest(_of_step(SHUTTER_MARKS, step), exposure_s)


@lru_cache(maxsize=1024)
def iso_mark(iso: float, step: str = "third") -> Mark:
    """The dial mark nearest to an exact ISO value.

    >>> iso_mark(1250).nominal, iso_mark(1250, "full").nominal
    (1250.0, 1600.0)
    """
    return _nearest(_of_step(ISO_MARKS, step), iso)


@lru_cache(maxsize=1024)
def aperture_mark(f_number: float) -> Mark:
    """The dial mark nearest to an exact f-number."""
    return _nearest(APERTURE_MARKS, f_number)


def mark_from_nominal(marks: tuple[Mark, ...], nominal: float) -> Mark | None:
    """The mark that a printed or file-reported number means, or None when it is no mark.

    Files report either the printed number (1/60) or the exact one (1/64); both are recognised.
    """

    def distance(mark: Mark) -> float:
        return min(abs(mark.nominal / nominal - 1.0), abs(mark.exact / nominal - 1.0))

    best = min(marks, key=distance)
    return best if distance(best) <= _MARK_TOLERANCE else None


def _of_step(marks: tuple[Mark, ...], step: str) -> tuple[Mark, ...]:
    return marks if step == "third" else tuple(mark for mark in marks if mark.step == "full")


@lru_cache(maxsize=1024)
def iso_marks_between(lowest: float, highest: float, step: str = "full") -> tuple[Mark, ...]:
    """The ISO marks from ``lowest`` to ``highest`` printed numbers inclusive, low to high.

    ``step`` "full" counts whole stops from ISO 100, "third" takes every third.
    """
    return tuple(mark for mark in _of_step(ISO_MARKS, step) if lowest <= mark.nominal <= highest)


@lru_cache(maxsize=1024)
def exact_exposure_s(nominal_s: float) -> float:
    """The power of two a camera sets for a printed (or file-reported) exposure time, in seconds.

    A time that is no dial mark is returned as it is: bodies with electronic timers report true times.

    >>> exact_exposure_s(1 / 60) == 1 / 64, exact_exposure_s(30)
    (True, 32.0)
    """
    mark = mark_from_nominal(SHUTTER_MARKS, nominal_s)
    return mark.exact if mark else nominal_s


@lru_cache(maxsize=1024)
def exact_f_number(nominal: float) -> float:
    """The √2 power behind a printed f-number; a number that is no mark is returned as it is.

    >>> round(exact_f_number(5.6), 3)
    5.657
    """
    mark = mark_from_nominal(APERTURE_MARKS, nominal)
    return mark.exact if mark else nominal


@lru_cache(maxsize=1024)
def exact_iso(nominal: float) -> float:
    """The power of two (times 100) behind a printed ISO; a number that is no mark is returned as it is.

    >>> round(exact_iso(1250), 1)
    1269.9
    """
    mark = mark_from_nominal(ISO_MARKS, nominal)
    return mark.exact if mark else nominal
