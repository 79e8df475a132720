"""How the frames of a ladder are developed for looking: white balance and brightness from the grey patch, and switches."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from yellowjacket.bench.models import Frame, Ladder, Patch, Reading, Rung
from yellowjacket.bench.models.queries.readings import ReadingQuerySet, Said
from yellowjacket.core.colour.colorimetry import rgb_of
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.rendering.develop import GREY_TARGET, PLAIN, Development, gains_from_grey

BY_GREY, BY_FILE, BY_NOTHING = "from the grey patch", "the file's own", "none: the file names no neutral"
BY_CAMERA = "as the camera made it"
_STEPS, _GREY = "steps", "grey"


@dataclass(frozen=True, slots=True)
class Switches:
    """What a tester set: brightness equalised, white balance from the grey patch, push in stops, developer, black and white."""

    equalised: bool = True
    balanced: bool = True
    push_stops: float = 0.0
    developer: str = PLAIN
    monochrome: bool = False


@dataclass(frozen=True, slots=True)
class Developed:
    """How a frame is developed, by how many stops equal brightness moved it, and where its white balance is from."""

    how: Development
    moved_stops: float
    balance: str


@dataclass(frozen=True, slots=True)
class Developing:
    """What the development of a ladder's frames rests on. ``grey``: signals of the grey patch by rung id and channel;
    ``steps``: measured exposures in stops by rung id, for rungs whose grey patch clips; ``black_error_dn``: by how much
    black lies above what the files say, where that is to be corrected."""

    grey: Mapping[int, Mapping[str, float]]
    reference_id: int | None
    steps: Mapping[int, float]
    black_error_dn: Mapping[str, float] = field(default_factory=dict)

    @classmethod
    def of(cls, ladder: Ladder, rungs: Sequence[Rung] | None = None) -> Developing:
        """Fetched once for a ladder, in one query."""
        return cls.told(ladder, Reading.objects.in_one(cls.asked_of(ladder)), rungs)

    @staticmethod
    def asked_of(*ladders: Ladder) -> dict[str, ReadingQuerySet]:
        """The readings that it rests on, to be asked for with others."""
        steps = Reading.objects.filter(rung__ladder__in=ladders, quantity=Measurand.STEP_STOPS, value__isnull=False)
        return {_STEPS: steps, _GREY: _of_grey(*ladders)}

    @classmethod
    def told(
        cls, ladder: Ladder, said: Mapping[str, Iterable[Said]], rungs: Sequence[Rung] | None = None
    ) -> Developing:
        """From these readings, of the ladder alone or of others, too."""
        known = list(ladder.rungs.all()) if rungs is None else list(rungs)
        steps = {one.rung_id: one.result.value or 0.0 for one in said.get(_STEPS, ())}
        grey = _by_rung((one.rung_id, one.channel, one.result.value) for one in said.get(_GREY, ()))
        return cls(grey, ladder.reference_rung(known).pk if known else None, steps)

    def with_black(self, error_dn: Mapping[str, float]) -> Developing:
        """The same where black lies so many DN above what the files say, by channel."""
        grey = {
            rung_id: {channel: signal - error_dn.get(channel, 0.0) for channel, signal in signals.items()}
            for rung_id, signals in self.grey.items()
        }
        return replace(self, grey=grey, black_error_dn=error_dn)

    def of_frame(self, frame: Frame, rung_id: int, switches: Switches = Switches()) -> Developed:
        """How a rung's frame is developed. Without a grey patch the file's own neutral and levels serve."""
        if frame.mosaic_layout.rendered:
            return _as_it_was_made(frame, switches)
        reference, own = self.grey.get(self.reference_id or 0), self.grey.get(rung_id)
        moved, balance = 0.0, BY_GREY
        if reference is None or not switches.balanced:
            neutral = frame.neutral or [1.0, 1.0, 1.0]
            balance = BY_FILE if frame.neutral else BY_NOTHING
            grey = MID_GREY_SHARE * (frame.white_dn - max(frame.black_dn.values()))
            if reference is not None:
                grey = rgb_of(reference)[1]
            gains = np.array([GREY_TARGET / (grey * share) for share in neutral])
        else:
            gains = np.array(gains_from_grey(dict(reference)))
        if switches.equalised and reference is not None and own is not None:
            moved = float(np.log2(rgb_of(reference)[1] / rgb_of(own)[1]))
        elif switches.equalised and reference is not None and rung_id in self.steps:
            moved = -self.steps[rung_id]
        gains = gains * 2.0 ** (moved + switches.push_stops)
        how = Development(
            frame.mosaic_layout,
            {channel: black + self.black_error_dn.get(channel, 0.0) for channel, black in frame.black_dn.items()},
            (float(gains[0]), float(gains[1]), float(gains[2])), frame.xyz_to_camera, switches.developer, switches.monochrome,
        )  # fmt: skip
        return Developed(how, moved, balance)

    def clean(self, frame: Frame, switches: Switches = Switches()) -> Development:
        """How a frame of the reference rung is developed."""
        return self.of_frame(frame, self.reference_id or 0, replace(switches, push_stops=0.0)).how


def _as_it_was_made(frame: Frame, switches: Switches) -> Developed:
    """A camera's own picture: its codes as they are, pushed where that is asked for."""
    gain = 2.0**switches.push_stops / frame.white_dn
    how = Development(
        frame.mosaic_layout, dict(frame.black_dn), (gain, gain, gain), None, switches.developer, switches.monochrome
    )
    return Developed(how, 0.0, BY_CAMERA)


def grey_signals(ladder: Ladder) -> dict[int, dict[str, float]]:
    """Grey-patch signal by rung id and channel, DN above black; rungs without readings are left out."""
    return _by_rung(_of_grey(ladder).values_list("rung_id", "channel", "value"))


def _of_grey(*ladders: Ladder) -> ReadingQuerySet:
    """Through the patch, which has few readings, not through the rungs, which have as many more as there are patches."""
    rows = Reading.objects.filter(
        patch__ladder__in=ladders, patch__role=Patch.Role.GREY, quantity=Measurand.SIGNAL_DN, value__gt=0
    )
    return rows.order_by()


def _by_rung(rows: Iterable[Sequence[Any]]) -> dict[int, dict[str, float]]:
    found: dict[int, dict[str, float]] = {}
    for rung_id, channel, value in rows:
        found.setdefault(rung_id, {})[channel] = float(value)
    return {rung_id: means for rung_id, means in found.items() if _complete(means)}


def _complete(means: Mapping[str, float]) -> bool:
    """Whether every channel of its layout is there: a clipped one is not."""
    return set(means) in _WHOLE_SETS


_WHOLE_SETS = ({"R", "G1", "G2", "B"}, {"R", "G", "B"}, {"M"})
