"""Which shot of a sitting a file belongs to: all ladders at once, by what file, plan and register say."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace

from yellowjacket.bench.models import Frame, Ladder, Shot, Sitting
from yellowjacket.core.planning.frame_to_shot import (
    NEARNESS,
    SAME_TIME_STOPS,
    Candidate,
    LadderFacts,
    Matcher,
    Misfit,
    Slot,
)
from yellowjacket.core.raw.first_look import FrameFacts

# So far may the time of a frame lie off the plan where bodies are held equally bright: lenses pass that differently.
_OWN_TIMES_STOPS = 1.0


class ShotFinder:
    """Every shot of a sitting, fetched once: a card of thousands of files asks nothing more of the database."""

    def __init__(self, sitting: Sitting) -> None:
        self._sitting = sitting
        self.load()

    def load(self) -> None:
        """Fetch the shots again: somebody may have given one its frame in the meantime."""
        taken = dict(
            Frame.objects.filter(sitting=self._sitting, shot__isnull=False)
            .order_by("-id")
            .values_list("shot_id", "shot__rung__ladder_id")
        )
        shots: dict[int, list[Shot]] = defaultdict(list)
        for shot in Shot.objects.filter(rung__ladder__sitting=self._sitting).select_related("rung").order_by("order"):
            shots[shot.rung.ladder_id].append(shot)
        self._varies: dict[int, tuple[bool, bool]] = {}
        self._matchers: dict[int, Matcher] = {}
        self._ladder_of: dict[int, int] = {}
        for ladder in self._sitting.ladders.select_related("body"):
            modes = {mode["name"]: mode for mode in ladder.body.raw_modes}
            slots = [
                Slot(
                    s.pk, s.rung.iso, s.rung.exposure_s, ladder.f_number, s.kind == Shot.Kind.DARK, s.pk in taken,
                    *_mode_of(ladder, s.rung.value, modes),
                )
                for s in shots[ladder.pk]
            ]  # fmt: skip
            self._ladder_of |= dict.fromkeys((slot.key for slot in slots), ladder.pk)
            varies_size = ladder.method == Ladder.Method.RAW_MODE or bool(ladder.spec.get("crossed"))
            self._varies[ladder.pk] = (varies_size, varies_size or ladder.method == Ladder.Method.BIT_DEPTH)
            body = ladder.body
            facts = LadderFacts(body.make, body.model, body.serial, None, times_apart_stops=self._apart_stops(ladder))
            self._matchers[ladder.pk] = Matcher(facts, slots)
        first = Frame.objects.filter(shot__rung__ladder__sitting=self._sitting).order_by("-id")
        for ladder_id, width, height, white_dn in first.values_list(
            "shot__rung__ladder_id", "width", "height", "white_dn"
        ):
            self._settle(ladder_id, (width, height), bits_of(white_dn), anew=True)

    def _apart_stops(self, ladder: Ladder) -> float:
        """Bodies that are held equally bright need times of their own: at each ISO there is one, whatever it is."""
        brightness = self._sitting.held_equal == Sitting.HeldEqual.BRIGHTNESS
        one_time = ladder.kind == Ladder.Kind.ISO and ladder.method != Ladder.Method.FIXED
        return _OWN_TIMES_STOPS if brightness and one_time else SAME_TIME_STOPS

    def _settle(self, ladder_id: int, size: tuple[int, int], bits: int | None, *, anew: bool = False) -> None:
        """The first frame of a ladder sets its size and bit depth, where the ladder does not vary them."""
        matcher = self._matchers[ladder_id]
        varies_size, varies_bits = self._varies[ladder_id]
        facts = matcher.ladder
        if not varies_size and (facts.size is None or anew):
            facts = replace(facts, size=size)
        if not varies_bits and (facts.bits is None or anew):
            facts = replace(facts, bits=bits)
        matcher.ladder = facts

    def find(self, candidate: Candidate) -> Slot | Misfit:
        """The shot for what a file, or its tester, says; of several refusals that of the nearest ladder is told."""
        refusals = [Misfit("ladder", "has no ladder to go to.", "Plan a ladder first.")]
        for matcher in self._matchers.values():
            found = matcher.find(candidate)
            if isinstance(found, Slot):
                return found
            refusals.append(found)
        return max(refusals, key=lambda misfit: NEARNESS.index(misfit.code))

    def place(self, candidate: Candidate) -> Slot | Misfit:
        """Find a shot and take it."""
        found = self.find(candidate)
        if isinstance(found, Slot):
            ladder_id = self._ladder_of[found.key]
            self._matchers[ladder_id].take(found.key)
            self._settle(ladder_id, (candidate.width, candidate.height), candidate.bits)
        return found


def candidate_of(sitting: Sitting, facts: FrameFacts) -> Candidate:
    """What a file says, as far as it can be believed."""
    data = facts.metadata
    # What a lens without contacts leaves in the file is no aperture: the plan's own stands.
    f_number = None if without_contacts(sitting) else data.f_number
    return Candidate(
        data.make, data.model, data.serial, data.iso, data.exposure_s, f_number, facts.dark, facts.width, facts.height,
        bits_of(facts.white_dn),
    )  # fmt: skip


def candidate_from(frame: Frame) -> Candidate:
    """A frame that is in already, as its tester corrected it."""
    iso = frame.said("iso")
    f_number = None if without_contacts(frame.sitting) else frame.said("f_number")
    return Candidate(
        frame.make, frame.model, frame.serial, None if iso is None else round(iso), frame.said("exposure_s"), f_number,
        frame.dark, frame.width, frame.height, bits_of(frame.white_dn),
    )  # fmt: skip


def without_contacts(sitting: Sitting) -> bool:
    """Whether the lens of the sitting cannot tell the body its aperture."""
    return sitting.lens_used is not None and not sitting.lens_used.contacts


def bits_of(white_dn: float) -> int:
    """Bit depth that a white level asks for: 16383 and 15520 are both of 14 bits."""
    return int(white_dn).bit_length()


def _mode_of(ladder: Ladder, value: str, modes: dict[str, dict[str, int]]) -> tuple[tuple[int, int] | None, int | None]:
    """Frame size and bit depth that a rung's own setting writes, as far as plan and register say."""
    if value in modes:
        mode = modes[value]
        return (mode["width"], mode["height"]), mode["bits"]
    digits = "".join(character for character in value if character.isdecimal())
    return None, int(digits) if ladder.method == Ladder.Method.BIT_DEPTH and digits else None
