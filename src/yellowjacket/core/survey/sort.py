"""A heap of raw files sorted into bodies and ISO settings, and what each setting gives to judge the body's habits from."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.metrology.estimate import missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.photon_transfer.accumulate import Exposures, IsoTask
from yellowjacket.core.photon_transfer.characterise import IsoFindings
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt
from yellowjacket.core.photon_transfer.iso_marks import Setting
from yellowjacket.core.raw.dark_or_light import looks_dark
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_with_metadata


@dataclass(frozen=True, slots=True)
class Card:
    """What sorting needs of a file."""

    path: str
    metadata: FrameMetadata
    dark: bool
    size: tuple[int, int]
    layout: str


def card_of(path: str) -> Card:
    """Read a file's metadata and whether light reached it, whatever its layout. Raises FrameError."""
    frame, metadata = read_with_metadata(Path(path))
    if metadata.iso is None or metadata.exposure_s is None:
        absent = "ISO" if metadata.iso is None else "exposure time"
        raise FrameError(Path(path), "metadata", f"does not say its {absent}.", "Copy the original from the card.")
    return Card(path, metadata, looks_dark(frame, metadata.exposure_s), frame.size, frame.layout.name)


@dataclass(frozen=True, slots=True)
class BodyTasks:
    """One body in one raw mode, with its work by ISO."""

    make: str
    model: str
    serial: str
    tasks: tuple[IsoTask, ...]


def sort_cards(cards: Sequence[Card]) -> tuple[BodyTasks, ...]:
    """Bodies, ISO settings and exposure times, each in order; frames in the order of the clock, then of the name."""
    bodies: dict[tuple[str, str, str, tuple[int, int], str], list[Card]] = defaultdict(list)
    for card in cards:
        data = card.metadata
        bodies[data.make, data.model, data.serial, card.size, card.layout].append(card)
    found = []
    for (make, model, serial, _, _), own in sorted(bodies.items()):
        isos = sorted({card.metadata.iso for card in own if card.metadata.iso is not None})
        tasks = tuple(IsoTask(iso, _exposures(own, iso, dark=False), _exposures(own, iso, dark=True)) for iso in isos)
        found.append(BodyTasks(make, model, serial, tasks))
    return tuple(found)


def _exposures(cards: Sequence[Card], iso: int, *, dark: bool) -> tuple[Exposures, ...]:
    groups: dict[tuple[float, float], list[Card]] = defaultdict(list)
    for card in cards:
        data = card.metadata
        if data.iso == iso and card.dark == dark and data.exposure_s is not None:
            # Light frames at another aperture are no repeats; darks do not care.
            groups[data.exposure_s, 0.0 if dark else data.f_number or 0.0].append(card)
    order = {key: sorted(group, key=_clock) for key, group in groups.items()}
    return tuple(Exposures(key[0], tuple(card.path for card in order[key])) for key in sorted(order))


def _clock(card: Card) -> tuple[bool, str, str]:
    moment = card.metadata.captured_at
    return moment is None, moment.isoformat() if moment else "", card.path


def setting_of(rung: IsoFindings) -> Setting:
    """What the habits of a body are judged from. A setting without a channel that could be read says nothing."""
    every = rung.every
    if every is None:
        return Setting(rung.iso, None, None, missing(Missing.NO_FRAME), False)
    model = (
        every.quantities[name] for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN, Measurand.READ_NOISE_E)
    )
    return Setting(
        rung.iso, every.code_use, NoiseAt(rung.iso, *model), every.quantities[Measurand.SATURATION_E],
        bool(every.cooked.flag),
    )  # fmt: skip
