"""Letting the simulated camera shoot what the plan still asks for, with mistakes to try Check on, if wanted."""

from __future__ import annotations

import zlib
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, time, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone

from yellowjacket.bench.intake.frames import add_frame
from yellowjacket.bench.intake.problems import misfit_from, note_problem
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import Body, Frame, Job, Ladder, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import shots as shots_
from yellowjacket.bench.shoot.conditions import keep_instruments, stop
from yellowjacket.bench.workers import Release, release
from yellowjacket.core.exposure.dial import ISO_MARKS, exact_exposure_s, iso_mark
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.planning.ladder import Exposure
from yellowjacket.core.raw.first_look import FrameFacts
from yellowjacket.simcam.bodies import BODIES, BodyModel
from yellowjacket.simcam.instruments import Panel, panels
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX
from yellowjacket.simcam.sensor import NOISE_REDUCTION, ExposureSettings

# The simulated sitting begins in the evening; a release and a change of settings take this long.
_BEGIN = time(20, 0)
_HANDLING_S = 5.0
_BETWEEN_LADDERS_S = 90.0
# What the simulated lamp is metered at.
_METERED = Exposure(100, 1 / 8, 8.0)
# The reduced raw modes of the simulated bodies with 2×2 tiles: of one colour each, and interpolated.
_HALF_MODE, _LINEAR_MODE = "half", "linear half"
SCOPES = ("one", "rung", "rest")
# What can go wrong, and in which words a tester knows it.
MISHAPS = {
    "skipped": "a shot forgotten", "doubled": "a shot taken twice", "iso": "a wrong ISO", "drift": "the lamp drifts",
    "nudge": "the camera nudged", "defocus": "focus lost", "lenr": "LENR left on", "jpeg": "a JPEG instead of raw",
    "soft": "soft from the start",
}  # fmt: skip
_DRIFT_STOPS, _NUDGE_PX, _DEFOCUS_PX, _SOFT_PX = -0.4, (14, -8), 1.2, 2.6
_ROOM_C = 20.0
# An endurance run that ends with more than this left was ended by heat.
_LAST_PERCENT = 3


def register_simulated(body: BodyModel) -> Body:
    """The simulated body in the register of bodies; made when it is not there.

    One that came in with files it had written gets its simulation back, and what the register did not know of it.
    """
    known: dict[str, object] = {
        "pixel_width": body.width_px, "pixel_height": body.height_px, "lowest_iso": body.lowest_iso,
        "highest_iso": body.highest_iso, "native_lowest_iso": body.native_lowest_iso,
        "native_highest_iso": body.native_highest_iso, "fastest_shutter_s": body.fastest_shutter_s,
        "slowest_shutter_s": body.slowest_shutter_s, "simulated_as": body.key,
        "sensor_width_mm": body.sensor_width_mm, "sensor_height_mm": body.sensor_height_mm,
        "frame_mb": round(2e-6 * body.width_px * body.height_px), "battery_minutes": body.battery_minutes,
        "battery_frames": body.battery_frames, "lenr_from_s": body.lenr_from_s, "iso_step": "third",
        # The simulated frames are a window of the sensor, and so are its modes.
        "raw_modes": _raw_modes(body),
    }  # fmt: skip
    named = {"make": body.make, "model": body.model, "serial": body.serial}
    record, made = Body.objects.get_or_create(**named, defaults=known)
    if not made and not record.simulated_as:
        missing = {name: value for name, value in known.items() if not getattr(record, name)}
        for name, value in missing.items():
            setattr(record, name, value)
        record.save(update_fields=list(missing))
    return record


def _raw_modes(body: BodyModel) -> list[dict[str, object]]:
    sides = {"full": 1, _HALF_MODE: 2, _LINEAR_MODE: 2} if len(body.filters) == _TILE_OF_FOUR else {"full": 1}
    return [
        {"name": name, "width": WIDTH_PX // side, "height": HEIGHT_PX // side, "bits": body.bits}
        for name, side in sides.items()
    ]


_TILE_OF_FOUR = 4


def start_shooting(
    ladder: Ladder, scope: str = "rest", mishaps: Collection[str] = (), window: tuple[int, int] | None = None
) -> Job:
    """Start the simulated camera on one shot, the rung, or everything still due.

    ``window``: (width, height) of the part that is read out, for many frames in little room.

    Refuses real bodies, finished ladders, and more than one shot before the first frame was accepted.
    """
    if not ladder.body.simulated_as:
        raise Refusal(f"{ladder.body} is a real body: shoot it by hand and import the files here.")
    if scope not in SCOPES or not set(mishaps) <= set(MISHAPS):
        raise Refusal(f"The simulated camera shoots {', '.join(SCOPES)}; it can suffer {', '.join(MISHAPS)}.")
    if not _due(ladder, scope):
        raise Refusal("Every shot of this ladder is in already.")
    # Under the cap there is nothing to look at.
    if scope != "one" and not ladder.capped and ladder.sitting.first_accepted_at is None:
        raise Refusal("Take the first shot alone, look at it and accept it; then the rest can be shot.")
    return queue.start(
        ladder.sitting, Job.Kind.SHOOT, ladder=ladder.pk, scope=scope, mishaps=sorted(mishaps), window=window
    )


def _due(ladder: Ladder, scope: str) -> list[Shot]:
    shots = [shot for shot in shots_.due(ladder.sitting) if shot.rung.ladder_id == ladder.pk]
    if scope == "one":
        return shots[:1]
    if scope == "rung":
        return [shot for shot in shots if shot.rung_id == shots[0].rung_id and shot.kind == shots[0].kind]
    return shots


@handles(Job.Kind.SHOOT)
def shoot_remaining(job: Job, progress: progress_.Progress) -> str:
    """The shooting job: release, inspect and store every shot that has no frame yet."""
    ladder = Ladder.objects.select_related("body", "sitting__lens_used").get(pk=job.parameters["ladder"])
    due = _due(ladder, job.parameters.get("scope", "rest"))
    window = job.parameters.get("window")
    planned = _orders(ladder, due, (window[0], window[1]) if window else None)
    orders = _with_mishaps(planned, job.parameters.get("mishaps", ()))
    progress.begin(len(orders))
    taken = 0
    for order, facts in run_all(release, [one.release for one in orders], here=True):
        shot = next(one.shot for one in orders if one.release is order)
        taken += _store(ladder.sitting, shot, order, facts)
        progress.step()
    keep_instruments(ladder.sitting, ladder.body, ((one.shot, one.panel) for one in planned if one.panel))
    text = f"{counted(taken, 'frame')} shot"
    if ladder.method == Ladder.Method.ENDURANCE and len(planned) < len(due):
        hot = planned and planned[-1].panel and planned[-1].panel.battery_percent > _LAST_PERCENT
        stop(ladder, "heat" if hot else "battery")
        text += ", then the body stopped"
    return text


@dataclass(frozen=True, slots=True)
class _Order:
    """A release and the shot it is for; None for what the camera writes beside the plan."""

    release: Release
    shot: Shot | None
    panel: Panel | None = None


def _store(sitting: Sitting, shot: Shot | None, order: Release, facts: FrameFacts | Exception) -> bool:
    if isinstance(facts, FrameFacts):
        return isinstance(add_frame(sitting, facts, shot), Frame)
    note_problem(sitting, Path(order.path).name, misfit_from(facts), order.path)
    return False


def _orders(ladder: Ladder, due: Sequence[Shot], window: tuple[int, int] | None) -> list[_Order]:
    """Releases for every due shot, in the order of the list, on the simulated clock."""
    folder = settings.HOME / "card" / f"sitting-{ladder.sitting_id}-ladder-{ladder.pk}"
    folder.mkdir(parents=True, exist_ok=True)
    wanted = {shot.pk for shot in due}
    # Ladders of one body are shot one after the other: no frame of theirs is the same.
    place = f"|{ladder.position}" if ladder.position else ""
    seed = zlib.crc32(f"{ladder.body.serial}|{ladder.sitting.name}{place}".encode())
    moment = datetime.combine(ladder.sitting.held_on, ladder.sitting.starts_at or _BEGIN) + _earlier(ladder)
    lamp_stops = _lamp_stops(ladder)
    rest_s = float(ladder.spec.get("rest_s", 0.0))
    retakes = Frame.objects.filter(sitting=ladder.sitting, shot=None).count()
    shots = list(Shot.objects.filter(rung__ladder=ladder).select_related("rung").order_by("order"))
    releases = []
    for shot in shots:
        seconds = exact_exposure_s(shot.rung.exposure_s)
        busy_s = seconds * (2 if _locked(ladder, shot) else 1)
        releases.append((moment, busy_s))
        moment += timedelta(seconds=_HANDLING_S + rest_s + busy_s)
    model = BODIES[ladder.body.simulated_as]
    room_c = ladder.sitting.temperature_c if ladder.sitting.temperature_c is not None else _ROOM_C
    shown = panels(
        model, releases, room_c, ladder.body.frame_mb or 0.0, one_battery=ladder.method == Ladder.Method.ENDURANCE
    )
    orders = []
    # An endurance run ends before its shots do.
    for number, (shot, panel) in enumerate(zip(shots, shown, strict=False), 1):
        if shot.pk not in wanted:
            continue
        light = shot.rung.settings(ladder.f_number)
        exposure = ExposureSettings(
            shot.rung.iso, shot.rung.exposure_s, ladder.f_number, shot.kind == Shot.Kind.DARK, panel.sensor_c,
            lenr=_locked(ladder, shot), window=window, **_special(ladder, shot.rung.value),
        )  # fmt: skip
        # A shot taken again is another frame: another file, other noise.
        path = folder / (f"YJ{number:05d}.DNG" if not retakes else f"YJ{number:05d}-{retakes}.DNG")
        order = Release(
            ladder.body.simulated_as, exposure, str(path), number + 100_000 * retakes, panel.at, seed,
            lamp_stops + light.lamp_stops - light.nd_stops,
        )  # fmt: skip
        orders.append(_Order(order, shot, panel))
    return orders


def _earlier(ladder: Ladder) -> timedelta:
    """How long the ladders before this one kept the body: its clock goes on."""
    seconds = 0.0
    before = ladder.sitting.ladders.filter(body=ladder.body_id, position__lt=ladder.position)
    for other in before.select_related("body"):
        rest_s = float(other.spec.get("rest_s", 0.0))
        for shot in Shot.objects.filter(rung__ladder=other).select_related("rung"):
            own_s = exact_exposure_s(shot.rung.exposure_s)
            seconds += own_s * (2 if _locked(other, shot) else 1) + _HANDLING_S + rest_s
        seconds += _BETWEEN_LADDERS_S
    return timedelta(seconds=round(seconds))


def _lamp_stops(ladder: Ladder) -> float:
    """On a scene along time the lamp is as dim as the metered exposure asks for; else it stays as it is."""
    if ladder.method != Ladder.Method.SCENE:
        return 0.0
    metered = Exposure(ladder.metered_iso, ladder.metered_exposure_s, ladder.f_number)
    return _METERED.level_stops - metered.level_stops


def _locked(ladder: Ladder, shot: Shot) -> bool:
    """Whether LENR holds the body after a shot."""
    from_s = ladder.body.lenr_from_s
    return shot.rung.lenr and from_s is not None and exact_exposure_s(shot.rung.exposure_s) >= from_s


def _special(ladder: Ladder, value: str) -> dict[str, Any]:
    """What a setting ladder sets on the simulated body besides the exposure."""
    word = value.strip().lower()
    if ladder.method == Ladder.Method.NOISE_REDUCTION:
        return {"smoothing": NOISE_REDUCTION.get(word, 0.0)}
    if ladder.method == Ladder.Method.BIT_DEPTH:
        digits = "".join(character for character in word if character.isdecimal())
        return {"bits": int(digits) if digits else None}
    return {"half": word == _HALF_MODE, "linear": word == _LINEAR_MODE}


def _with_mishaps(orders: list[_Order], mishaps: Sequence[str]) -> list[_Order]:
    """The same releases with what goes wrong, each mishap on a light shot of its own, a few shots apart."""
    light = [n for n, one in enumerate(orders) if one.shot is not None and one.shot.kind == Shot.Kind.LIGHT]
    if not mishaps or not light:
        return _locked_up(orders) if "lenr" in mishaps else orders
    result = list(orders)
    single = [name for name in mishaps if name not in ("drift", "lenr", "soft")]
    # The first rung stays whole: it is what the others are held against.
    free = [n for n in light if orders[n].shot.rung_id != orders[light[0]].shot.rung_id] or light  # type: ignore[union-attr]
    places = {name: free[int((k + 0.5) * len(free) / len(single))] for k, name in enumerate(single)}
    gone, extra = set(), []
    for name, at in places.items():
        order = result[at].release
        if name == "skipped":
            gone.add(at)
        elif name == "doubled":
            path = str(Path(order.path).with_stem(Path(order.path).stem + "B"))
            extra.append(_Order(replace(order, path=path, frame_number=order.frame_number + 50_000), None))
        elif name == "iso":
            wrong = iso_mark(
                order.settings.iso * 2 if order.settings.iso < ISO_MARKS[-4].nominal else order.settings.iso / 2
            )
            result[at] = _Order(replace(order, settings=replace(order.settings, iso=wrong.nominal)), None)
        elif name == "nudge":
            result[at:] = [_changed(one, shift_px=_NUDGE_PX) for one in result[at:]]
        elif name == "defocus":
            result[at] = _changed(result[at], blur_px=_DEFOCUS_PX)
        elif name == "jpeg":
            result[at] = _Order(
                replace(order, path=str(Path(order.path).with_suffix(".JPG")), jpeg=True), result[at].shot
            )
    if "drift" in mishaps:
        half = light[len(light) // 2]
        result[half:] = [_changed(one, light_stops=one.release.light_stops + _DRIFT_STOPS) for one in result[half:]]
    if "soft" in mishaps:
        result = [_changed(one, blur_px=max(one.release.blur_px, _SOFT_PX)) for one in result]
    if "lenr" in mishaps:
        result = _locked_up(result)
    return [one for n, one in enumerate(result) if n not in gone] + extra


def _changed(one: _Order, **changes: object) -> _Order:
    """The order with another release."""
    return replace(one, release=replace(one.release, **changes))  # type: ignore[arg-type]


def _locked_up(orders: list[_Order]) -> list[_Order]:
    """The clock as LENR leaves it: every exposure of a second and more holds the camera twice."""
    late, result = timedelta(), []
    for one in orders:
        result.append(_changed(one, captured_at=one.release.captured_at + late))
        seconds = exact_exposure_s(one.release.settings.exposure_s)
        late += timedelta(seconds=seconds if seconds >= 1 else 0)
    return result


def accept_without_looking(sitting: Sitting) -> None:
    """For the demo: its first frame is known to be good."""
    sitting.first_accepted_at = timezone.now()
    sitting.save(update_fields=["first_accepted_at"])
