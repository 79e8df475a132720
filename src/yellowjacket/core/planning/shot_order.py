"""From rungs to shots: the order that needs the fewest changes, and what to change before each shot."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from yellowjacket.core.exposure import notation
from yellowjacket.core.planning.ladder import PlannedLadder, PlannedRung, Settings

LIGHT, DARK = "light", "dark"
_SAME_STOPS = 1e-6
_AS_METERED, _NO_FILTER, _AS_IT_IS = "as metered", "none", "as it is"
# What need not be said before the first shot.
_NOTHING_SPECIAL = {_AS_METERED, _NO_FILTER, _AS_IT_IS}


@dataclass(frozen=True, slots=True)
class PlannedShot:
    """One release: which rung (index into the ladder), light or dark, which repeat of how many."""

    rung_index: int
    kind: str
    repeat: int
    repeats: int
    closing: bool = False


def shots_of(ladder: PlannedLadder) -> tuple[PlannedShot, ...]:
    """Every release of a ladder in shooting order; rungs that cannot be set are left out.

    Light frames rung by rung, of an exposure ladder the metered one before the others; the first rung once more at the
    end when a closing repeat is wanted; then the darks from the last rung back to the first, so that the cap goes on
    once and no setting jumps.
    """
    return tuple(_in_order(ladder))


def _in_order(ladder: PlannedLadder) -> Iterator[PlannedShot]:
    spec = ladder.spec
    order = [n for n, rung in enumerate(ladder.rungs) if rung.shootable]
    if spec.kind == "exposure":
        # What all others are held against is shot, and looked at, first: of each setting that is crossed with it.
        first: dict[str, int] = {}
        for n in order:
            first.setdefault(ladder.rungs[n].settings.value, n)
        order.sort(key=lambda n: (first[ladder.rungs[n].settings.value], abs(ladder.rungs[n].at_stops) > _SAME_STOPS))
    capped = spec.capped
    for n in order:
        for repeat in range(1, spec.repeats + 1):
            yield PlannedShot(n, DARK if capped else LIGHT, repeat, spec.repeats)
    if spec.closing_repeat and not capped:
        yield PlannedShot(order[0], LIGHT, spec.repeats + 1, spec.repeats + 1, closing=True)
    if capped:
        return
    for n in reversed(order):
        for repeat in range(1, spec.darks + 1):
            yield PlannedShot(n, DARK, repeat, spec.darks)


@dataclass(frozen=True, slots=True)
class Change:
    """One thing to change before a shot: what, the old setting ("" at the start) and the new one."""

    what: str
    old: str
    new: str


def changes(before: Settings | None, after: Settings, *, cap: bool | None = None) -> tuple[Change, ...]:
    """What differs between two shots, in the order a tester sets it.

    ``before`` None: everything is set. ``cap``: True when the lens gets its cap, False when it comes off.
    """
    found = []
    if cap is not None:
        found.append(Change("cap", "off" if cap else "on", "on" if cap else "off"))
    if before is None:
        found += [Change(what, "", new) for what, new in _named(after) if new not in _NOTHING_SPECIAL]
    else:
        pairs = zip(_named(before), _named(after), strict=True)
        found += [Change(what, old, new) for (what, old), (_, new) in pairs if old != new]
    return tuple(found)


def _named(settings: Settings) -> tuple[tuple[str, str], ...]:
    exposure = settings.exposure
    filters = " + ".join(f.name for f in settings.filters) or _NO_FILTER
    return (
        ("ISO", f"{exposure.iso:g}"),
        ("shutter", notation.shutter_label(exposure.exposure_s)),
        ("aperture", f"f/{exposure.f_number:g}"),
        ("lamp", f"{notation.with_sign(settings.lamp_stops, 1)} stop" if settings.lamp_stops else _AS_METERED),
        ("filter", filters),
        ("LENR", "on" if settings.lenr else "off"),
        ("setting", settings.value or _AS_IT_IS),
    )


# These live in a menu; the others are a dial's turn.
_MENU = {"LENR", "setting"}


def menu_visits(rungs: Sequence[PlannedRung], shots: Sequence[PlannedShot]) -> int:
    """How often a menu must be opened over a run of shots."""
    visits = 0
    before: Settings | None = None
    for shot in shots:
        after = rungs[shot.rung_index].settings
        if before is not None:
            visits += any(change.what in _MENU for change in changes(before, after))
        before = after
    return visits
