"""The library of master darks: what can be made of a sitting's darks, making them, finding one, taking it off."""

from __future__ import annotations

import hashlib
import os
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from statistics import fmean

import numpy as np
from django.conf import settings
from django.utils.text import slugify
from numpy.typing import NDArray

from yellowjacket.bench.darks import measure
from yellowjacket.bench.darks.sensor_temperature import Warmth, warmth_of
from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.intake import originals
from yellowjacket.bench.intake.problems import misfit_from, note_problem
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import Body, Frame, Job, MasterDark, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.darks.master import FEWEST_DARKS, MasterError, make_master, subtracted, with_pedestal
from yellowjacket.core.darks.matching import WARMTH_C, Fit, Match, Setting, matches
from yellowjacket.core.export.dng import CaptureData, DngImage, filters_of, write_dng
from yellowjacket.core.export.fits import Header, image_bytes, read_image
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.raw.frame import BAYER, FrameError, Layout, RawFrame


@dataclass(frozen=True, slots=True)
class Batch:
    """Darks of a sitting that would make one master: of one body, ISO, time, firmware, size and warmth."""

    body: Body
    iso: int
    exposure_s: float
    firmware: str
    temperature_c: float | None
    frames: tuple[Frame, ...]
    # Whether this very master is in the library.
    made: bool

    @property
    def key(self) -> str:
        """Name for a form: digest of the files."""
        return _digest(self.frames)

    @property
    def enough(self) -> bool:
        """Whether there are darks enough."""
        return len(self.frames) >= FEWEST_DARKS


def _digest(frames: Sequence[Frame]) -> str:
    return hashlib.sha256("".join(sorted(frame.sha256 for frame in frames)).encode()).hexdigest()


def _suffix(frames: Sequence[Frame]) -> str:
    """End of the file name of a master made of these frames."""
    return f"-{_digest(frames)[:10]}.fits"


def batches_of(sitting: Sitting) -> list[Batch]:
    """Every group of a sitting's darks, those of LENR left out: the body took a dark off them already."""
    frames = list(
        Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.DARK, shot__rung__lenr=False)
        .defer("report")
        .select_related("shot__rung__ladder__body")
        .order_by("captured_at", "pk")
    )
    warmth = warmth_of(frames)
    groups: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for frame in frames:
        if frame.shot is None:
            continue
        body = frame.shot.rung.ladder.body
        groups[body.pk, frame.iso, frame.exposure_s, frame.firmware, frame.width, frame.height].append(frame)
    names = {name[-len(_suffix(())) :] for name in MasterDark.objects.values_list("file_name", flat=True)}
    found = []
    for own in groups.values():
        for part in _by_warmth(own, {pk: one.celsius for pk, one in warmth.items()}):
            first = part[0]
            known = [warmth[frame.pk].celsius for frame in part if frame.pk in warmth]
            if first.shot is None or first.exposure_s is None:
                continue
            found.append(
                Batch(
                    first.shot.rung.ladder.body, first.iso or 0, first.exposure_s, first.firmware,
                    fmean(known) if len(known) == len(part) else None, tuple(part), _suffix(part) in names,
                )
            )  # fmt: skip
    return sorted(found, key=lambda one: (str(one.body), one.iso, one.exposure_s, one.temperature_c or 0.0))


def _by_warmth(frames: Sequence[Frame], celsius: dict[int, float]) -> list[list[Frame]]:
    """Frames apart by more than a master allows go into another one; unknown temperatures stay together."""
    known = sorted((frame for frame in frames if frame.pk in celsius), key=lambda frame: celsius[frame.pk])
    unknown = [frame for frame in frames if frame.pk not in celsius]
    parts: list[list[Frame]] = [unknown] if unknown else []
    for frame in known:
        if parts and parts[-1] is not unknown and celsius[frame.pk] - celsius[parts[-1][0].pk] <= WARMTH_C:
            parts[-1].append(frame)
        else:
            parts.append([frame])
    return parts


def hindrance_of(batches: Sequence[Batch]) -> str:
    """Why no master can be made of any of these batches and what to do, empty where one can."""
    if not batches:
        return "This sitting has no darks of a time without LENR: shoot some with the lens capped."
    if any(one.enough for one in batches):
        return ""
    most = max(len(one.frames) for one in batches)
    return (
        f"A master dark needs {FEWEST_DARKS} darks of one time and warmth, there {'are' if most > 1 else 'is'} {most} at "
        "most: plan the time ladder with more repeats."
    )


def start_making(sitting: Sitting, keys: Sequence[str]) -> Job:
    """Start averaging the named batches of a sitting, all that have darks enough where none is named."""
    batches = [one for one in batches_of(sitting) if not keys or one.key in keys]
    hindrance = hindrance_of(batches)
    if hindrance:
        raise Refusal(hindrance)
    ready = [one.key for one in batches if one.enough]
    return queue.start(sitting, Job.Kind.MASTER, batches=ready)


@handles(Job.Kind.MASTER)
def make_masters(job: Job, progress: progress_.Progress) -> str:
    """The job: one master after the other, each file whole or not at all."""
    wanted = set(job.parameters.get("batches", ()))
    batches = [one for one in batches_of(job.sitting) if one.key in wanted]
    progress.begin(len(batches))
    made = 0
    refused: list[str] = []
    for batch in batches:
        try:
            if not batch.made:
                _make(job.sitting, batch)
                made += 1
        except Refusal as refusal:
            # The others are made all the same.
            refused.append(str(refusal))
        progress.step()
    done = f"{counted(made, 'master dark')} made" if made else "no master dark was made anew"
    return ". ".join([done, *refused])


def _make(sitting: Sitting, batch: Batch) -> None:
    warmth = warmth_of(batch.frames)
    try:
        paths = [originals.path_of(frame) for frame in batch.frames]
        master = make_master(paths, [warmth[f.pk].celsius if f.pk in warmth else None for f in batch.frames])
    except (MasterError, FrameError) as error:
        if isinstance(error, FrameError):
            note_problem(sitting, error.path.name, misfit_from(error))
        raise Refusal(str(error)) from error
    body = batch.body
    black = fmean(master.black_dn.values())
    cards: Header = {
        "INSTRUME": (str(body), "camera body"), "SERIAL": (body.serial, "of the body"),
        "FIRMWARE": (batch.firmware, ""), "IMAGETYP": ("Master Dark", ""), "ISO": (batch.iso, "as set"),
        "EXPTIME": (exact_exposure_s(batch.exposure_s), "[s] exposure of each dark"),
        "CCD-TEMP": (None if master.temperature_c is None else round(master.temperature_c, 2), "[C] sensor, mean"),
        "NCOMBINE": (master.frames, "darks averaged"), "NREJECT": (master.left_out, "numbers left out"),
        "DARKSIG": (round(master.sigma_dn, 4), "[DN] noise of one dark"), "BLACK": (round(black, 3), "[DN] of the file"),
        **_filters(master.layout), "DATE-OBS": (sitting.held_on.isoformat(), ""),
        "BUNIT": ("adu", "black level included"),
    }  # fmt: skip
    history = [f"made of {frame.file_name} {frame.sha256[:16]}" for frame in batch.frames]
    data = image_bytes(master.mean, cards, [f"from the sitting {sitting.name}", *history])
    name = f"{slugify(str(body))}-iso{batch.iso}-{batch.exposure_s:g}s{_suffix(batch.frames)}"
    folder = settings.HOME / "masters"
    folder.mkdir(parents=True, exist_ok=True)
    partial = folder / f".{name}.{os.getpid()}"
    partial.write_bytes(data)
    partial.replace(folder / name)
    MasterDark.objects.update_or_create(
        file_name=name,
        defaults={
            "body": body, "iso": batch.iso, "exposure_s": batch.exposure_s, "temperature_c": master.temperature_c,
            "frames": master.frames, "left_out": master.left_out, "sigma_dn": master.sigma_dn, "black_dn": black,
            "width": master.mean.shape[1] // master.layout.samples, "height": master.mean.shape[0], "firmware": batch.firmware,
            "held_on": sitting.held_on, "origin": sitting.name, "sha256": hashlib.sha256(data).hexdigest(),
            "sources": [{"file": frame.file_name, "sha256": frame.sha256} for frame in batch.frames],
        },
    )  # fmt: skip


def _filters(layout: Layout) -> Header:
    """Colours of the filters as cards: the usual one of 2×2 mosaics; a tile's rows and its side for larger ones."""
    letters = "".join(name[0] for row in layout.tile for name in row)
    if layout.name == BAYER:
        return {"BAYERPAT": (letters, "from the upper left")}
    if not layout.coloured:
        return {"COLORTYP": ("MONOCHROME", "no colour filters")}
    if layout.demosaiced:
        return {"COLORTYP": ("RGB", "three interpolated samples a pixel, side by side")}
    return {
        "CFASIDE": (layout.step, "pixels to the side of a tile"),
        "CFAPAT": (letters, "row by row, from the upper left"),
    }


# Finding and taking off


@dataclass(frozen=True, slots=True)
class Candidate:
    """A master beside what is wanted."""

    master: MasterDark
    match: Match


def setting_of(frame: Frame) -> Setting:
    """What a light frame was taken with."""
    if frame.shot is None:
        raise Refusal(f"{frame.file_name} belongs to no shot: assign it on the Check page first.")
    warmth = warmth_of([frame]).get(frame.pk)
    iso, seconds = frame.said("iso"), frame.said("exposure_s")
    if iso is None or seconds is None:
        raise Refusal(f"{frame.file_name} does not say its ISO and exposure time: enter them on the Check page.")
    body = frame.shot.rung.ladder.body_id
    return Setting(
        str(body), (frame.width, frame.height), iso, exact_exposure_s(seconds), warmth.celsius if warmth else None
    )


def candidates(wanted: Setting, body: Body) -> list[Candidate]:
    """Masters of a body beside a wanted setting, the best first."""
    masters = {one.pk: one for one in MasterDark.objects.filter(body=body)}
    found = measure.of_body(body)
    doubling = found.whole.doubling.value if found else None
    rows = [(pk, _setting_of_master(one)) for pk, one in masters.items()]
    return [Candidate(masters[one.key], one) for one in matches(wanted, rows, doubling)]


def same_time(frames: Sequence[Frame], body: Body, known: Mapping[int, Warmth] | None = None) -> dict[int, MasterDark]:
    """By frame id the best master of the same ISO, time and size that is not of another temperature; frames without one are
    left out. ``frames``: of one body; ``known``: how warm each was, where that was asked for already."""
    rows = {one.pk: one for one in MasterDark.objects.filter(body=body)}
    if not rows:
        return {}
    settings_ = [(pk, _setting_of_master(one)) for pk, one in rows.items()]
    warmth = warmth_of(frames) if known is None else known
    found = {}
    for frame in frames:
        own = warmth.get(frame.pk)
        wanted = Setting(
            str(body.pk), (frame.width, frame.height), frame.iso or 0.0, exact_exposure_s(frame.exposure_s or 0.0),
            own.celsius if own else None,
        )  # fmt: skip
        best = next((one for one in matches(wanted, settings_) if one.fit in (Fit.FITS, Fit.UNSURE)), None)
        if best is not None:
            found[frame.pk] = rows[best.key]
    return found


def _setting_of_master(one: MasterDark) -> Setting:
    return Setting(
        str(one.body_id), (one.width, one.height), one.iso, exact_exposure_s(one.exposure_s), one.temperature_c
    )


def remove(master: MasterDark) -> None:
    """Take a master out of the library. Its row goes first: a file without a row is harmless, the other way it is not."""
    path = master.path_in(settings.HOME)
    master.delete()
    path.unlink(missing_ok=True)


def image_of(master: MasterDark) -> NDArray[np.float32]:
    """The numbers of a master. Refuses a file that is gone or was changed."""
    path = master.path_in(settings.HOME)
    try:
        if hashlib.sha256(path.read_bytes()).hexdigest() != master.sha256:
            raise Refusal(f"{master.file_name} was changed since it was made: make it again from its darks.")
        return read_image(path)
    except OSError as error:
        raise Refusal(
            f"{master.file_name} is not in the data folder any more: make it again from its darks."
        ) from error


def calibrated(frame: Frame, master: MasterDark) -> tuple[NDArray[np.float32], RawFrame, Match]:
    """A light frame less a master, in DN over zero, with the frame and how well it fits. Refuses what does not fit."""
    wanted = setting_of(frame)
    found = matches(wanted, [(master.pk, _setting_of_master(master))])
    if not found or found[0].fit == Fit.NONE:
        why = found[0].words if found else "another body or another size"
        raise Refusal(f"{master} does not fit {frame.file_name}: {why}.")
    raw = raw_frame(frame)
    ratio = found[0].time_ratio if found[0].fit == Fit.SCALED else 1.0
    return subtracted(raw, image_of(master), master.black_dn, ratio), raw, found[0]


def calibrated_fits(frame: Frame, master: MasterDark) -> bytes:
    """The calibrated frame as 32-bit FITS, its history told."""
    signal, raw, match = calibrated(frame, master)
    cards: Header = {
        "INSTRUME": (f"{frame.make} {frame.model}", "camera body"), "ISO": (frame.iso, "as set"),
        "EXPTIME": (frame.exposure_s, "[s]"), "IMAGETYP": ("Light, dark taken off", ""),
        **_filters(raw.layout), "BUNIT": ("adu", "over zero"),
    }  # fmt: skip
    return image_bytes(signal, cards, _told(frame, master, match))


def _told(frame: Frame, master: MasterDark, match: Match) -> list[str]:
    lines = [f"{frame.file_name} {frame.sha256[:16]}", f"less {master.file_name} {master.sha256[:16]}"]
    lines.append(f"{match.fit}: {match.words}")
    if match.fit == Fit.SCALED:
        lines.append(f"the dark was scaled by {match.time_ratio:.4g} after its bias was taken off")
    return lines


def write_calibrated_dng(frame: Frame, master: MasterDark, path: Path) -> None:
    """The calibrated frame as a DNG file, on its black level again."""
    signal, raw, _ = calibrated(frame, master)
    if not frame.captured_at or frame.exposure_s is None or frame.iso is None:
        raise Refusal(f"{frame.file_name} lacks its time, exposure or ISO: a DNG needs them.")
    black = fmean(raw.black_dn.values())
    capture = CaptureData(
        frame.make, frame.model, frame.serial, frame.firmware, frame.iso,
        Fraction(frame.exposure_s).limit_denominator(10_000), Fraction(frame.f_number or 0).limit_denominator(10),
        datetime.fromisoformat(frame.captured_at),
    )  # fmt: skip
    matrix = raw.xyz_to_camera if raw.xyz_to_camera is not None else np.eye(3)
    neutral = raw.neutral.tolist() if raw.neutral is not None else [1.0, 1.0, 1.0]
    mosaic = with_pedestal(signal, black, raw.white_dn)
    if raw.layout.samples > 1:
        mosaic = mosaic.reshape(mosaic.shape[0], -1, raw.layout.samples)
    write_dng(
        path,
        DngImage(
            mosaic, filters_of(raw.layout), (round(black),) * 4, round(raw.white_dn),
            matrix, neutral, capture,
        ),
    )  # fmt: skip
