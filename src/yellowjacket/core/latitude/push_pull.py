"""How far an exposure may be wrong and still come back: push and pull limits, and where patches clip."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowjacket.core.limits.crossing import Failure, Point, first_failure
from yellowjacket.core.limits.ending import Ended
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Z95, Quantity, unknown, with_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# A highlight is lost when more than this share of its pixels clip; so many σ over the mean lies that share.
CLIPPED_SHARE = 1e-3
# Φ⁻¹(1 − 0.001), rounded.
_SHARE_SIGMAS = 3.0902
_SOLVED = 1e-6
_FARTHEST_STOPS = 20.0


@dataclass(frozen=True, slots=True)
class ExposedRung:
    """What limits need of a rung: its measured stops from the correct exposure, and quantities by criterion key."""

    stops: Quantity
    label: str
    findings: Mapping[str, Quantity]


@dataclass(frozen=True, slots=True)
class StopLimit(Ended):
    """A limit in stops from the correct exposure, positive either way.

    ``stops`` with ``low``–``high``: where ``ended`` says what fails first; ``mark``: label of the last rung that holds, empty
    when none does. ``at_least``: the ladder ended first.
    """

    level: str
    stops: float | None
    low: float | None = None
    high: float | None = None
    mark: str = ""
    at_least: bool = False
    ended: Note | None = None
    why: Note | None = None
    doubted: tuple[Note, ...] = ()


def push_limits(rungs: Sequence[ExposedRung], profile: Profile) -> dict[str, StopLimit]:
    """How many stops under may be brought back, by level. ``rungs``: in any order, the correct one among them."""
    known = [rung for rung in rungs if rung.stops.value is not None and rung.stops.value <= _HALF_A_STEP]
    under = sorted(known, key=lambda rung: -(rung.stops.value or 0.0))
    points = [Point(max(0.0, -(rung.stops.value or 0.0)), rung.label, rung.findings) for rung in under]
    profile = replace(profile, criteria=(*profile.criteria, *profile.exposure))
    return {level: _push(level, under, points, profile) for level in LEVELS}


# Rungs brighter than this are no pushes.
_HALF_A_STEP = 0.2


def _push(level: str, rungs: Sequence[ExposedRung], points: Sequence[Point], profile: Profile) -> StopLimit:
    found = first_failure(points, profile, level)
    mark = "" if found.last is None else rungs[found.last].label
    stops, low, high = found.stops, found.low, found.high
    if found.at_least and found.last is not None:
        stops = low = points[found.last].stops
    elif stops is not None and found.last is not None:
        # Where the rungs themselves lie is known no better than their measured steps.
        near = max(rungs[found.last].stops.se, 0.0) * Z95
        low, high = max(0.0, (low or 0.0) - near), (high or stops) + near
    elif found.last is None:
        stops, low, high = None, None, None
    return StopLimit(
        level, stops, low, None if found.at_least else high, mark, found.at_least, found.ended, found.why, found.doubted,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class PatchChannel:
    """A patch in one channel on one rung: signal above black, and what its noise and clip point are. DN; gain in e⁻/DN;
    ``prnu`` as a share. ``stops``: measured stops of the rung."""

    stops: Quantity
    signal_dn: Quantity
    clip_dn: Quantity
    gain: Quantity
    read_noise_dn: float
    prnu: float = 0.0


def clips_at(part: PatchChannel) -> Quantity:
    """Stops from the correct exposure at which 0.1 % of the patch's pixels clip in this channel.

    From one unclipped rung: 2^x·S + 3.09·σ(2^x·S) = S_clip. Normal noise of signal, read noise and response.
    """
    signal, clip = part.signal_dn, part.clip_dn
    if part.stops.value is None or not signal.value or signal.value <= 0 or not clip.value or clip.value <= 0:
        return unknown(signal, clip, otherwise=Missing.NO_UNCLIPPED_READING)
    if not part.gain.value:
        return unknown(part.gain, otherwise=Missing.GAIN_UNKNOWN)
    x = _solved(signal.value, clip.value, part)
    relative = math.hypot(signal.se / signal.value, clip.se / clip.value)
    # The noise takes part with its own small uncertainty: half the gain's on its share of the distance.
    top = signal.value * 2.0**x
    noisy = _SHARE_SIGMAS * _sigma(top, part) / top
    error = math.hypot(relative, noisy * part.gain.se / part.gain.value / 2) / math.log(2)
    return with_error(part.stops.value + x, math.hypot(error, part.stops.se), signal.n, *clip.notes)


def _sigma(signal_dn: float, part: PatchChannel) -> float:
    gain = part.gain.value or math.inf
    return math.sqrt(part.read_noise_dn**2 + signal_dn / gain + (part.prnu * signal_dn) ** 2)


def _solved(signal: float, clip: float, part: PatchChannel) -> float:
    low, high = -_FARTHEST_STOPS, _FARTHEST_STOPS
    while high - low > _SOLVED:
        middle = (low + high) / 2
        top = signal * 2.0**middle
        low, high = (middle, high) if top + _SHARE_SIGMAS * _sigma(top, part) < clip else (low, middle)
    return (low + high) / 2


def first_to_clip(channels: Mapping[str, PatchChannel]) -> tuple[Quantity, str]:
    """Stops at which a patch clips in its first channel, and which."""
    found = {name: clips_at(part) for name, part in channels.items()}
    known = {name: q for name, q in found.items() if q.value is not None}
    if not known:
        return unknown(*found.values(), otherwise=Missing.NO_UNCLIPPED_READING), ""
    name = min(known, key=lambda one: known[one].value or 0.0)
    return known[name], name


def pull_limits(
    highlight: Quantity, channel: str, casts: Sequence[ExposedRung], profile: Profile
) -> dict[str, StopLimit]:
    """How many stops over may be brought back: until the highlight patch clips, or its colour leaves the profile first.

    ``highlight``: stops at which it clips first, in ``channel``. ``casts``: rungs with the neutral drift of the highlight
    or grey patch.
    """
    criteria = tuple(one for one in profile.criteria if one.key == "neutral_drift")
    over = sorted(
        (rung for rung in casts if rung.stops.value is not None and rung.stops.value >= -_HALF_A_STEP),
        key=lambda rung: rung.stops.value or 0.0,
    )
    points = [Point(max(0.0, rung.stops.value or 0.0), rung.label, rung.findings) for rung in over]
    limits = {}
    for level in LEVELS:
        colour = first_failure(points, Profile(profile.name, criteria), level) if criteria and points else None
        limits[level] = _pull(level, highlight, Note(Remark.HIGHLIGHT_CLIPS, (channel,)), colour)
    return limits


def _pull(level: str, highlight: Quantity, clips: Note, colour: Failure | None) -> StopLimit:
    if highlight.value is None:
        return StopLimit(level, None, why=next(iter(highlight.notes), None))
    if highlight.value <= 0:
        return StopLimit(level, None, ended=clips, why=Note(Missing.CLIPS_AT_CORRECT))
    if colour is not None and colour.stops is not None and colour.stops < highlight.value:
        return StopLimit(level, colour.stops, colour.low or 0.0, colour.high, ended=colour.ended)
    return StopLimit(
        level, highlight.value, highlight.low, highlight.high, at_least=highlight.has(Remark.FROM_TAG), ended=clips
    )
