"""Letting the simulated camera shoot what the plan still asks for."""

from __future__ import annotations

import zlib
from datetime import datetime, time, timedelta
from pathlib import Path

from django.conf import settings

from yellowjacket.bench.executor import run_all
from yellowjacket.bench.models import Body, Frame, Job, Ladder, Shot, Sitting
from yellowjacket.bench.services import jobs
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.frames import add_frame, misfit_from, note_problem
from yellowjacket.bench.workers import Release, release
from yellowjacket.core.inspection import FrameFacts
from yellowjacket.simcam.bodies import BodyModel
from yellowjacket.simcam.sensor import ExposureSettings

# The simulated sitting begins in the evening; a release and a change of settings take this long.
_BEGIN = time(20, 0)
_HANDLING_S = 5.0


def register_simulated(body: BodyModel) -> Body:
    """The simulated body in the register of bodies; made when it is not there."""
    record, _ = Body.objects.get_or_create(
        make=body.make,
        model=body.model,
        serial=body.serial,
        defaults={
            "pixel_width": body.width_px, "pixel_height": body.height_px, "lowest_iso": body.lowest_iso,
            "highest_iso": body.highest_iso, "native_lowest_iso": body.native_lowest_iso,
            "native_highest_iso": body.native_highest_iso, "fastest_shutter_s": body.fastest_shutter_s,
            "slowest_shutter_s": body.slowest_shutter_s, "simulated_as": body.key,
            "sensor_width_mm": body.sensor_width_mm, "sensor_height_mm": body.sensor_height_mm,
            "frame_mb": 2e-6 * body.width_px * body.height_px, "battery_minutes": body.battery_minutes,
            "battery_frames": body.battery_frames, "lenr_from_s": body.lenr_from_s, "iso_step": "third",
        },
    )  # fmt: skip
    return record


def start_shooting(ladder: Ladder) -> Job:
    """Start the simulated camera on everything still due. Refuses real bodies and finished ladders."""
    if not ladder.body.simulated_as:
        raise Refusal(f"{ladder.body} is a real body: shoot it by hand and import the files here.")
    if not _due(ladder):
        raise Refusal("Every shot of this ladder is in already.")
    return jobs.start(ladder.sitting, Job.Kind.SHOOT, ladder=ladder.pk)


def _due(ladder: Ladder) -> list[Shot]:
    shots = Shot.objects.filter(rung__ladder=ladder, frame__isnull=True, rung__short_by_stops=0)
    return list(shots.filter(skipped="").select_related("rung").order_by("order"))


def shoot_remaining(job: Job, progress: jobs.Progress) -> str:
    """The shooting job: release, inspect and store every shot that has no frame yet."""
    ladder = Ladder.objects.select_related("body", "sitting").get(pk=job.parameters["ladder"])
    orders = _orders(ladder)
    progress.begin(len(orders))
    taken = 0
    for order, facts in run_all(release, list(orders)):
        taken += _store(ladder.sitting, orders[order], order, facts)
        progress.step()
    return f"{taken} frame{'s' if taken != 1 else ''} shot"


def _store(sitting: Sitting, shot: Shot, order: Release, facts: FrameFacts | Exception) -> bool:
    if isinstance(facts, FrameFacts):
        return isinstance(add_frame(sitting, facts, shot), Frame)
    note_problem(sitting, Path(order.path).name, misfit_from(facts))
    return False


def _orders(ladder: Ladder) -> dict[Release, Shot]:
    """Releases for every due shot, in the order of the list, on the simulated clock."""
    folder = settings.HOME / "card" / f"sitting-{ladder.sitting_id}-ladder-{ladder.pk}"
    folder.mkdir(parents=True, exist_ok=True)
    every = Shot.objects.filter(rung__ladder=ladder).select_related("rung").order_by("order")
    due = {shot.pk for shot in _due(ladder)}
    seed = zlib.crc32(f"{ladder.body.serial}|{ladder.sitting.name}".encode())
    moment = datetime.combine(ladder.sitting.held_on, _BEGIN)
    orders = {}
    for number, shot in enumerate(every, start=1):
        moment += timedelta(seconds=_HANDLING_S + shot.rung.exposure_s)
        if shot.pk not in due:
            continue
        exposure = ExposureSettings(
            shot.rung.iso, shot.rung.exposure_s, ladder.f_number, capped=shot.kind == Shot.Kind.DARK
        )
        path = folder / f"YJ{number:05d}.DNG"
        light = shot.rung.settings(ladder.f_number)
        order = Release(
            ladder.body.simulated_as, exposure, str(path), number, moment, seed, light.lamp_stops - light.nd_stops
        )
        orders[order] = shot
    return orders
