"""What to see to before the first frame, and the usual cautions, as far as they fit the plan.

Common practice, no source.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from yellowjacket.core.planning.ladder import LadderSpec


@dataclass(frozen=True, slots=True)
class Item:
    """One line of the list; a caution is read, the others are ticked."""

    text: str
    caution: bool = False


def items_for(specs: Sequence[LadderSpec], light: str = "") -> tuple[Item, ...]:
    """The list for a plan of these ladders under the light described."""
    kinds = {spec.kind for spec in specs}
    methods = {spec.method for spec in specs}
    return (*_settings(specs, kinds, methods), *_cautions(kinds, methods, light))


def _settings(specs: Sequence[LadderSpec], kinds: set[str], methods: set[str]) -> Iterator[Item]:
    yield Item("Manual exposure, one aperture, not wide open.")
    yield Item("Focused once, then manual focus; stabilisation off on the tripod.")
    yield Item("Self-timer or release: hands off the camera.")
    yield Item("Raw, lossless; the full mode unless the ladder varies it.")
    varied = "noise_reduction" in methods
    yield Item(
        "Tone options and lens corrections off; high-ISO noise reduction as the ladder says."
        if varied
        else "High-ISO noise reduction, tone options and lens corrections off."
    )
    lenr = {spec.lenr for spec in specs}
    yield Item("LENR off." if lenr == {"off"} else "LENR as the list says: off first, then on.")
    if "iso" in kinds:
        yield Item("Auto ISO off; extended ISO on in the menu.")
    yield Item("White balance set once from the grey card, then fixed.")
    if any(not spec.capped for spec in specs):
        yield Item("Grey, black and white patches, saturated colours, fine texture and small print in the scene.")
        yield Item("First frame looked at: focus on the spots that matter, grey where it should be, nothing clipped.")
    if "lamp" in methods:
        yield Item("Lamp warmed up; meter beside the grey card.")
    if "nd" in methods:
        yield Item("Filters clean, their true strength entered.")
    yield Item("Full battery in, a spare at hand; card empty; clocks of body and computer agree.")
    yield Item("Room temperature noted.")


def _cautions(kinds: set[str], methods: set[str], light: str) -> Iterator[Item]:
    yield Item("Never point a lens or an optical finder at the sun or a laser.", caution=True)
    yield Item("Hot lamps burn and set cloth alight: keep clearance, never leave them.", caution=True)
    yield Item("A dark room is a trip hazard: tape the cables.", caution=True)
    if "time" in kinds:
        yield Item(
            "A body or battery too hot to hold is stopped and left to cool; follow the maker's temperature limits. A "
            "swollen battery is not used.", caution=True,
        )  # fmt: skip
        yield Item("Outdoors at night, somebody knows where you are.", caution=True)
    if "lamp" in methods:
        yield Item("Electrical set-ups follow local rules and are left to qualified people.", caution=True)
