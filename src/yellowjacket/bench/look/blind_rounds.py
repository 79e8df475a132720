"""Blind rounds of a sitting: begun, answered, taken back.

*Line* (good enough for the use?), *pairs* (which is better?), and for practice *higher* (which is the higher ISO?), *same*
(same or different?), *real* (which was really shot?) and *guess* (which ISO is it?).
"""

from __future__ import annotations

import math
import random
import secrets
from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta
from functools import partial

from django.db import transaction
from django.utils import timezone

from yellowjacket.bench.look import pair_verdicts
from yellowjacket.bench.look.blind_stimuli import (
    BODIES,
    Pictured,
    comparisons,
    noise_per_iso_stop,
    practice_pairs,
    rungs_with_light,
    rungs_with_repeats,
    spot_of,
    stimuli_of,
)
from yellowjacket.bench.models import (
    BlindRound,
    BlindTrial,
    Rung,
    Sitting,
    Use,
)
from yellowjacket.bench.prediction.clean_frame import predictable
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.judging.psychometrics import (
    CATCH_SHARE,
    FEWEST_TRIALS,
    fitted,
    next_stimulus,
    order_of,
    planned_trials,
)
from yellowjacket.core.metrology.estimate import Quantity

_MOST_TRIALS = 200
_FEWEST_RUNGS = 3
# Told by right and wrong; a guess by how far it is off.
TOLD_APART = (BlindRound.Kind.HIGHER, BlindRound.Kind.SAME, BlindRound.Kind.REAL)
PRACTICE = (*TOLD_APART, BlindRound.Kind.GUESS)
PRACTICE_TRIALS = 20
LONGEST_GUEST_DAYS = 30


@transaction.atomic
def begin(
    sitting: Sitting, use: Use, person: str, wanted_stops: float, kind: str = BlindRound.Kind.LINE,
    *, guest_days: int = 0, between: str = BODIES,
) -> BlindRound:  # fmt: skip
    """Plan a round: trials in random order. ``wanted_stops``: precision of a line, or how far apart practice pairs stand;
    ``between``: the key of what "which is better" compares.

    ``guest_days``: the link may be given away and works so long; its guest says who they are. Refuses without a name
    and with too little to show.
    """
    if not guest_days and not person.strip():
        raise Refusal("Say who is judging first: type a name.")
    if not 0 <= guest_days <= LONGEST_GUEST_DAYS:
        raise Refusal(f"A guest's link is open for {LONGEST_GUEST_DAYS} days at most.")
    if not 0.1 <= wanted_stops <= 10:
        raise Refusal("Enter stops between 0.1 and 10.")
    if kind not in BlindRound.Kind.values:
        raise Refusal("There is no such round.")
    made = BlindRound.objects.create(
        sitting=sitting, use=use, person=person.strip()[:80], size_percent=100, wanted_stops=wanted_stops, kind=kind,
        open_until=timezone.now() + timedelta(days=guest_days) if guest_days else None,
    )  # fmt: skip
    chance = random.Random(secrets.randbits(32))  # noqa: S311 - an order, no secret
    makers: Mapping[str, Callable[[BlindRound, random.Random], list[BlindTrial]]] = {
        BlindRound.Kind.LINE: _line_trials,
        BlindRound.Kind.PAIRS: partial(_pair_trials, between=between),
        BlindRound.Kind.HIGHER: _higher_trials,
        BlindRound.Kind.SAME: _same_trials,
        BlindRound.Kind.REAL: _real_trials,
        BlindRound.Kind.GUESS: _guess_trials,
    }
    trials = makers[kind](made, chance)
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
    count = min(planned_trials(made.wanted_stops * noise_per_iso_stop(stimuli)), _MOST_TRIALS)
    count = math.ceil(count / (1 - CATCH_SHARE)) + 1
    order = order_of(len(stimuli), count, chance.getrandbits(32))
    return [BlindTrial(round=made, rung=stimuli[one.stimulus][0], catch=one.catch) for one in order]


def _pair_trials(made: BlindRound, chance: random.Random, between: str) -> list[BlindTrial]:
    pairs = next((one.pairs for one in comparisons(made.sitting) if one.key == between), ())
    if not pairs:
        raise Refusal(
            "“Which is better” needs two bodies with frames at equal ISO in this sitting."
            if between == BODIES
            else "These two no longer have pictures of the same rungs: choose what to compare again."
        )
    # Each pair twice, once either way round, so that a favoured side cancels.
    both = [(one, other) for one, other in pairs] + [(other, one) for one, other in pairs]
    chance.shuffle(both)
    return [
        BlindTrial(round=made, rung=left, lane=lane, other=right, other_lane=other_lane)
        for (left, lane), (right, other_lane) in both
    ]


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
    repeated = rungs_with_repeats({rung for pair in pairs for rung in pair})
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


def _real_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    """A picture as it was shot beside the same as it is predicted from the base ISO of its ladder."""
    rungs = predictable(rungs_with_light(made.sitting))
    if not rungs:
        raise Refusal(
            "“Really shot” needs a measured ISO ladder with a clean frame at base ISO and others above: measure one first."
        )
    trials = []
    for n in range(PRACTICE_TRIALS):
        rung, side = rungs[n % len(rungs)], chance.choice(("left", "right"))
        trials.append(BlindTrial(round=made, rung=rung, other=rung, predicted=side))
    chance.shuffle(trials)
    return trials


def _guess_trials(made: BlindRound, chance: random.Random) -> list[BlindTrial]:
    """Any rung, never the same twice running: every mark about equally often."""
    rungs = rungs_with_light(made.sitting)
    if len(marks_of(rungs)) < _FEWEST_RUNGS:
        raise Refusal(f"“Which ISO is it” needs frames at {_FEWEST_RUNGS} ISO settings or more.")
    trials: list[BlindTrial] = []
    while len(trials) < PRACTICE_TRIALS:
        chance.shuffle(rungs)
        again = trials and trials[-1].rung.pk == rungs[0].pk
        trials += [BlindTrial(round=made, rung=rung) for rung in (rungs[::-1] if again else rungs)]
    return trials[:PRACTICE_TRIALS]


def marks_of(rungs: Sequence[Rung]) -> list[int]:
    """The ISO marks to choose from."""
    return sorted({rung.iso for rung in rungs})


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
    """Keep an answer: "yes" or "no"; of "which is better" −2 … 2; of "which ISO" a mark. Refuses a trial that is not the next
    one: an answer given twice counts once."""
    must_be_open(round_)
    trial = next_trial(round_)
    if trial is None or trial.token != token:
        raise Refusal("You have already answered that picture.")
    if round_.kind == BlindRound.Kind.PAIRS:
        if said not in ("-2", "-1", "0", "1", "2"):
            raise Refusal("Say which is better, or that they are equal.")
        trial.score = int(said)
    elif round_.kind == BlindRound.Kind.GUESS:
        marks = marks_of(rungs_with_light(round_.sitting))
        if not said.isdecimal() or int(said) not in marks:
            raise Refusal("Name one of the ISO settings below the picture.")
        trial.named_iso, trial.accepted = int(said), int(said) == trial.rung.iso
    else:
        if said not in ("yes", "no"):
            raise Refusal("Say yes or no.")
        trial.accepted = (said == "yes") == _right_answer(round_, trial) if round_.kind in PRACTICE else said == "yes"
    trial.answered_at = timezone.now()
    trial.save(update_fields=["accepted", "score", "named_iso", "answered_at"])
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
        reached = half_width(found)
        if reached is not None and reached <= round_.wanted_stops * noise_per_iso_stop(stimuli):
            round_.trials.filter(answered_at__isnull=True).delete()
            return
    chance = random.Random(upcoming.token)  # noqa: S311 - what is shown, no secret
    rung, _ = stimuli[next_stimulus(levels, shown, accepted, chance)]
    upcoming.rung, (upcoming.x, upcoming.y) = rung, spot_of(rung)
    upcoming.save(update_fields=["rung", "x", "y"])


def half_width(found: Quantity) -> float | None:
    """Half of an interval, None where there is none."""
    return None if found.low is None or found.high is None else (found.high - found.low) / 2


def _right_answer(round_: BlindRound, trial: BlindTrial) -> bool:
    """Whether "yes" is right: the left one is the higher ISO, or the one that was shot; both are the same."""
    if round_.kind == BlindRound.Kind.SAME:
        return trial.rung_id == trial.other_id
    if round_.kind == BlindRound.Kind.REAL:
        return trial.predicted == "right"
    return trial.other is not None and trial.rung.iso > trial.other.iso


def _keep_verdicts(round_: BlindRound) -> None:
    """Either way round together are one verdict: the mean of what was said, towards equal."""
    said: dict[frozenset[Pictured], list[tuple[Pictured, Pictured, int]]] = {}
    shown = ("rung__ladder__sitting", "other__ladder__sitting", "lane", "other_lane")
    for trial in round_.trials.select_related(*shown):
        if trial.other is not None and trial.score is not None:
            left, right = (trial.rung, trial.lane), (trial.other, trial.other_lane)
            said.setdefault(frozenset((left, right)), []).append((left, right, trial.score))
    for answers in said.values():
        one, other, _ = answers[0]
        scores = [score if left == one else -score for left, _, score in answers]
        mean = sum(scores) / len(scores)
        score = int(math.copysign(math.floor(abs(mean)), mean))
        (rung, lane), (against, other_lane) = one, other
        pair_verdicts.give(rung, against, round_.use, round_.person, score, blind=True, lanes=(lane, other_lane))


def take_back(round_: BlindRound) -> None:
    """Take the last answer back. Refuses at the beginning, and when the results are out."""
    must_be_open(round_)
    if round_.finished_at is not None:
        raise Refusal("The round is over: its answers can no longer be changed.")
    last = round_.trials.filter(answered_at__isnull=False).last()
    if last is None:
        raise Refusal("There is no answer to undo.")
    if round_.kind == BlindRound.Kind.GUESS:
        raise Refusal("You have been told the ISO, so that answer can no longer be undone.")
    last.accepted, last.score, last.answered_at = None, None, None
    last.save(update_fields=["accepted", "score", "answered_at"])
