"""Which shot of the plan a frame belongs to, by what the file says about itself."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from yellowjacket.core.exposure import apex, dial, notation

# f-numbers within this many stops are one aperture: files round to the printed mark.
_SAME_APERTURE_STOPS = 0.2
SAME_TIME_STOPS = 0.2
# Codes of misfits, from no ladder at all to a ladder that only has no room left.
NEARNESS = ("ladder", "body", "size", "bits", "metadata", "iso", "shutter", "aperture", "mode", "kind", "complete")


@dataclass(frozen=True, slots=True)
class Candidate:
    """What matching needs of a frame. Empty texts and None mean the file does not say."""

    make: str
    model: str
    serial: str
    iso: int | None
    exposure_s: float | None
    f_number: float | None
    dark: bool
    width: int
    height: int
    bits: int | None = None


@dataclass(frozen=True, slots=True)
class Slot:
    """A shot that waits for its frame, or has one (``taken``).

    ``size``, ``bits``: what the raw mode or bit depth planned for it writes; None when the plan does not say.
    ``count``: shots of the same settings that it stands for.
    """

    key: int
    iso: int
    exposure_s: float
    f_number: float
    dark: bool
    taken: bool
    size: tuple[int, int] | None = None
    bits: int | None = None
    count: int = 1


@dataclass(frozen=True, slots=True)
class Misfit:
    """Why a frame fits no shot, and what to do about it."""

    code: str
    reason: str
    remedy: str


@dataclass(frozen=True, slots=True)
class LadderFacts:
    """The body, frame size and bit depth a ladder stands for; None while it has no frame yet, or varies them.

    ``times_apart_stops``: by how much the time of a frame may differ from the planned one.
    """

    make: str
    model: str
    serial: str
    size: tuple[int, int] | None
    bits: int | None = None
    times_apart_stops: float = SAME_TIME_STOPS


def find_slot(frame: Candidate, ladder: LadderFacts, slots: Sequence[Slot]) -> Slot | Misfit:
    """The first free shot with the frame's settings, or the reason why there is none.

    The most telling difference is named: body, size, ISO, shutter, aperture, then "already complete".
    """
    other = _other_body(frame, ladder)
    if other:
        return Misfit("body", other, "Import it into a sitting of that body, or correct the body's entry.")
    if ladder.size is not None and (frame.width, frame.height) != ladder.size:
        return Misfit(
            "size", f"is {frame.width} × {frame.height} px, the ladder has {ladder.size[0]} × {ladder.size[1]} px.",
            "Shoot the whole ladder in one raw mode and crop.",
        )  # fmt: skip
    if ladder.bits is not None and frame.bits is not None and frame.bits != ladder.bits:
        return Misfit(
            "bits", f"holds {frame.bits} bits, the ladder's frames {ladder.bits}.",
            "Drive modes and silent shutters may cut the bit depth: set the ladder's mode and shoot this rung again.",
        )  # fmt: skip
    if frame.iso is None or frame.exposure_s is None:
        absent = "ISO" if frame.iso is None else "exposure time"
        return Misfit("metadata", f"does not say its {absent}.", "Copy the original file from the card.")
    of_iso = [slot for slot in slots if slot.iso == frame.iso]
    if not of_iso:
        return Misfit(
            "iso", f"was shot at ISO {frame.iso}, which the ladder does not have.", "Add the rung or leave it out."
        )
    of_time = [slot for slot in of_iso if _same_time(slot.exposure_s, frame.exposure_s, ladder.times_apart_stops)]
    if not of_time:
        planned, found = notation.shutter_label(of_iso[0].exposure_s), notation.shutter_label(frame.exposure_s)
        return Misfit(
            "shutter", f"was exposed for {found}; ISO {frame.iso} is planned at {planned}.", "Shoot this rung again."
        )
    of_aperture = [slot for slot in of_time if _same_aperture(slot.f_number, frame.f_number)]
    if not of_aperture:
        return Misfit(
            "aperture", f"was shot at f/{frame.f_number:g}; the ladder is planned at f/{of_time[0].f_number:g}.",
            "Set the aperture back and shoot this rung again.",
        )  # fmt: skip
    of_mode = [slot for slot in of_aperture if _same_mode(slot, frame)]
    if not of_mode:
        return Misfit(
            "mode", f"is {frame.width} × {frame.height} px{f' of {frame.bits} bits' if frame.bits else ''}, which no raw "
            "mode planned for these settings writes.", "Set the raw mode of the plan and shoot this rung again.",
        )  # fmt: skip
    return _free(frame, of_mode)


def _free(frame: Candidate, slots: Sequence[Slot]) -> Slot | Misfit:
    kind = "dark" if frame.dark else "light"
    of_kind = [slot for slot in slots if slot.dark == frame.dark]
    if not of_kind:
        return Misfit(
            "kind", f"is a {kind} frame, and ISO {frame.iso} has no {kind} shots in the plan.", "Leave it out."
        )
    for slot in of_kind:
        if not slot.taken:
            return slot
    planned = sum(slot.count for slot in of_kind)
    return Misfit(
        "complete", f"is one more {kind} frame at ISO {frame.iso}; the rung already has its {planned}.",
        "Nothing to do; the frames that came first are used.",
    )  # fmt: skip


def _other_body(frame: Candidate, ladder: LadderFacts) -> str:
    wanted = f"{ladder.make} {ladder.model}".strip()
    found = f"{frame.make} {frame.model}".strip()
    if frame.model and not _same_name(frame, ladder):
        return f"comes from {found}; this ladder belongs to {wanted}."
    if frame.serial and ladder.serial and frame.serial.casefold() != ladder.serial.casefold():
        return f"comes from serial {frame.serial}; this ladder belongs to {wanted} {ladder.serial}."
    return ""


def _same_name(frame: Candidate, ladder: LadderFacts) -> bool:
    """Makers repeat their name in the model tag or shorten it; the model's own words must agree."""
    found = f"{frame.make} {frame.model}".casefold().split()
    wanted = f"{ladder.make} {ladder.model}".casefold().split()
    return set(ladder.model.casefold().split()) <= set(found) and set(frame.model.casefold().split()) <= set(wanted)


# A card holds a handful of times and apertures, asked for over and over.
@lru_cache(maxsize=4096)
def _same_time(planned_s: float, found_s: float, apart_stops: float) -> bool:
    exact = dial.exact_exposure_s(planned_s), dial.exact_exposure_s(found_s)
    return abs(apex.stops_between(*exact)) <= apart_stops


def _same_mode(slot: Slot, frame: Candidate) -> bool:
    if slot.size is not None and slot.size != (frame.width, frame.height):
        return False
    return slot.bits is None or frame.bits is None or slot.bits == frame.bits


@lru_cache(maxsize=4096)
def _same_aperture(planned: float, found: float | None) -> bool:
    # Lenses without contacts report nothing or f/0: the plan's own entry stands.
    return found is None or abs(apex.aperture_stops(planned, found)) <= _SAME_APERTURE_STOPS


class Matcher:
    """The shots of one ladder, grouped by their settings: a frame is held against a handful of groups, not thousands.

    Finds what find_slot over all shots in their order finds.
    """

    def __init__(self, ladder: LadderFacts, slots: Iterable[Slot]) -> None:
        self.ladder = ladder
        self._groups: dict[Slot, _Group] = {}
        self._group_of: dict[int, _Group] = {}
        self._by_iso: dict[int, list[_Group]] = {}
        for slot in slots:
            settings = replace(slot, key=0, taken=False)
            group = self._groups.get(settings)
            if group is None:
                group = self._groups[settings] = _Group(slot)
                self._by_iso.setdefault(slot.iso, []).append(group)
            group.add(slot)
            self._group_of[slot.key] = group

    def find(self, frame: Candidate) -> Slot | Misfit:
        """The first free shot with the frame's settings, or the reason why there is none."""
        groups = self._by_iso.get(frame.iso or 0, [])
        return find_slot(frame, self.ladder, [group.standing for group in groups])

    def take(self, key: int) -> None:
        """The shot has its frame now."""
        self._group_of[key].take(key)


class _Group:
    """Shots of one setting: those still free, and the slot that stands for all of them."""

    def __init__(self, first: Slot) -> None:
        self._free: deque[int] = deque()
        self._count = 0
        self.standing = first

    def add(self, slot: Slot) -> None:
        self._count += 1
        if not slot.taken:
            self._free.append(slot.key)
        self._renew()

    def take(self, key: int) -> None:
        self._free.remove(key)
        self._renew()

    def _renew(self) -> None:
        free = self._free
        self.standing = replace(
            self.standing, key=free[0] if free else self.standing.key, taken=not free, count=self._count
        )
