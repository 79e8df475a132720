"""What finished blind rounds tell: the line as ISO, SNR and criteria, verdicts on pairs, practice, a profile of the line."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from yellowjacket.bench.look.blind_rounds import TOLD_APART, half_width, marks_of
from yellowjacket.bench.look.blind_stimuli import (
    by_ladder,
    noise_per_iso_stop,
    stimuli_of,
)
from yellowjacket.bench.models import (
    BlindRound,
    Grade,
    Ladder,
    PairVerdict,
    Reading,
    Rung,
    ToleranceProfile,
)
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.tolerance import profiles
from yellowjacket.core.exposure import dial
from yellowjacket.core.judging.guesses import Guesses, guesses
from yellowjacket.core.judging.psychometrics import (
    FEWEST_TRIALS,
    Threshold,
    fitted,
    told_apart,
)
from yellowjacket.core.limits.iso_limits import WORST_GRADE
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, LEVELS
from yellowjacket.core.metrology.estimate import Quantity

# Thresholds are kept to four digits.
_ROUNDING = 1e-3


@dataclass(frozen=True, slots=True)
class RoundResult:
    """What a finished round says. ``snr``: the threshold as the SNR of the shadow at the use's size."""

    threshold: Threshold
    snr: Quantity
    catches_passed: int
    catches: int
    answers: list[tuple[Rung, float, int, int]]
    # What a profile looks at, by criterion key, at the line; where everything was accepted, at the noisiest rung shown.
    at_line: Mapping[str, Quantity] = field(default_factory=dict)
    accepts_all: bool = False
    # How well the line is known, in stops of ISO and of noise either way, and what was asked for, in stops of ISO.
    reached_stops: float | None = None
    reached_noise_stops: float | None = None
    wanted_stops: float = 0.0
    # At which ISO of each ladder the line lies.
    isos: Sequence[tuple[Ladder, Quantity]] = ()
    contradicted: Sequence[str] = ()

    @property
    def criteria(self) -> list[tuple[str, Quantity]]:
        """What reads so at the line, by the names of the criteria."""
        labels = {one.key: one.label for one in DEFAULT_CRITERIA}
        return [(labels[key], value) for key, value in self.at_line.items()]

    @property
    def precise(self) -> bool:
        """Whether the asked precision was reached."""
        return self.reached_stops is not None and self.reached_stops <= self.wanted_stops


def _must_be_over(round_: BlindRound) -> None:
    if round_.finished_at is None:
        raise Refusal("The results come at the end.")


def result_of(round_: BlindRound) -> RoundResult:
    """The threshold. Refuses before the end: what is known early bends what is said later."""
    _must_be_over(round_)
    noise = {rung.pk: (rung, level) for rung, level in stimuli_of(round_.sitting, round_.use)}
    trials = [one for one in round_.trials.all() if one.rung_id in noise and one.accepted is not None]
    plain = [one for one in trials if not one.catch]
    catches = [one for one in trials if one.catch]
    threshold = fitted(
        [noise[one.rung_id][1] for one in plain], [bool(one.accepted) for one in plain], [one.rung_id for one in plain]
    )
    log2 = threshold.noise_log2
    if log2.value is None:
        snr = log2
    else:
        # More noise is less SNR: the ends change places.
        ends = [None if end is None else 2.0**-end for end in (log2.high, log2.low)]
        snr = Quantity(2.0**-log2.value, ends[0], ends[1], log2.n)
    counts: dict[int, list[int]] = {}
    for one in plain:
        said = counts.setdefault(one.rung_id, [0, 0])
        said[0] += bool(one.accepted)
        said[1] += 1
    answers = sorted(((*noise[pk], said, shown) for pk, (said, shown) in counts.items()), key=lambda row: row[1])
    everything = bool(plain) and all(one.accepted for one in plain) and len(plain) >= FEWEST_TRIALS
    line = Quantity(answers[-1][1]) if everything else log2
    reached, stimuli = half_width(log2), list(noise.values())
    return RoundResult(
        threshold, snr, sum(bool(one.accepted) for one in catches), len(catches), answers, _at_line(round_, line), everything,
        None if reached is None else reached / noise_per_iso_stop(stimuli), reached, round_.wanted_stops,
        _isos_at(stimuli, log2), _contradicted(round_, noise, line),
    )  # fmt: skip


def _isos_at(stimuli: Sequence[tuple[Rung, float]], line: Quantity) -> list[tuple[Ladder, Quantity]]:
    """The ISO at which each ladder is as noisy as the line, straight in logarithms between its rungs; none where it never is."""
    if line.value is None:
        return []
    found = []
    for rungs in by_ladder(stimuli).values():
        isos, noises = [rung.iso_stops for rung, _ in rungs], np.maximum.accumulate([noise for _, noise in rungs])
        if len(rungs) > 1 and noises[0] <= line.value <= noises[-1]:
            value, low, high = (
                100 * 2.0 ** float(np.interp(line.value if end is None else end, noises, isos))
                for end in (line.value, line.low, line.high)
            )
            found.append((rungs[0][0].ladder, Quantity(value, low, high, line.n)))
    return found


def _at_line(round_: BlindRound, line: Quantity) -> dict[str, Quantity]:
    """Every criterion between the two rungs around the line, straight in logarithms; those without readings are left out."""
    if line.value is None:
        return {}
    stimuli = sorted(stimuli_of(round_.sitting, round_.use), key=lambda pair: pair[1])
    findings = Reading.objects.findings_by_use([rung for rung, _ in stimuli])
    seen = [(noise, at_use(findings, round_.use, rung)) for rung, noise in stimuli]
    profile = round_.sitting.profile.criteria.seen_in(monochrome=round_.use.monochrome)
    found: dict[str, Quantity] = {}
    for criterion in profile.criteria:
        curve = [
            (noise, value)
            for noise, own in seen
            if (value := own[criterion.key].value if criterion.key in own else None) is not None and value > 0
        ]
        if len(curve) > 1:
            x, y = [noise for noise, _ in curve], [math.log(value) for _, value in curve]
            value, *ends = (
                math.exp(float(np.interp(line.value if at is None else at, x, y)))
                for at in (line.value, line.low, line.high)
            )
            found[criterion.key] = Quantity(value, min(ends), max(ends), len(curve))
    return found


def _contradicted(round_: BlindRound, noise: Mapping[int, tuple[Rung, float]], line: Quantity) -> list[str]:
    """Earlier grades of the same person for the same use that lie on the other side of the line, in words."""
    if line.value is None:
        return []
    said = []
    for ladder in {rung.ladder for rung, _ in noise.values()}:
        for (rung_id, use_id), grade in Grade.objects.current(ladder, round_.person).items():
            if use_id != round_.use_id or rung_id not in noise or grade.grade is None:
                continue
            rung, level = noise[rung_id]
            accepted, usable = level <= line.value, grade.grade <= WORST_GRADE["usable"]
            if accepted != usable:
                side = "this line accepts" if accepted else "this line does not accept"
                said.append(f"{rung} of the {ladder.body.model} was graded {grade.letter}, which {side}")
    return sorted(said)


def verdicts_of(round_: BlindRound) -> Sequence[PairVerdict]:
    """What a finished "which is better" left behind: blind verdicts of its person since its end, rung by rung."""
    _must_be_over(round_)
    rows = PairVerdict.objects.filter(
        use=round_.use, person=round_.person, blind=True, given_at__gte=round_.finished_at
    ).select_related("one__ladder__body", "other__ladder__body", "one_lane", "other_lane")
    return sorted(rows[: round_.trials.count()], key=lambda row: (row.one.iso, row.other.iso))


@dataclass(frozen=True, slots=True)
class Practised:
    """A finished practice round: share of right answers with its exact interval, the chance of so many by guessing."""

    round: BlindRound
    right: int
    trials: int
    share: Quantity
    chance: float

    @property
    def words(self) -> str:
        """What it means."""
        if self.chance < 0.05:
            return "you can tell them apart"
        return "no better than guessing could be"


def practised(round_: BlindRound) -> Practised:
    """The exact binomial result of a practice round. Refuses before the end."""
    _must_be_over(round_)
    answers = list(round_.trials.values_list("accepted", flat=True))
    right = sum(bool(one) for one in answers)
    share, chance = told_apart(right, len(answers))
    return Practised(round_, right, len(answers), share, chance)


@dataclass(frozen=True, slots=True)
class Guessed:
    """A finished round of guesses, and what was named of every mark: (true ISO, those named)."""

    round: BlindRound
    found: Guesses
    named: Sequence[tuple[int, Sequence[int]]]


def guessed(round_: BlindRound) -> Guessed:
    """The errors of a round of guesses. Refuses before the end: the last answer may change them."""
    _must_be_over(round_)
    return _guessed(round_)


def _guessed(round_: BlindRound) -> Guessed:
    trials = list(round_.trials.all())
    said, marks = (
        [(one.rung, one.named_iso) for one in trials if one.named_iso is not None],
        marks_of([t.rung for t in trials]),
    )
    named: dict[int, list[int]] = {}
    for rung, iso in said:
        named.setdefault(rung.iso, []).append(iso)
    true = [rung.iso_stops for rung, _ in said]
    return Guessed(
        round_, guesses(true, [_stops(iso) for _, iso in said], [_stops(iso) for iso in marks]),
        [(iso, sorted(isos)) for iso, isos in sorted(named.items())],
    )  # fmt: skip


def _stops(iso: int) -> float:
    return math.log2(dial.exact_iso(iso) / 100)


def guess_rounds(person: str | None = None) -> list[Guessed]:
    """Finished rounds of guesses in the order they were made."""
    rounds = BlindRound.objects.filter(kind=BlindRound.Kind.GUESS, finished_at__isnull=False)
    if person:
        rounds = rounds.filter(person=person)
    rows = rounds.select_related("sitting", "use").order_by("finished_at").prefetch_related("trials__rung")
    return [_guessed(one) for one in rows]


def practice_rounds(person: str | None = None) -> list[Practised]:
    """Finished practice rounds in the order they were made, in two queries."""
    rounds = BlindRound.objects.filter(kind__in=TOLD_APART, finished_at__isnull=False).select_related("sitting", "use")
    if person:
        rounds = rounds.filter(person=person)
    found = []
    for round_ in rounds.order_by("finished_at").prefetch_related("trials"):
        answers = [trial.accepted for trial in round_.trials.all()]
        right = sum(bool(one) for one in answers)
        found.append(Practised(round_, right, len(answers), *told_apart(right, len(answers))))
    return found


def profile_from_round(round_: BlindRound, name: str) -> ToleranceProfile:
    """A tolerance profile of the person's own line: every criterion as it reads there is what is just usable; clean and
    emergency keep their distance from it. What has no readings is dropped: nobody has looked at it. Where everything was
    accepted, the noisiest that was shown is usable, for the line lies beyond it.

    Refuses a round without a threshold and a name that is taken.
    """
    if round_.kind != BlindRound.Kind.LINE:
        raise Refusal("Only a round that looks for a line gives a tolerance profile.")
    found = result_of(round_)
    if not found.at_line:
        raise Refusal(f"This round gives no threshold: {found.snr.reason}.")
    thresholds: dict[str, list[float] | None] = {}
    for default in DEFAULT_CRITERIA:
        at = found.at_line.get(default.key)
        if at is None or not at.value:
            thresholds[default.key] = None
            continue
        # On the side that accepts: what reads exactly as the line did is usable.
        usable = at.value * (1 - _ROUNDING if default.at_least else 1 + _ROUNDING)
        own = [usable * default.threshold(level) / default.threshold("usable") for level in LEVELS]
        thresholds[default.key] = [float(f"{value:.4g}") for value in own]
    return profiles.add(name, thresholds)
