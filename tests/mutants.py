"""Damaged files of every kind: each comes back as readings or as a clear line, none stops the others or the program.

``python -m tests.mutants --count 2000`` mutates raw files, pictures, archives, plans, profiles, curves and tables; some of
them run among the tests.
"""

from __future__ import annotations

import argparse
import collections
import io
import json
import random
import struct
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image

from tests import making
from yellowjacket.bench.jobs.executor import frame_error, run_all
from yellowjacket.core.limits.foreign_curves import QUANTITIES, ForeignError, read_curve
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.limits.tolerance_file import ProfileFileError, profile_document, read_profile
from yellowjacket.core.planning.body_limits import BodyLimits, PlanError
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import PlanFileError, PlannedFor, plan_document, read_plan
from yellowjacket.core.raw.first_look import FrameFacts, inspect_file
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.renditions.picture import RenderedTask, measure_rendered
from yellowjacket.core.survey.single_frame import FrameTask, measure_file
from yellowjacket.core.survey.temperature_table import temperatures_of

Change = Callable[[bytearray, random.Random], bytearray]
ODD_TEXT = ("NaN", "Infinity", "-1", "1e400", "null", '"x"', "[]", "{}", "9" * 400, '"\\u0000"', "true", "-5", "0")


def flipped(data: bytearray, rng: random.Random) -> bytearray:
    """Some bytes are others; more of them near the head, where the claims stand."""
    for _ in range(rng.choice((1, 4, 32, 256))):
        reach = min(len(data), 2048) if rng.random() < 0.7 else len(data)
        data[rng.randrange(reach)] = rng.randrange(256)
    return data


def cut(data: bytearray, rng: random.Random) -> bytearray:
    """Cut short anywhere."""
    return data[: rng.randrange(len(data))]


def stretched(data: bytearray, rng: random.Random) -> bytearray:
    """A piece stands twice, or is missing."""
    at, size = rng.randrange(len(data)), rng.choice((1, 7, 512, 4096))
    return data[:at] + data[at : at + size] * rng.choice((0, 2, 5)) + data[at + size :]


def claimed(data: bytearray, rng: random.Random) -> bytearray:
    """A number of two or four bytes in the head claims something extreme."""
    at = rng.randrange(0, min(len(data) - 8, 2048), 2)
    if rng.random() < 0.5:
        struct.pack_into("<I", data, at, rng.choice((0, 1, 0xFFFFFFFF, 0x7FFFFFFF, 0x80000000, 65536)))
    else:
        struct.pack_into("<H", data, at, rng.choice((0, 1, 0xFFFF, 0x7FFF, 12, 5)))
    return data


CHANGES: tuple[Change, ...] = (flipped, flipped, cut, stretched, claimed, claimed)


def swapped(text: str, rng: random.Random) -> str:
    """A value of a text is another, or the text is damaged."""
    if rng.random() < 0.3:
        return bytes(flipped(bytearray(text.encode()), rng)).decode("utf-8", "replace")
    parts = text.split(rng.choice((",", ":")))
    if len(parts) > 1:
        parts[rng.randrange(len(parts))] = rng.choice(ODD_TEXT)
    return (", " if "," in text else ":").join(parts)


ODD_VALUES = (
    float("nan"), float("inf"), -1, 0, 10**400, -(10**19), 1e300, None, True, "x", "\0", "9" * 400, [], {}, [[1]], [None] * 3,
    {"a": 1}, [1, 2, 3], [-5, 0, 3], 1e11, -0.0,
)  # fmt: skip


def rewritten(text: str, rng: random.Random) -> str:
    """A JSON text in which one value is another, is gone, or is nested without end."""
    document = json.loads(text)
    places = [(document, key) for key in document]
    for holder, key in places:
        value = holder[key]
        if isinstance(value, dict):
            places += [(value, inner) for inner in value]
        elif isinstance(value, list):
            places += [(value, n) for n in range(len(value))]
    holder, key = rng.choice(places)
    if rng.random() < 0.15:
        del holder[key]
    else:
        holder[key] = rng.choice(ODD_VALUES)
    written = json.dumps(document)
    return written if rng.random() > 0.05 else written.replace(":", ":" + "[" * 5000, 1)


def sources(folder: Path) -> dict[str, Path]:
    """An honest file of every kind that is decoded."""
    rng = np.random.default_rng(1)
    frame = making.write(folder / "honest.dng", making.shot(100, rng))
    picture = (120 + rng.normal(0, 9, (96, 128, 3))).clip(0, 255).astype(np.uint8)
    found = {"raw": frame}
    for kind in ("jpg", "png", "tif", "heif"):
        found[kind] = folder / f"honest.{kind}"
        Image.fromarray(picture).save(found[kind])
    return found


def of_raw(path: str) -> str:
    """Import, measurement and characterisation of one file."""
    fine = isinstance(inspect_file(path), FrameFacts)
    measure_file(FrameTask(path, None, ()))
    return "read" if fine else "odd"


def of_picture(path: str) -> str:
    """Measurement of a picture."""
    measure_rendered(RenderedTask(path, None, ()))
    return "read"


# What a reader may answer with, each a sentence; anything else is a defect.
REFUSALS: dict[str, tuple[type[Exception], ...]] = {
    "plan": (PlanFileError, PlanError, json.JSONDecodeError, RecursionError),
    "profile": (ProfileFileError, json.JSONDecodeError, RecursionError), "curve": (ForeignError,), "table": (ValueError,),
}  # fmt: skip
BODY = BodyLimits(100, 102400, 100, 102400, 1 / 8000, 30.0)


def of_text(kind: str, text: str) -> str:
    """A plan, profile, curve or table; what is refused is refused with a sentence."""
    try:
        if kind == "plan":
            for one in read_plan(json.loads(text))[2]:
                plan_ladder(one.spec, BODY)
        elif kind == "profile":
            read_profile(json.loads(text))
        elif kind == "curve":
            read_curve(text, "read_noise", "e-")
        else:
            temperatures_of(text, "t.csv")
    except REFUSALS[kind] as error:
        return type(error).__name__
    return "read"


def texts() -> dict[str, str]:
    """An honest text of every kind."""
    spec = LadderSpec("iso", "shutter", Exposure(100, 1 / 8, 8.0), picked=(100.0, 200.0, 400.0))
    assert "read_noise" in QUANTITIES
    return {
        "plan": json.dumps(plan_document("p", [PlannedFor("Ostrel", "Heath", "", spec)], "settings")),
        "profile": json.dumps(profile_document(profile_from("own", {"shadow_snr": [20, 8, 4]}))),
        "curve": "ISO,read noise (e-)\n100,6.1\n200,5.0\n400,3.2\n",
        "table": "file,temperature_c\nA.DNG,21.5\nB.DNG,\"22,5\"\n",
    }  # fmt: skip


def zips(count: int, rng: random.Random) -> collections.Counter[str]:
    """Damaged zip files against the reader of backups and archives."""
    from yellowjacket.backup import FORMAT, UNREADABLE, extract_into, read_manifest

    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        digest = "2c26b46b68ffc68ff99b453c1d30413413422d706483bfa0f98a5e886266e7ae"
        archive.writestr("folders.txt", "foo")
        entry = {"path": "folders.txt", "size": 3, "sha256": digest}
        archive.writestr("manifest.json", json.dumps({"format": FORMAT, "home": "/x", "files": [entry]}))
    found: collections.Counter[str] = collections.Counter()
    for _ in range(count):
        data = rng.choice(CHANGES)(bytearray(buffer.getvalue()), rng)
        try:
            with zipfile.ZipFile(io.BytesIO(bytes(data))) as archive:
                for one in read_manifest(archive, "a.zip", FORMAT)["files"]:
                    extract_into(archive, one, io.BytesIO())
            found["zip read"] += 1
        except UNREADABLE as error:
            found[f"zip {type(error).__name__}"] += 1
    return found


def run_mutants(folder: Path, count: int, seed: int) -> dict[str, int]:
    """What became of mutants, by kind and outcome. Raises AssertionError for an outcome that is no clear line."""
    rng = random.Random(seed)
    found: collections.Counter[str] = collections.Counter()
    decoded: dict[str, list[str]] = {"raw": [], "picture": []}
    honest = sources(folder)
    for n in range(count // 2):
        kind = rng.choice(("raw", "raw", "raw", *[key for key in honest if key != "raw"]))
        data = rng.choice(CHANGES)(bytearray(honest[kind].read_bytes()), rng)
        path = folder / f"m{n}{honest[kind].suffix}"
        path.write_bytes(data)
        decoded["raw" if kind == "raw" else "picture"].append(str(path))
    for kind, function in (("raw", of_raw), ("picture", of_picture)):
        for path, outcome in run_all(function, decoded[kind]):
            if isinstance(outcome, Exception):
                line = frame_error(Path(path), outcome)
                assert isinstance(line, FrameError)
                assert line.reason
                assert line.remedy
                found[f"{kind} {line.code}"] += 1
            else:
                found[f"{kind} {outcome}"] += 1
            Path(path).unlink(missing_ok=True)
    every = texts()
    for _ in range(count // 4):
        kind = rng.choice(sorted(every))
        change = rewritten if kind in ("plan", "profile") and rng.random() < 0.8 else swapped
        found[f"{kind} {of_text(kind, change(every[kind], rng))}"] += 1
    return dict(found + zips(count - count // 2 - count // 4, rng))


def main() -> None:
    """From the command line."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    begin = time.monotonic()
    with tempfile.TemporaryDirectory() as place:
        found = run_mutants(Path(place), arguments.count, arguments.seed)
    print(json.dumps({"seconds": round(time.monotonic() - begin)} | dict(sorted(found.items())), indent=1))


if __name__ == "__main__":
    main()
