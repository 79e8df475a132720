"""What the papers of a record show of a ladder: its limits, its rungs and readings, and crops of its frames as PNG."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.bench.compare import bodies
from yellowjacket.bench.compare.bodies import COMPARED
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.models import Frame, Ladder, Record, Rung, Use
from yellowjacket.bench.record.standing import Standing, newest_signed, standing_of
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.web import pictures


@dataclass(frozen=True, slots=True)
class LadderPart:
    """A ladder: its limits as the newest signed version has them, else today's; its signed version, or None;
    rungs with the frame that is shown of each, all frames, and how they are developed."""

    ladder: Ladder
    standing: Standing
    signed: Record | None
    records: Sequence[Record]
    rungs: Sequence[Rung]
    shown: Mapping[int, Frame]
    frames: Sequence[Frame]
    developing: Developing
    readings: Mapping[int, Sequence[Quantity | None]]

    @classmethod
    def of(cls, ladder: Ladder, uses: Sequence[Use]) -> LadderPart:
        """All that is said of a ladder, in a few queries."""
        rungs = list(ladder.rungs.all())
        found = bodies.findings_of(ladder, None)
        frames = list(Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot__rung"))
        shown: dict[int, Frame] = {}
        for frame in sorted(frames, key=lambda one: one.shot.repeat if one.shot else 0):
            if frame.shot is not None and frame.shot.kind == frame.shot.Kind.LIGHT:
                shown.setdefault(frame.shot.rung_id, frame)
        signed = newest_signed(ladder)
        return cls(
            ladder, standing_of(signed or Record(ladder=ladder, version=1), uses), signed,
            list(ladder.records.prefetch_related("decisions__use", "other_decisions")), rungs, shown, frames,
            Developing.of(ladder, rungs),
            {rung.pk: [found.get(rung.pk, {}).get(quantity) for quantity in COMPARED] for rung in rungs},
        )  # fmt: skip

    def crop(self, rung: Rung, size: tuple[int, int], use: Use | None = None) -> bytes:
        """The spot of a rung as PNG, at the size of a use or at 100 %; empty where its original is not there."""
        factor, switches = 1.0, Switches()
        if use is not None:
            factor, _ = use_noise_factor(self.ladder.body.pixels, use.whole_frame_pixels)
            switches = Switches(monochrome=use.monochrome)
        frame = self.shown.get(rung.pk)
        if frame is None:
            return b""
        centre = self.ladder.spot_in(frame.width, frame.height, max(one.width for one in self.frames))
        rect, _ = pictures.framed(frame.width, frame.height, centre, size, factor)
        try:
            return pictures.crop_png(frame, rect, self.developing.of_frame(frame, rung.pk, switches).how, factor)
        except FrameError:
            return b""
