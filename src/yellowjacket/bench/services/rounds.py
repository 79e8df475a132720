"""Blind rounds of a sitting: begun, answered, taken back, and at the end the personal threshold and its profile."""

from __future__ import annotations

import math
import secrets
from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone

from yellowjacket.bench.models import BlindRound, BlindTrial, Frame, Ladder, Rung, Shot, Sitting, ToleranceProfile, Use
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.recording import findings_by_use
from yellowjacket.core.blind import CATCH_SHARE, Threshold, fitted, order_of, planned_trials
from yellowjacket.core.quantity import Quantity
from yellowjacket.core.tolerance import DEFAULT_CRITERIA, LEVELS

# What stands for the noise of a picture: the SNR of its shadow at the use's size, where noise is seen first.
CRITERION = "shadow_snr"
_MOST_TRIALS = 200
_FEWEST_RUNGS = 3


def stimuli_of(sitting: Sitting, use: Use) -> list[tuple[Rung, float]]:
    """Rungs of ISO ladders that have a light frame and a measured shadow, with log2 of their relative noise at a use."""
    rungs = list(
        Rung.objects.filter(ladder__sitting=sitting, ladder__kind=Ladder.Kind.ISO)
        .exclude(measured_inputs="")
        .select_related("ladder__body")
        .order_by("ladder__position", "position")
    )
    lit = set(
        Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT).values_list("shot__rung_id", flat=True)
    )
    findings = findings_by_use(rungs)
    found = []
    for rung in rungs:
        own = {**findings.get(None, {}).get(rung.pk, {}), **findings.get(use.pk, {}).get(rung.pk, {})}
        snr = own.get(CRITERION)
        if rung.pk in lit and snr is not None and snr.value is not None and snr.value > 0:
            found.append((rung, -math.log2(snr.value)))
    return found


@transaction.atomic
def begin(sitting: Sitting, use: Use, person: str, wanted_stops: float, size_percent: int = 100) -> BlindRound:
    """Plan a round: trials in random order with repeats and catches. Refuses without a name or with too little to show."""
    if not person.strip():
        raise Refusal("Say who is judging first: type a name.")
    if not 0.1 <= wanted_stops <= 3:
        raise Refusal("The precision wanted lies between 0.1 and 3 stops.")
    stimuli = stimuli_of(sitting, use)
    if len(stimuli) < _FEWEST_RUNGS:
        raise Refusal(
            f"A blind round needs {_FEWEST_RUNGS} measured rungs or more, there are {len(stimuli)}: measure the ISO ladders "
            "first."
        )
    spans = [noise for _, noise in stimuli]
    spacing = max((max(spans) - min(spans)) / max(len(spans) - 1, 1), 0.1)
    # Catches come on top of what the precision asks for.
    count = min(planned_trials(len(stimuli), wanted_stops, spacing), _MOST_TRIALS)
    count = math.ceil(count / (1 - CATCH_SHARE)) + 1
    made = BlindRound.objects.create(
        sitting=sitting, use=use, person=person.strip()[:80], size_percent=size_percent, wanted_stops=wanted_stops
    )
    spots = {rung.pk: _spot(rung) for rung, _ in stimuli}
    trials = []
    for n, trial in enumerate(order_of(len(stimuli), count, secrets.randbits(32))):
        rung = stimuli[trial.stimulus][0]
        x, y = spots[rung.pk]
        trials.append(BlindTrial(round=made, number=n, rung=rung, x=x, y=y, catch=trial.catch))
    BlindTrial.objects.bulk_create(trials)
    return made


def _spot(rung: Rung) -> tuple[int, int]:
    """The spot of the rung's ladder in raw pixels, else the middle of its frame."""
    ladder = rung.ladder
    if ladder.spot_x is not None and ladder.spot_y is not None:
        return ladder.spot_x, ladder.spot_y
    frame = Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).defer("report").first()
    return (frame.width // 2, frame.height // 2) if frame else (0, 0)


def next_trial(round_: BlindRound) -> BlindTrial | None:
    """The trial to answer, or None at the end."""
    return round_.trials.filter(accepted__isnull=True).select_related("rung__ladder__body").first()


@transaction.atomic
def answer(round_: BlindRound, token: str, accepted: bool) -> None:
    """Keep an answer. Refuses a trial that is not the next one: an answer given twice counts once."""
    trial = next_trial(round_)
    if trial is None or trial.token != token:
        raise Refusal("That picture is answered already.")
    trial.accepted, trial.answered_at = accepted, timezone.now()
    trial.save(update_fields=["accepted", "answered_at"])
    if next_trial(round_) is None:
        round_.finished_at = timezone.now()
        round_.save(update_fields=["finished_at"])


def take_back(round_: BlindRound) -> None:
    """Take the last answer back. Refuses at the beginning, and when the results are out."""
    if round_.finished_at is not None:
        raise Refusal("The round is over: its answers stand.")
    last = round_.trials.filter(accepted__isnull=False).last()
    if last is None:
        raise Refusal("There is no answer to take back.")
    last.accepted, last.answered_at = None, None
    last.save(update_fields=["accepted", "answered_at"])


@dataclass(frozen=True, slots=True)
class RoundResult:
    """What a finished round says. ``snr``: the threshold as the SNR of the shadow at the use's size."""

    threshold: Threshold
    snr: Quantity
    catches_passed: int
    catches: int
    answers: list[tuple[Rung, float, int, int]]


def result_of(round_: BlindRound) -> RoundResult:
    """The threshold. Refuses before the end: what is known early bends what is said later."""
    if round_.finished_at is None:
        raise Refusal("The results come at the end.")
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
    answers = [(*noise[pk], said, shown) for pk, (said, shown) in counts.items()]
    return RoundResult(
        threshold,
        snr,
        sum(bool(one.accepted) for one in catches),
        len(catches),
        sorted(answers, key=lambda row: row[1]),
    )


def profile_from_round(round_: BlindRound, name: str) -> ToleranceProfile:
    """A tolerance profile whose usable shadow SNR is the person's own line; clean and emergency keep their distance.

    Refuses a round without a threshold and a name that is taken.
    """
    found = result_of(round_)
    if found.snr.value is None:
        raise Refusal(f"This round gives no threshold: {found.snr.reason}.")
    name = name.strip()[:80]
    if not name:
        raise Refusal("Give the profile a name.")
    if ToleranceProfile.objects.filter(name=name).exists():
        raise Refusal(f"There is a profile “{name}” already: choose another name.")
    default = next(one for one in DEFAULT_CRITERIA if one.key == CRITERION)
    usable = default.threshold("usable")
    own = [round(found.snr.value * default.threshold(level) / usable, 3) for level in LEVELS]
    return ToleranceProfile.objects.create(name=name, thresholds={CRITERION: own})
