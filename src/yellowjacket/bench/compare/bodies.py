"""Bodies and firmwares against each other on one axis, per pixel or at one size, never mixed."""

from __future__ import annotations

import math
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass
from statistics import median

from django.db.models import Q

from yellowjacket.bench.models import Frame, Ladder, Patch, Reading, Rung, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.body_comparison import COMPARED, effects, in_words
from yellowjacket.core.limits.iso_equivalence import MatchedRung, Seen, matched_rungs
from yellowjacket.core.metrology.estimate import Quantity, difference, missing, ratio
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Remark

FEWEST, MOST = 2, 6
# More boxes than this to tick are no choice any more.
_MOST_OFFERED = 60
# Bodies closer than this are equally bright (common practice, no source: half of a dial's third).
_EQUALLY_BRIGHT_STOPS = 1 / 6
# What is said of single pixels only, and of no size.
_PER_PIXEL = (Measurand.READ_NOISE_E,)
# What one body has more or less of than the other at the same mark: quantity, words before the other's name, unit, how it
# is told.
_DIFFERENCES: tuple[tuple[Measurand, str, str, Callable[[Quantity, Quantity], Quantity]], ...] = (
    (Measurand.RANGE_SNR1, "against", "stops", difference), (Measurand.DETAIL, "as a share of", "×", ratio),
    (Measurand.NEUTRAL_DRIFT_DE00, "against", "ΔE00", difference),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Compared:
    """One ladder in the comparison: its findings by rung and quantity, its firmware, and rungs whose raw is smoothed."""

    ladder: Ladder
    name: str
    rungs: Sequence[Rung]
    findings: Mapping[int, Mapping[Measurand, Quantity]]
    smoothed: Sequence[int]

    def at(self, mark: int, quantity: Measurand) -> Quantity | None:
        """A quantity at an ISO mark, None where the ladder has no such rung or nothing was measured."""
        rung = next((one for one in self.rungs if one.iso == mark), None)
        return self.findings.get(rung.pk, {}).get(quantity) if rung else None

    @property
    def by_mark(self) -> dict[int, Mapping[Measurand, Quantity]]:
        """Findings by ISO mark."""
        return {rung.iso: self.findings[rung.pk] for rung in self.rungs if rung.pk in self.findings}


@dataclass(frozen=True, slots=True)
class Difference:
    """What the other has more of than the first, by ISO mark: "Range against Heath", in stops."""

    name: str
    unit: str
    by_mark: Mapping[int, Quantity]


@dataclass(frozen=True, slots=True)
class Against:
    """Another ladder held against the first: whether one is worse, and in what, in sentences; by how many stops it may go
    higher for the same shadow SNR."""

    other: Compared
    rungs: Sequence[MatchedRung]
    sentences: Sequence[str]
    differences: Sequence[Difference]


@dataclass(frozen=True, slots=True)
class Comparison:
    """Ladders side by side. ``marks``: every ISO any of them has; ``unfair``: sentences on what makes it so."""

    ladders: Sequence[Compared]
    marks: Sequence[int]
    against: Sequence[Against]
    unfair: Sequence[str]
    held: str


def comparable() -> list[Ladder]:
    """ISO ladders of which something was measured, the newest sitting first: what names them and their sensors, as there may be
    thousands. What is to be compared is asked for whole."""
    rungs = Rung.objects.filter(ladder__kind=Ladder.Kind.ISO).exclude(measured_inputs="")
    found = Ladder.objects.filter(pk__in=rungs.values("ladder")).select_related("body", "sitting")
    return list(
        found.only("position", "body__make", "body__model", "body__sensor", "sitting__name", "sitting__held_on")
        .order_by("-sitting__held_on", "-sitting_id", "position")
    )  # fmt: skip


def offered_of(ladders: Sequence[Ladder], wanted: Container[int]) -> list[Ladder]:
    """What is offered of comparable ladders: all, or where they are many the newest of each body and those wanted."""
    if len(ladders) <= _MOST_OFFERED:
        return list(ladders)
    newest: dict[int, int] = {}
    for ladder in ladders:
        newest.setdefault(ladder.body_id, ladder.pk)
    kept = set(newest.values())
    return [ladder for ladder in ladders if ladder.pk in kept or ladder.pk in wanted]


def by_sensor(ladders: Sequence[Ladder]) -> list[tuple[str, list[Ladder]]]:
    """Ladders of bodies that share a sensor together, the order kept; the sensor is empty for all others, which come last."""
    found: dict[str, list[Ladder]] = {}
    for ladder in ladders:
        found.setdefault(ladder.body.sensor.strip(), []).append(ladder)
    shared = {sensor: group for sensor, group in found.items() if sensor and len({one.body_id for one in group}) > 1}
    rest = [ladder for ladder in ladders if ladder.body.sensor.strip() not in shared]
    return [*shared.items(), *([("", rest)] if rest else [])]


def sizes_of(ladders: Sequence[Ladder]) -> list[tuple[str, int]]:
    """Sizes that every ladder has a use for: name and output pixels, the largest first."""
    common: dict[int, str] | None = None
    for ladder in ladders:
        own = {use.whole_frame_pixels: use.name for use in ladder.sitting.uses.all() if use.whole_frame_pixels}
        common = own if common is None else {size: name for size, name in common.items() if size in own}
    return [(name, size) for size, name in sorted((common or {}).items(), reverse=True)]


def compare(ladders: Sequence[Ladder], output_pixels: int | None) -> Comparison:
    """Two to six ladders at one size, per pixel when None. Refuses other numbers and sizes not all of them have."""
    if not FEWEST <= len(ladders) <= MOST:
        raise Refusal(f"Choose {FEWEST} to {MOST} to compare.")
    if output_pixels is not None and output_pixels not in {size for _, size in sizes_of(ladders)}:
        raise Refusal("Not all of them have a use of that size: choose another, or give their sittings the same use.")
    if len({ladder.method == Ladder.Method.FIXED for ladder in ladders}) > 1:
        fixed = [str(ladder) for ladder in ladders if ladder.method == Ladder.Method.FIXED]
        raise Refusal(
            f"{' and '.join(fixed)}: exposure was held fixed, so its rungs did not get the light they are named for. "
            "Compare ladders that were metered with each other, and those held fixed with each other."
        )
    names = _names(ladders)
    compared = [_of(ladder, name, output_pixels) for ladder, name in zip(ladders, names, strict=True)]
    first = compared[0]
    seen = [_seen(one) for one in compared]
    against = []
    for one, its in zip(compared[1:], seen[1:], strict=True):
        matched = matched_rungs(seen[0], its)
        against.append(Against(one, matched, statement(first, one), _differences(first, one)))
    marks = sorted({rung.iso for one in compared for rung in one.rungs})
    return Comparison(compared, marks, against, _unfair(compared), _held(ladders))


def statement(one: Compared, other: Compared) -> list[str]:
    """Whether one of two is worse, in what and by how much, at the marks both were read at: the same in either order."""
    found = effects(one.by_mark, other.by_mark, COMPARED, [*one.smoothed, *other.smoothed])
    return in_words(one.name, other.name, found)


def _differences(first: Compared, other: Compared) -> list[Difference]:
    """At the marks that both have; a quantity that neither has is left out, and so is what is a bound only."""
    found = []
    for quantity, words, unit, told in _DIFFERENCES:
        by_mark = {}
        for rung in other.rungs:
            its, own = other.at(rung.iso, quantity), first.at(rung.iso, quantity)
            if its is not None and own is not None and not its.bound and not own.bound:
                by_mark[rung.iso] = told(its, own)
        if any(one.known for one in by_mark.values()):
            found.append(Difference(f"{quantity.described.words} {words} {first.name}", unit, by_mark))
    return found


def _names(ladders: Sequence[Ladder]) -> list[str]:
    """Model names, with firmware where one body comes twice."""
    models = [ladder.body.model for ladder in ladders]
    names = []
    for ladder in ladders:
        if models.count(ladder.body.model) == 1:
            names.append(ladder.body.model)
            continue
        firmware = (
            Frame.objects.filter(shot__rung__ladder=ladder).exclude(firmware="").values_list("firmware", flat=True)
        )
        version = firmware.first()
        said = f" {version}" if version else ""
        names.append(f"{ladder.body.model}{said}, {ladder.sitting.held_on:%-d %b %Y}")
    return names


def _of(ladder: Ladder, name: str, output_pixels: int | None) -> Compared:
    rungs = list(ladder.rungs.all())
    flags = Reading.objects.filter(rung__in=rungs, quantity=Measurand.FLAGS)
    smoothed = {row.rung_id for row in flags if row.result.has(Remark.SMOOTHED_HERE)}
    marks = [rung.iso for rung in rungs if rung.pk in smoothed]
    return Compared(ladder, name, rungs, findings_of(ladder, output_pixels), marks)


def findings_of(ladder: Ladder, output_pixels: int | None) -> dict[int, dict[Measurand, Quantity]]:
    """What is compared of a ladder, by rung and quantity, at a size or per pixel when None: one query."""
    use = next((u for u in ladder.sitting.uses.all() if output_pixels and u.whole_frame_pixels == output_pixels), None)
    wanted = [quantity for quantity in COMPARED if not (output_pixels and quantity in _PER_PIXEL)]
    rows = Reading.objects.speaking(wanted).filter(Q(use=None) | Q(use=use), rung__ladder=ladder)
    found: dict[int, dict[Measurand, Quantity]] = {}
    # A body no larger than the use has no reading at it: per pixel is its size.
    for row in sorted(rows, key=lambda row: row.use_id is not None):
        found.setdefault(row.rung_id, {})[row.measurand] = row.result
    return found


def _seen(one: Compared) -> list[Seen]:
    nothing = missing(Missing.NOT_MEASURED)
    return [
        Seen(rung.iso, rung.iso_stops, one.findings.get(rung.pk, {}).get(Measurand.SHADOW_SNR, nothing))
        for rung in one.rungs
    ]


def _unfair(compared: Sequence[Compared]) -> list[str]:
    said = [
        f"{one.name} smooths its raw at ISO {', '.join(map(str, one.smoothed))}: noise and range read too good there"
        for one in compared
        if one.smoothed
    ]
    by_body: dict[str, list[Compared]] = {}
    for one in compared:
        by_body.setdefault(one.ladder.body.sensor.strip(), []).append(one)
    said += [
        f"{' and '.join(one.name for one in group)} have one sensor, {sensor}: what differs is what is made of it"
        for sensor, group in by_body.items()
        if sensor and len({one.ladder.body_id for one in group}) > 1
    ]
    said += _brightness(compared)
    fixed = [one.name for one in compared if one.ladder.method == Ladder.Method.FIXED]
    if fixed:
        said.append(f"{', '.join(fixed)}: exposure was held fixed, so noise does not follow ISO there")
    return said


def _brightness(compared: Sequence[Compared]) -> list[str]:
    """Bodies of one sitting that are not equally bright though that was to be held: by the grey of the same ISO settings, as
    shares of each one's range."""
    sittings = {one.ladder.sitting for one in compared}
    if len(sittings) > 1 or sittings.pop().held_equal != Sitting.HeldEqual.BRIGHTNESS:
        return []
    shares = [_grey_shares(one) for one in compared]
    said = []
    for one, own in zip(compared[1:], shares[1:], strict=True):
        stops = [math.log2(own[iso] / shares[0][iso]) for iso in own.keys() & shares[0].keys()]
        if stops and abs(apart := median(stops)) > _EQUALLY_BRIGHT_STOPS:
            word = "brighter" if apart > 0 else "darker"
            said.append(
                f"{one.name} is {abs(apart):.2f} stop {word} than {compared[0].name}, though both were to be equally bright: "
                "change its shutter speed by that, or compare at the same settings"
            )
    return said


def _grey_shares(one: Compared) -> dict[int, float]:
    """The grey patch of every ISO setting as a share of the range from black to white."""
    frames = Frame.objects.filter(shot__rung__in=one.rungs, shot__kind=Shot.Kind.LIGHT).order_by("-shot__repeat")
    ranges: dict[int, float] = {}
    for frame in frames.defer("report").select_related("shot"):
        if frame.shot is not None:
            ranges[frame.shot.rung_id] = frame.white_dn - max(frame.black_dn.values())
    signals = Reading.objects.filter(
        rung__in=one.rungs, patch__role=Patch.Role.GREY, quantity=Measurand.SIGNAL_DN, channel__in=("G", "G1", "M"), use=None,
        value__gt=0,
    ).values_list("rung__iso", "rung_id", "value")  # fmt: skip
    return {iso: value / ranges[pk] for iso, pk, value in signals if value and ranges.get(pk)}


def _held(ladders: Sequence[Ladder]) -> str:
    """What was held equal between the ladders."""
    sittings = {ladder.sitting_id for ladder in ladders}
    if len(sittings) == 1:
        return ladders[0].sitting.get_held_equal_display()
    return "each at its own correct exposure; scene and light were not the same"
