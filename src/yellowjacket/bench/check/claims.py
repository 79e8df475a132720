"""What the files of a rung say of their own making that is not in the plan: noise reduction left on, several exposures in one
file, claims that contradict each other. What a file says comes before what its clock suggests."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Frame, Ladder, Rung
from yellowjacket.core.metadata.capture import Switch

# Bodies that decide by themselves take a dark of exposures from about here on.
_AUTO_FROM_S = 1.0
_NAMES = {"iso": "ISO", "exposure_s": "exposure time"}


@dataclass(frozen=True, slots=True)
class Claim:
    """A finding's code, the words in the sheet, and the sentence behind the file's name."""

    code: str
    short: str
    text: str


def claims_of(ladder: Ladder, rung: Rung, frames: Sequence[Frame]) -> Sequence[tuple[Sequence[Frame], Claim]]:
    """What wants a decision, once for each kind, with the frames of the rung that say it."""
    told: dict[str, tuple[list[Frame], Claim]] = {}
    for frame in frames:
        for claim in _of_frame(ladder, rung, frame):
            told.setdefault(claim.code, ([], claim))[0].append(frame)
    return tuple(told.values())


def says_lenr(frames: Sequence[Frame]) -> bool:
    """Whether the files themselves say if LENR was on: then the clock need not be asked."""
    return any(frame.lenr in (Switch.ON, Switch.OFF) for frame in frames)


def _of_frame(ladder: Ladder, rung: Rung, frame: Frame) -> Iterator[Claim]:
    if frame.lenr == Switch.ON and not rung.lenr:
        yield Claim("lenr", "LENR on", "says that LENR was on: switch it off and shoot this again")
    elif frame.lenr == Switch.AUTO and not rung.lenr and rung.exposure_s >= _AUTO_FROM_S:
        yield Claim("lenr", "LENR auto", "says that LENR was left to the body: switch it off and shoot this again")
    elif frame.lenr == Switch.OFF and rung.lenr and (ladder.body.lenr_from_s or 0) <= rung.exposure_s:
        yield Claim("lenr", "LENR off", "says that LENR was off, though the plan wants it on")
    reduces = ladder.method == Ladder.Method.NOISE_REDUCTION
    if frame.noise_reduction in (Switch.ON, Switch.AUTO) and not reduces:
        text = "says that high-ISO noise reduction was on: switch it off, as some bodies apply it to raw files too"
        yield Claim("noise-reduction", "noise reduction", text)
    if frame.several_shots:
        text = "says that it was made of several exposures: its noise is not that of one. Shoot single frames"
        yield Claim("several", "several shots", text)
    contradicted = [_NAMES.get(str(name), str(name)) for name in frame.claims.get("contradicted", ())]
    if contradicted:
        text = f"says two things of its {' and '.join(contradicted)}: enter what was set, or leave it out"
        yield Claim("contradiction", "contradicts itself", text)
