"""Blind rounds of a sitting: begun, answered, taken back, and at the end what they tell.

Four kinds: *line* (good enough for the use?), *pairs* (which is better?), and for practice *higher* (which is the higher
ISO?) and *same* (same or different?).
"""

from __future__ import annotations

import math
import random
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta

import numpy as np
from django.db import transaction
from django.utils import timezone

from yellowjacket.bench.look import pair_verdicts, registration
from yellowjacket.bench.models import (
    BlindRound,
    BlindTrial,
    Frame,
    Grade,
    Ladder,
    PairVerdict,
    Reading,
    Rung,
    Shot,
    Sitting,
    ToleranceProfile,
    Use,
)
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.tolerance import profiles
from yellowjacket.core.judging.psychometrics import (
    CATCH_SHARE,
    FEWEST_TRIALS,
    Threshold,
    fitted,
    next_stimulus,
    order_of,
    planned_trials,
    told_apart,
)
from yellowjacket.core.limits.iso_limits import WORST_GRADE
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, LEVELS
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.registration.similarity import Similarity

# What stands for the noise of a picture: the SNR of its shadow at the use's size, where noise is seen first.
CRITERION = Measurand.SHADOW_SNR
_MOST_TRIALS = 200
# Thresholds are kept to four digits.
_ROUNDING = 1e-3
_FEWEST_RUNGS = 3
PRACTICE = (BlindRound.Kind.HIGHER, BlindRound.Kind.SAME)
PRACTICE_TRIALS = 20
LONGEST_GUEST_DAYS = 30


def rungs_with_light(sitting: Sitting) -> list[Rung]:
    """Rungs of ISO ladders that have a light frame, ladder by ladder."""
    rungs = (
        Rung.objects.filter(ladder__sitting=sitting, ladder__kind=Ladder.Kind.ISO)
        .select_related("ladder__body")
        .order_by("ladder__position", "position")
    )
    lit = set(
        Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT).values_list("shot__rung_id", flat=True)
    )
    return [rung for rung in rungs if rung.pk in lit]


def stimuli_of(sitting: Sitting, use: Use) -> list[tuple[Rung, float]]:
    """Rungs that have a light frame and a measured shadow, with log2 of their relative noise at a use."""
    rungs = [rung for rung in rungs_with_light(sitting) if rung.measured_inputs]
    findings = Reading.objects.findings_by_use(rungs)
    found = []
    for rung in rungs:
        snr = at_use(findings, use, rung).get(CRITERION)
        if snr is not None and snr.value is not None and snr.value > 0:
            found.append((rung, -math.log2(snr.value)))
    return found


def matched_pairs(sitting: Sitting) -> list[tuple[Rung, Rung]]:
    """Rungs of two bodies at equal ISO marks, for "which is better"."""
    by_mark: dict[int, list[Rung]] = {}
    for rung in rungs_with_light(sitting):
        if all(rung.ladder.body_id != other.ladder.body_id for other in by_mark.get(rung.iso, ())):
            by_mark.setdefault(rung.iso, []).append(rung)
    return [(rungs[0], other) for _, rungs in sorted(by_mark.items()) for other in rungs[1:]]


def practice_pairs(sitting: Sitting, apart_stops: float) -> list[tuple[Rung, Rung]]:
    """Rungs of one ladder that stand so many stops apart, the lower first."""
    rungs = rungs_with_light(sitting)
    return [
        (low, high)
        for low in rungs
        for high in rungs
        if low.ladder_id == high.ladder_id and abs(high.iso_stops - low.iso_stops - apart_stops) < 1 / 6
    ]


@transaction.atomic
def begin(
    sitting: Sitting, use: Use, person: str, wanted_stops: float, kind: str = BlindRound.Kind.LINE,
    *, guest_days: int = 0,
) -> BlindRound:  # fmt: skip
    """Plan a round: trials in random order. ``wanted_stops``: precision of a line, or how far apart practice pairs stand.

    ``guest_days``: the link may be given away and works so long; its guest says who they are. Refuses without a name
    and with too little to show.
    """
    if not guest_days and not person.strip():
        raise Refusal("Say who is judging first: type a name.")
    if not 0 <= guest_days <= LONGEST_GUEST_DAYS:
        raise Refusal(f"A guest's link is open for {LONGEST_GUEST_DAYS} days at most.")
    if not 0.1 <= wanted_stops <= 10:
        raise Refusal("Stops lie between 0.1 and 10.")
    if kind not in BlindRound.Kind.values:
        raise Refusal("There is no such round.")
    made = BlindRound.objects.create(
        sitting=sitting, use=use, person=person.strip()[:80], size_percent=100, wanted_stops=wanted_stops, kind=kind,
        open_until=timezone.now() + timedelta(days=guest_days) if guest_days else None,
    )  # fmt: skip
    chance = random.Random(secrets.randbits(32))  # noqa: S311 - an order, no secret
    make = {
        BlindRound.Kind.LINE: _line_trials,
        BlindRound.Kind.PAIRS: _pair_trials,
        BlindRound.Kind.HIGHER: _higher_trials,
        BlindRound.Kind.SAME: _same_trials,
    }[BlindRound.Kind(kind)]
    trials = make(made, chance)
    spots = {rung.pk: spot_of(rung) for rung in {trial.rung for trial in trials}}
    for n, trial in enumerate(trials):
        trial.number = n
        trial.x, trial.y = spots[trial.rung.pk]
    BlindTrial.objects.bulk_create(trials)
    return made


def _line_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    stimuli = stimuli_of(made.sitting, made.use)
    if made.wanted_stops > 3:
        raise Refusal("The precision wanted lies between 0.1 and 3 stops.")
    if len(stimuli) < _FEWEST_RUNGS:
        raise Refusal(
            f"A blind round needs {_FEWEST_RUNGS} measured rungs or more, there are {len(stimuli)}: measure the ISO ladders "
            "first."
        )
    # Catches come on top of what the precision asks for. From the second trial on each picture follows from the answers.
    count = min(planned_trials(made.wanted_stops * _noise_per_iso_stop(stimuli)), _MOST_TRIALS)
    count = math.ceil(count / (1 - CATCH_SHARE)) + 1
    order = order_of(len(stimuli), count, chance.getrandbits(32))
    return [BlindTrial(round=made, rung=stimuli[one.stimulus][0], catch=one.catch) for one in order]


def _noise_per_iso_stop(stimuli: Sequence[tuple[Rung, float]]) -> float:
    """By how many stops noise grows with a stop of ISO on these ladders, their mean."""
    slopes = []
    for rungs in _by_ladder(stimuli).values():
        (low, first), (high, last) = rungs[0], rungs[-1]
        if high.iso_stops > low.iso_stops and last > first:
            slopes.append((last - first) / (high.iso_stops - low.iso_stops))
    return sum(slopes) / len(slopes) if slopes else 1.0


def _by_ladder(stimuli: Sequence[tuple[Rung, float]]) -> dict[int, list[tuple[Rung, float]]]:
    found: dict[int, list[tuple[Rung, float]]] = {}
    for rung, noise in sorted(stimuli, key=lambda pair: pair[0].iso_stops):
        found.setdefault(rung.ladder_id, []).append((rung, noise))
    return found


def _pair_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    pairs = matched_pairs(made.sitting)
    if not pairs:
        raise Refusal("“Which is better” needs two bodies with frames at equal ISO in this sitting.")
    # Each pair twice, once either way round, so that a favoured side cancels.
    both = [(one, other) for one, other in pairs] + [(other, one) for one, other in pairs]
    chance.shuffle(both)
    return [BlindTrial(round=made, rung=left, other=right) for left, right in both]


def _practice(made: BlindRound) -> list[tuple[Rung, Rung]]:
    pairs = practice_pairs(made.sitting, made.wanted_stops)
    if not pairs:
        raise Refusal(
            f"No two rungs of a ladder with frames stand {made.wanted_stops:g} stops apart here: choose another distance."
        )
    return pairs


def _higher_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    pairs = _practice(made)
    trials = []
    for n in range(PRACTICE_TRIALS):
        low, high = pairs[n % len(pairs)]
        left, right = (low, high) if chance.random() < 0.5 else (high, low)
        trials.append(BlindTrial(round=made, rung=left, other=right))
    chance.shuffle(trials)
    return trials


def _same_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    pairs = _practice(made)
    repeated = _rungs_with_repeats({rung for pair in pairs for rung in pair})
    if not repeated:
        raise Refusal(
            "“Same or different” shows two frames of one rung where both are the same: no rung here has a second frame."
        )
    trials = []
    for n in range(PRACTICE_TRIALS):
        if n % 2:
            low, high = pairs[n // 2 % len(pairs)]
            left, right = (low, high) if chance.random() < 0.5 else (high, low)
        else:
            left = right = repeated[n // 2 % len(repeated)]
        trials.append(BlindTrial(round=made, rung=left, other=right))
    chance.shuffle(trials)
    return trials


def _rungs_with_repeats(rungs: set[Rung]) -> list[Rung]:
    second = set(
        Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT, shot__repeat__gte=2).values_list(
            "shot__rung_id", flat=True
        )
    )
    return sorted((rung for rung in rungs if rung.pk in second), key=lambda rung: rung.pk)


def spot_of(rung: Rung) -> tuple[int, int]:
    """The spot of the rung's ladder in raw pixels, else the middle of its frame."""
    ladder = rung.ladder
    if ladder.spot_x is not None and ladder.spot_y is not None:
        return ladder.spot_x, ladder.spot_y
    frame = Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).defer("report").first()
    return (frame.width // 2, frame.height // 2) if frame else (0, 0)


def frame_of(trial: BlindTrial, side: str) -> Frame | None:
    """The frame shown of a trial, "left" or "right". A pair that is none shows two frames of its rung."""
    rung = trial.other_id if side == "right" and trial.other_id else trial.rung_id
    frames = list(
        Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).defer("report").order_by("shot__repeat")[:2]
    )
    second = side == "right" and trial.other_id == trial.rung_id
    return frames[-1 if second else 0] if frames else None


def spot_on(trial: BlindTrial, side: str) -> tuple[int, int]:
    """Where a trial's spot lies on the frame of a side: bodies of other size and framing show the same spot."""
    if side != "right":
        return trial.x, trial.y
    x, y = _to_the_right(trial).at((float(trial.x), float(trial.y)))
    return max(0, round(x)), max(0, round(y))


def scale_between(trial: BlindTrial) -> float:
    """Pixels of the right side's frame to one of the left side's, as the pictures lie on one another."""
    return _to_the_right(trial).scale


def _to_the_right(trial: BlindTrial) -> Similarity:
    """From raw pixels of the left side's frame to those of the right side's."""
    other = trial.other
    if other is None or other.ladder_id == trial.rung.ladder_id:
        return Similarity()
    left, right = frame_of(trial, "left"), frame_of(trial, "right")
    if left is None or right is None:
        return Similarity()
    sizes = {trial.rung.ladder_id: (left.width, left.height), other.ladder_id: (right.width, right.height)}
    return registration.between(trial.rung.ladder, other.ladder, sizes)


def next_trial(round_: BlindRound) -> BlindTrial | None:
    """The trial to answer, or None at the end."""
    return round_.trials.filter(answered_at__isnull=True).select_related("rung__ladder__body", "other").first()


def introduce(round_: BlindRound, person: str) -> None:
    """A guest says who they are, before the first answer."""
    if not person.strip():
        raise Refusal("Type your name first.")
    round_.person = person.strip()[:80]
    round_.save(update_fields=["person"])


def must_be_open(round_: BlindRound) -> None:
    """Refuse a guest's round whose time is over."""
    if round_.open_until is not None and timezone.now() > round_.open_until:
        raise Refusal("This link has expired. Ask whoever gave it to you for a new one.")


@transaction.atomic
def answer(round_: BlindRound, token: str, said: str) -> None:
    """Keep an answer: "yes" or "no"; of "which is better" −2 … 2. Refuses a trial that is not the next one: an answer given
    twice counts once."""
    must_be_open(round_)
    trial = next_trial(round_)
    if trial is None or trial.token != token:
        raise Refusal("That picture is answered already.")
    if round_.kind == BlindRound.Kind.PAIRS:
        if said not in ("-2", "-1", "0", "1", "2"):
            raise Refusal("Say which is better, or that they are equal.")
        trial.score = int(said)
    else:
        if said not in ("yes", "no"):
            raise Refusal("Say yes or no.")
        trial.accepted = (said == "yes") == _right_answer(round_, trial) if round_.kind in PRACTICE else said == "yes"
    trial.answered_at = timezone.now()
    trial.save(update_fields=["accepted", "score", "answered_at"])
    if round_.kind == BlindRound.Kind.LINE:
        _adapt(round_)
    if next_trial(round_) is None:
        round_.finished_at = timezone.now()
        round_.save(update_fields=["finished_at"])
        if round_.kind == BlindRound.Kind.PAIRS:
            _keep_verdicts(round_)


def _adapt(round_: BlindRound) -> None:
    """The next picture of a line is the one that tells most after what was said; where the line is known as well as was asked,
    the rest is not shown."""
    upcoming = next_trial(round_)
    if upcoming is None:
        return
    stimuli = stimuli_of(round_.sitting, round_.use)
    place = {rung.pk: n for n, (rung, _) in enumerate(stimuli)}
    said = round_.trials.filter(accepted__isnull=False, catch=False, rung_id__in=place)
    answers = [(place[rung_id], bool(accepted)) for rung_id, accepted in said.values_list("rung_id", "accepted")]
    levels, shown, accepted = [noise for _, noise in stimuli], [n for n, _ in answers], [yes for _, yes in answers]
    if len(answers) >= FEWEST_TRIALS:
        found = fitted([levels[n] for n in shown], accepted, shown).noise_log2
        reached = _half(found)
        if reached is not None and reached <= round_.wanted_stops * _noise_per_iso_stop(stimuli):
            round_.trials.filter(answered_at__isnull=True).delete()
            return
    chance = random.Random(upcoming.token)  # noqa: S311 - what is shown, no secret
    rung, _ = stimuli[next_stimulus(levels, shown, accepted, chance)]
    upcoming.rung, (upcoming.x, upcoming.y) = rung, spot_of(rung)
    upcoming.save(update_fields=["rung", "x", "y"])


def _half(found: Quantity) -> float | None:
    """Half of an interval, None where there is none."""
    return None if found.low is None or found.high is None else (found.high - found.low) / 2


def _right_answer(round_: BlindRound, trial: BlindTrial) -> bool:
    """Whether "yes" is right: the left one is the higher ISO; both are the same."""
    if round_.kind == BlindRound.Kind.SAME:
        return trial.rung_id == trial.other_id
    return trial.other is not None and trial.rung.iso > trial.other.iso


def _keep_verdicts(round_: BlindRound) -> None:
    """Either way round together are one verdict: the mean of what was said, towards equal."""
    said: dict[frozenset[int], list[tuple[Rung, Rung, int]]] = {}
    for trial in round_.trials.select_related("rung__ladder__sitting", "other__ladder__sitting"):
        if trial.other is not None and trial.score is not None:
            said.setdefault(frozenset((trial.rung_id, trial.other.pk)), []).append(
                (trial.rung, trial.other, trial.score)
            )
    for answers in said.values():
        one, other, _ = answers[0]
        scores = [score if left.pk == one.pk else -score for left, _, score in answers]
        mean = sum(scores) / len(scores)
        score = int(math.copysign(math.floor(abs(mean)), mean))
        pair_verdicts.give(one, other, round_.use, round_.person, score, blind=True)


def take_back(round_: BlindRound) -> None:
    """Take the last answer back. Refuses at the beginning, and when the results are out."""
    must_be_open(round_)
    if round_.finished_at is not None:
        raise Refusal("The round is over: its answers stand.")
    last = round_.trials.filter(answered_at__isnull=False).last()
    if last is None:
        raise Refusal("There is no answer to take back.")
    last.accepted, last.score, last.answered_at = None, None, None
    last.save(update_fields=["accepted", "score", "answered_at"])


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
    reached, stimuli = _half(log2), list(noise.values())
    return RoundResult(
        threshold, snr, sum(bool(one.accepted) for one in catches), len(catches), answers, _at_line(round_, line), everything,
        None if reached is None else reached / _noise_per_iso_stop(stimuli), reached, round_.wanted_stops,
        _isos_at(stimuli, log2), _contradicted(round_, noise, line),
    )  # fmt: skip


def _isos_at(stimuli: Sequence[tuple[Rung, float]], line: Quantity) -> list[tuple[Ladder, Quantity]]:
    """The ISO at which each ladder is as noisy as the line, straight in logarithms between its rungs; none where it never is."""
    if line.value is None:
        return []
    found = []
    for rungs in _by_ladder(stimuli).values():
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
    ).select_related("one__ladder__body", "other__ladder__body")
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


def practice_rounds(person: str | None = None) -> list[Practised]:
    """Finished practice rounds in the order they were made, in two queries."""
    rounds = BlindRound.objects.filter(kind__in=PRACTICE, finished_at__isnull=False).select_related("sitting", "use")
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
