"""A clean frame's file as another setting or body would have written it: what ``yellowjacket predict`` does."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from yellowjacket.core.export.dng import CaptureData, DngImage, filters_of, write_dng
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.prediction.from_document import body_named, dark_e, sensor_of, warmed_by
from yellowjacket.core.prediction.hot_population import HotPopulation, population_from_csv
from yellowjacket.core.prediction.predicted_mosaic import asked_for, predicted
from yellowjacket.core.prediction.sensor_at import NoPicture
from yellowjacket.core.raw.frame import FrameError, sha256_of
from yellowjacket.core.raw.reader import read_with_metadata
from yellowjacket.core.raw.rect import Rect


@dataclass(frozen=True, slots=True)
class PredictTask:
    """``clean``: the file; ``document``: a characterisation that holds the body that took it; ``body``: the (make, model) it is
    to look as taken by, None the same. ``iso``: at which it is exposed correctly, ``stops_less`` under that; ``push_stops``:
    for the converter; ``seconds``: of a long exposure, at ``celsius``; ``hot_pixels``: a table of them, as CSV."""

    clean: str
    document: Mapping[str, Any]
    out: str
    iso: int
    body: tuple[str, str] | None = None
    stops_less: float = 0.0
    push_stops: float = 0.0
    seconds: float | None = None
    celsius: float | None = None
    hot_pixels: str = ""


@dataclass(frozen=True, slots=True)
class PredictedFile:
    """What was written: the share of it where the clean frame clips, and that a body's colours are not known."""

    clipped: float
    other_body: bool


def _population(path: Path, size: tuple[int, int]) -> HotPopulation:
    try:
        return population_from_csv(path.read_text(encoding="utf-8"), size)
    except (OSError, UnicodeDecodeError) as error:
        raise FrameError(path, "unreadable", f"cannot be read: {error}.", "Give a table as CSV.") from error
    except ValueError as error:
        remedy = "Use the table of the Time page or of characterise --hot-pixels, of frames of the same size."
        raise FrameError(path, "no-hot-pixels", f"{error}.", remedy) from error


def predict_file(task: PredictTask) -> PredictedFile:
    """Write the predicted frame. Raises FrameError for a file that cannot be read or used, naming why."""
    path = Path(task.clean)
    frame, said = read_with_metadata(path)
    try:
        if said.iso is None:
            raise NoPicture(Note(Missing.CLEAN_WITHOUT_ISO))
        own = body_named(task.document, said.make, said.model)
        wanted = body_named(task.document, *task.body) if task.body else own
        sensor = sensor_of(own)
        dark = dark_e(wanted, task.seconds, task.celsius) if task.seconds else 0.0
        clean = sensor.at(said.iso)
        asked = asked_for(sensor, clean, sensor_of(wanted), task.iso, task.stops_less, dark)
        if task.hot_pixels and task.seconds:
            size = (frame.mosaic.shape[1], frame.mosaic.shape[0])
            population = _population(Path(task.hot_pixels), size)
            warmed = task.seconds * warmed_by(wanted, task.celsius)
            asked = replace(asked, hot=(population.within(Rect(0, 0, *size), size, warmed, 0),))
        seed = int.from_bytes(hashlib.sha256(f"{sha256_of(path)} {task}".encode()).digest()[:8])
        picture = predicted(frame.mosaic, (0, 0), frame.layout, asked, seed)
    except NoPicture as error:
        raise FrameError(path, "no-picture", f"cannot be predicted from: {error}.", "") from error
    target = asked.target
    tags = [target.tag_dn[name] for row in frame.layout.tile for name in row]
    less = min(asked.light.values())
    exposure = task.seconds or (said.exposure_s or 1.0) * less
    capture = CaptureData(
        str(wanted["make"]), str(wanted["model"]), str(wanted.get("serial", "")), "predicted", task.iso,
        Fraction(exposure).limit_denominator(100_000), Fraction(said.f_number or 0).limit_denominator(10),
        said.captured_at or datetime(1970, 1, 1), task.celsius,  # noqa: DTZ001 - naive like a body's clock
    )  # fmt: skip
    black = tuple(round(one) for one in (tags if len(tags) == 4 else tags[:1] * 4))
    matrix = frame.xyz_to_camera if frame.xyz_to_camera is not None else np.eye(3)
    neutral = frame.neutral.tolist() if frame.neutral is not None else [1.0, 1.0, 1.0]
    image = DngImage(
        picture.mosaic, filters_of(frame.layout), (black[0], black[1], black[2], black[3]), round(target.clip_dn), matrix,
        neutral, capture, push_stops=task.push_stops,
    )  # fmt: skip
    write_dng(Path(task.out), image)
    return PredictedFile(picture.clipped, wanted is not own)
