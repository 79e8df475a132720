"""Inspecting, measuring, characterising and simulating from the command line: the same core, no database, no plan.

Exit codes: 0 all fine, 1 nothing measurable, 2 usage, 3 some files failed (listed on stderr and under ``problems``).
"""

from __future__ import annotations

import argparse
import csv
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import TypeVar

from tqdm import tqdm

from yellowjacket.bench.jobs.executor import frame_error, run_all
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.darks.exposure_group import measure_time
from yellowjacket.core.darks.hot_pixels import HotPixel
from yellowjacket.core.limits.tolerance import Profile, profile_from
from yellowjacket.core.limits.tolerance_file import read_profile
from yellowjacket.core.metrology.document import Document
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.photon_transfer.accumulate import IsoTask
from yellowjacket.core.photon_transfer.characterise import IsoFindings, characterise_iso
from yellowjacket.core.planning.body_limits import BodyLimits, PlanError
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import read_plan
from yellowjacket.core.planning.shot_order import shots_of
from yellowjacket.core.prediction.from_document import bodies_of
from yellowjacket.core.raw.frame import BAYER, PICTURE_SUFFIXES, FrameError
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.renditions.picture import RenderedTask, measure_rendered
from yellowjacket.core.survey.dark_series import FoundDarks, conclude, dark_task
from yellowjacket.core.survey.documents import (
    body_document,
    characterisation,
    dark_document,
    ladder_documents,
    limit_document,
)
from yellowjacket.core.survey.exposure_ladders import (
    exposure_ladder,
    exposure_tasks,
    fixed_light,
    fixed_noise,
    iso_against_push,
)
from yellowjacket.core.survey.file_report import inspection, lines_of, report_of
from yellowjacket.core.survey.found_sittings import could_be_frame
from yellowjacket.core.survey.iso_ladders import FoundIsoLimits, iso_ladder_task, iso_limits, measured_rung
from yellowjacket.core.survey.predicted_file import PredictTask, predict_file
from yellowjacket.core.survey.single_frame import FrameTask, NamedRect, measure_file, measurement
from yellowjacket.core.survey.sort import BodyTasks, Card, card_of, sort_cards
from yellowjacket.core.survey.temperature_table import read_temperatures
from yellowjacket.simcam.bodies import BODIES, BodyModel
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings, Lamp
from yellowjacket.simcam.truth import truth_of

# From this share on, what a clean frame cannot tell is worth a word.
_CLIPPED_SHARE = 0.001
FINE, NOTHING, USAGE, SOME_FAILED = 0, 1, 2, 3
Item = TypeVar("Item")
Result = TypeVar("Result")


class UsageError(ValueError):
    """The command line asks for something that cannot be."""


def _guarded(command: Callable[[argparse.Namespace], int]) -> Callable[[argparse.Namespace], int]:
    def run(arguments: argparse.Namespace) -> int:
        try:
            return command(arguments)
        except (UsageError, Refusal) as error:
            print(f"yellowjacket: {error}", file=sys.stderr)
            return USAGE

    return run


def command(name: str) -> Callable[[argparse.Namespace], int]:
    """The command of this name, as file_arguments has it."""
    found = {
        "inspect": _inspect, "measure": _measure, "characterise": _characterise, "predict": _predict,
        "simulate": _simulate,
    }  # fmt: skip
    return _guarded(found[name])


# What the commands share.


def _work(function: Callable[[Item], Result], items: Sequence[Item], label: str, path_of: Callable[[Item], str],
          problems: list[FrameError]) -> list[Result]:  # fmt: skip
    """Run over worker processes with a bar on a terminal; what failed goes to ``problems``."""
    results: list[Result] = []
    bar = tqdm(total=len(items), desc=label, file=sys.stderr, disable=not sys.stderr.isatty(), leave=False)
    for item, outcome in run_all(function, items):
        bar.update()
        if isinstance(outcome, Exception):
            problems.append(frame_error(Path(path_of(item)), outcome))
        else:
            results.append(outcome)
    bar.close()
    return results


def _exit(measured: bool, problems: Sequence[FrameError]) -> int:
    for one in problems:
        print(f"yellowjacket: {one}", file=sys.stderr)
    if not measured:
        return NOTHING
    return SOME_FAILED if problems else FINE


def _print_json(document: Document) -> None:
    json.dump(document, sys.stdout, indent=1, ensure_ascii=False, allow_nan=False)
    sys.stdout.write("\n")


def _text(found: Document, digits: int = 3) -> str:
    """A quantity in a line: value and interval, or a dash."""
    if found["value"] is None:
        return "–"
    low, high = found["low"], found["high"]
    interval = f" ({low:.{digits}g}–{high:.{digits}g})" if low is not None and high is not None and low != high else ""
    return f"{found['value']:.{digits + 1}g}{interval}"


# inspect


def _inspect(arguments: argparse.Namespace) -> int:
    problems: list[FrameError] = []
    reports = _work(report_of, [str(path) for path in arguments.files], "looking", str, problems)
    if arguments.json:
        _print_json(inspection(reports))
    else:
        for report in reports:
            print("\n".join(lines_of(report)))
    barred = [one for one in reports if one["problem"]]
    if len(barred) == len(reports):
        return NOTHING
    return _exit(True, [*problems, *(FrameError(Path(one["file"]), "problem", one["problem"], "") for one in barred)])


# measure


def _measure(arguments: argparse.Namespace) -> int:
    patches = tuple(_named_rect(text) for text in arguments.patch)
    missing = [path for path in arguments.files if not path.is_file()]
    if missing:
        raise UsageError(f"there is no file {missing[0]}")
    problems: list[FrameError] = []
    paths = [str(path) for path in arguments.files]
    pictures = [path for path in paths if path.lower().endswith(PICTURE_SUFFIXES)]
    paths = [path for path in paths if path not in pictures]
    cards = {card.path: card for card in _work(card_of, paths, "looking", str, problems)}
    partners = _partners(list(cards.values()))
    tasks = [FrameTask(path, partners.get(path), patches) for path in paths if path in cards]
    frames = _work(measure_file, tasks, "measuring", lambda task: task.path, problems)
    # Two rendered pictures named together are a pair: nothing else in them says so.
    other = dict(zip(pictures, pictures[::-1], strict=True)) if len(pictures) == 2 else {}
    named = tuple((patch.name, patch.rect) for patch in patches)
    looks = [RenderedTask(path, other.get(path), named) for path in pictures]
    rendered = _work(measure_rendered, looks, "measuring", lambda task: task.path, problems)
    if arguments.json:
        _print_json(measurement(frames, rendered, problems))
    else:
        for frame in frames:
            _print_frame(frame)
        for picture in rendered:
            _print_rendered(picture)
    return _exit(bool(frames or rendered), problems)


def _named_rect(text: str) -> NamedRect:
    name, _, numbers = text.partition("=")
    try:
        x, y, w, h = (int(number) for number in numbers.split(","))
    except ValueError as error:
        raise UsageError(f"a patch is NAME=x,y,w,h in whole pixels, not {text!r}") from error
    if not name or w < 1 or h < 1:
        raise UsageError(f"a patch needs a name and a size, not {text!r}")
    return NamedRect(name, Rect(x, y, w, h))


def _partners(cards: Sequence[Card]) -> dict[str, str]:
    """For each file the one that pairs with it: the next of the same settings, the last with the one before."""
    found: dict[str, str] = {}
    for body in sort_cards(cards):
        for task in body.tasks:
            for group in (*task.light, *task.dark):
                for n, path in enumerate(group.paths):
                    if len(group.paths) > 1:
                        found[path] = group.paths[n + 1] if n + 1 < len(group.paths) else group.paths[n - 1]
    return found


def _print_rendered(picture: Document) -> None:
    print(f"{picture['file']}: rendered, {picture['width']} × {picture['height']} px; display units, never beside raw")
    for patch in picture["patches"]:
        print(f"  {patch['name']:12} L* {_text(patch['lightness'])}  noise L* {_text(patch['noise_luma'])}  "
              f"chroma {_text(patch['noise_chroma'])}")  # fmt: skip


def _print_frame(frame: Document) -> None:
    settings = f"ISO {frame['iso']}, {frame['exposure_s']:g} s" if frame["exposure_s"] else f"ISO {frame['iso']}"
    kind = "dark" if frame["dark"] else "light"
    print(
        f"{frame['file']}: {frame['make']} {frame['model']}, {settings}, {frame['width']} × {frame['height']}, {kind}"
    )
    if not frame["patches"]:
        print("  no uniform area found: name patches with --patch")
    for patch in frame["patches"]:
        print(f"  {patch['name']} at {patch['x']},{patch['y']} {patch['w']} × {patch['h']}")
        for name, channel in patch["channels"].items():
            cells = "  ".join(
                f"{key.removesuffix('_dn')} {_text(channel[key])}" for key in ("signal_dn", "noise_dn", "snr")
            )
            print(f"    {name:2}  {cells}")


# characterise


def _characterise(arguments: argparse.Namespace) -> int:
    uses = dict(_use(text) for text in arguments.use)
    temperatures, profile = _temperatures(arguments.temperatures), _profile(arguments.profile)
    files = _files_in(arguments.folders)
    problems: list[FrameError] = []
    cards = _work(card_of, files, "looking", str, problems)
    documents: list[Document] = []
    pixels: list[tuple[BodyTasks, HotPixel, float | None]] = []
    for body in sort_cards(cards):
        rungs = _work(characterise_iso, list(body.tasks), f"{body.make} {body.model}", _first_path, problems)
        problems += [error for rung in rungs for error in rung.problems]
        document = body_document(body.make, body.model, body.serial, _in_order(rungs), uses)
        darks = _darks(body.tasks, rungs, temperatures, profile, problems)
        limits = _iso_limits(body.tasks, rungs, uses, document["avoid"], profile, problems)
        pixels += [(body, one, rate) for one, rate in (darks.pixels if darks else ())]
        ladders = _ladders(body.tasks, rungs, profile, problems)
        documents.append(document | limit_document(limits, profile) | ladders | dark_document(darks))
    if arguments.hot_pixels:
        _write_pixels(arguments.hot_pixels, pixels)
    measured = any(
        rung["all"][name]["value"] is not None
        for document in documents for rung in document["isos"] for name in ("gain_e_per_dn", "read_noise_dn")
    )  # fmt: skip
    if arguments.json:
        _print_json(characterisation(documents, problems))
    else:
        for document in documents:
            _print_body(document)
    return _exit(measured, problems)


def _profile(path: Path | None) -> Profile:
    if path is None:
        return Profile("default")
    try:
        return profile_from(*read_profile(json.loads(path.read_text(encoding="utf-8"))))
    except (OSError, ValueError) as error:
        raise UsageError(f"{path}: {error}") from error


def _iso_limits(
    tasks: Sequence[IsoTask], rungs: Sequence[IsoFindings], uses: dict[str, int], avoid: Sequence[Document], profile: Profile,
    problems: list[FrameError],
) -> FoundIsoLimits | None:  # fmt: skip
    """Limits along ISO of the pairs that were metered alike."""
    bayer = [rung.iso for rung in rungs if rung.layout == BAYER]
    extended = [one["iso"] for one in avoid if one["habit"] == Remark.LOW_EXTENDED.name]
    chosen = [task for task in tasks if task.iso in bayer]
    try:
        task = iso_ladder_task(chosen, uses, extended)
        if task is None:
            return None
        results = _work(measured_rung, list(task.rungs), "limits", lambda one: one.light[0], problems)
        found = iso_limits(task, results, profile, list(uses)) if results else None
    except FrameError as error:
        problems.append(error)
        return None
    problems += found.problems if found else ()
    return found


def _ladders(
    tasks: Sequence[IsoTask], rungs: Sequence[IsoFindings], profile: Profile, problems: list[FrameError]
) -> Document:
    """Exposure ladders and ISO settings of one light among a body's frames; the longest exposure ladder speaks."""
    bayer = [rung.iso for rung in rungs if rung.layout == BAYER]
    tasks = [task for task in tasks if task.iso in bayer]
    exposed = sorted(exposure_tasks(tasks), key=lambda task: -len(task.light))[:1]
    found = _work(partial(exposure_ladder, profile=profile), exposed, "exposure ladder", _first_path, problems)
    light = fixed_light(tasks)
    shared = _work(fixed_noise, [light] if light else [], "one light", lambda one: one.pairs[0][1][0], problems)
    models = {rung.iso: rung.every.quantities for rung in rungs if rung.every is not None}
    costs, invariance = iso_against_push(models, shared[0] if shared else {})
    return ladder_documents(found[0] if found else None, costs, invariance)


def _temperatures(path: Path | None) -> dict[str, float]:
    if path is None:
        return {}
    try:
        return read_temperatures(path)
    except (OSError, ValueError) as error:
        raise UsageError(str(error)) from error


def _darks(
    tasks: Sequence[IsoTask], rungs: Sequence[IsoFindings], temperatures: dict[str, float], profile: Profile,
    problems: list[FrameError],
) -> FoundDarks | None:  # fmt: skip
    """Dark current and hot pixels of the ISO with the most dark exposure times."""
    models = {rung.iso: rung.every.quantities for rung in rungs if rung.every is not None}
    bayer = [rung.iso for rung in rungs if rung.layout == BAYER]
    task = dark_task([task for task in tasks if task.iso in bayer], models, temperatures)
    if task is None:
        return None
    measured = _work(measure_time, task.times(), "darks", lambda one: one.group.paths[0], problems)
    problems += [error for one in measured for error in one.problems]
    return conclude(task, measured, profile.long_exposure) if measured else None


def _write_pixels(path: Path, pixels: Sequence[tuple[BodyTasks, HotPixel, float | None]]) -> None:
    """Hot, warm, stuck and dead pixels as rows; coordinates in the full raw frame."""
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(("x", "y", "channel", "class", "e_per_s", "excess_dn", "spreads", "make", "model", "serial"))
        for body, one, rate in pixels:
            values = ("" if rate is None else f"{rate:.4g}", f"{one.excess_dn:.4g}", f"{one.spreads:.3g}")
            writer.writerow((one.x, one.y, one.channel, one.kind, *values, body.make, body.model, body.serial))


def _in_order(rungs: Iterable[IsoFindings]) -> list[IsoFindings]:
    return sorted(rungs, key=lambda rung: rung.iso)


def _first_path(task: IsoTask) -> str:
    groups = (*task.light, *task.dark)
    return groups[0].paths[0] if groups else f"ISO {task.iso}"


def _use(text: str) -> tuple[str, int]:
    name, _, pixels = text.partition("=")
    if not name or not pixels.isdecimal() or int(pixels) < 1:
        raise UsageError(f"a use is NAME=pixels, not {text!r}")
    return name, int(pixels)


def _files_in(folders: Sequence[Path]) -> list[str]:
    """Every file below the folders that could be a frame; hidden ones and notes are passed over."""
    found: list[str] = []
    for folder in folders:
        if folder.is_file():
            found.append(str(folder))
            continue
        if not folder.is_dir():
            raise UsageError(f"there is no folder {folder}")
        for path in sorted(folder.rglob("*")):
            hidden = any(part.startswith(".") for part in path.relative_to(folder).parts)
            if path.is_file() and not hidden and could_be_frame(path.name):
                found.append(str(path))
    if not found:
        raise UsageError("these folders hold no files that could be frames")
    return found


def _print_body(document: Document) -> None:
    print(f"{document['make']} {document['model']} {document['serial']}".strip())
    for rung in document["isos"]:
        every = rung["all"]
        flags = [name for name, key in (("cooked", "cooked"), ("digital", "digital_iso")) if every[key]["flag"]]
        cells = (
            f"gain {_text(every['gain_e_per_dn'])} e⁻/DN", f"read noise {_text(every['read_noise_e'])} e⁻",
            f"saturation {_text(every['saturation_e'])} e⁻", f"range {_text(every['dynamic_range_stops']['snr1'])} stops",
        )  # fmt: skip
        print(f"  ISO {rung['iso']:6}  " + "  ".join(cells) + ("  [" + ", ".join(flags) + "]" if flags else ""))
    for use, levels in document["limits"].items():
        said = ", ".join(f"{level} {_mark(limit)}" for level, limit in levels.items())
        print(f"  highest ISO, {use}: {said}")
    base = document["second_base_iso"]
    print(f"  second base ISO: {base['value']:g}" if base["value"] else f"  second base ISO: none ({base['reason']})")
    for name, key in (
        ("push", "push_limit_stops"),
        ("pull", "pull_limit_stops"),
        ("invariant from ISO", "invariant_from_iso"),
    ):
        limit = document[key]
        print(f"  {name}: {_text(limit)}" + (f", {limit['reason']}" if limit.get("reason") else ""))
    if document["dark"]:
        dark = document["dark"]
        print(f"  dark current at ISO {dark['iso']}: {_text(dark['current_e_per_s'])} e⁻/s, "
              f"doubling every {_text(dark['doubling_c'])} °C; longest usable {_text(dark['longest_usable_s'])} s")  # fmt: skip
        for fault in dark["faults"]:
            print(f"    {fault['reason']}")


def _mark(limit: Document) -> str:
    if limit["mark"] is None:
        return "none"
    return f"{'at least ' if limit['at_least'] else ''}{limit['mark']}"


# simulate


def _simulate(arguments: argparse.Namespace) -> int:
    body = BODIES[arguments.body]
    shots = _plan_shots(body, arguments.plan) if arguments.plan else _ladder_shots(body, arguments.iso_ladder)
    arguments.out.mkdir(parents=True, exist_ok=True)
    moment = datetime(2026, 3, 14, 20, 0)  # noqa: DTZ001 - the invented body's own clock
    files: list[Document] = []
    for number, (settings, light_stops) in enumerate(tqdm(shots, file=sys.stderr, disable=not sys.stderr.isatty()), 1):
        asked = replace(settings, half=arguments.raw_mode == "half", linear=arguments.raw_mode == "linear")
        camera = SimulatedCamera(body, arguments.seed, Lamp(ev100=Lamp().ev100 + light_stops))
        path = arguments.out / f"YJ{number:05d}.DNG"
        try:
            camera.shoot(asked, path, number, moment)
        except ValueError as error:
            raise UsageError(str(error)) from error
        files.append(
            {"file": path.name, "iso": settings.iso, "exposure_s": settings.exposure_s, "capped": settings.capped}
        )
        moment += timedelta(seconds=settings.exposure_s + 5)
    truth = truth_of(body, sorted({round(settings.iso) for settings, _ in shots})) | {"files": files}
    (arguments.out / "truth.json").write_text(json.dumps(truth, indent=1, ensure_ascii=False) + "\n")
    print(f"{len(shots)} frames and truth.json in {arguments.out}")
    return FINE


def _predict(arguments: argparse.Namespace) -> int:
    try:
        document = json.loads(arguments.body.read_text())
        bodies = bodies_of(document)
    except (OSError, ValueError, RecursionError) as error:
        raise UsageError(f"{arguments.body}: {error}") from error
    named = [one for one in bodies if one.get("model") == arguments.model]
    if arguments.model and not named:
        models = ", ".join(str(one.get("model")) for one in bodies) or "no body"
        raise UsageError(f"--as: {arguments.body} holds {models}, not {arguments.model}")
    body = (str(named[0].get("make")), arguments.model) if named else None
    if arguments.out.resolve() == arguments.clean.resolve():
        raise UsageError("--out: the clean frame is never written over")
    if arguments.hot_pixels and not arguments.seconds:
        raise UsageError("--hot-pixels: say with --seconds how long the exposure is")
    problems: list[FrameError] = []
    task = PredictTask(
        str(arguments.clean), document, str(arguments.out), arguments.iso, body, arguments.stops_less, arguments.push,
        arguments.seconds, arguments.celsius, str(arguments.hot_pixels or ""),
    )  # fmt: skip
    written = _work(predict_file, [task], "predicting", lambda one: one.clean, problems)
    for one in written:
        print(f"{arguments.out}: as at ISO {arguments.iso}, predicted")
        if one.clipped > _CLIPPED_SHARE:
            print(f"the clean frame clips in {one.clipped:.1%} of its pixels: less light would show what is not known")
        if one.other_body:
            print("colours are those of the body that took the clean frame: approximate")
    return _exit(bool(written), problems)


def _limits(body: BodyModel) -> BodyLimits:
    return BodyLimits(
        body.lowest_iso, body.highest_iso, body.native_lowest_iso, body.native_highest_iso, body.fastest_shutter_s,
        body.slowest_shutter_s, lenr_from_s=body.lenr_from_s,
    )  # fmt: skip


def _shots(spec: LadderSpec, body: BodyModel) -> list[tuple[ExposureSettings, float]]:
    try:
        plan = plan_ladder(spec, _limits(body))
    except PlanError as error:
        raise UsageError(f"{error.field}: {error.reason}") from error
    found = []
    for shot in shots_of(plan):
        settings = plan.rungs[shot.rung_index].settings
        exposure = settings.exposure
        asked = ExposureSettings(exposure.iso, exposure.exposure_s, exposure.f_number, shot.kind == "dark")
        found.append((asked, settings.lamp_stops - settings.nd_stops))
    return found


def _ladder_shots(body: BodyModel, marks: str) -> list[tuple[ExposureSettings, float]]:
    words = [] if marks == "all" else [word.strip() for word in marks.split(",")]
    if not all(word.isdecimal() for word in words):
        raise UsageError(f"an ISO ladder is ISO marks separated by commas, or all; not {marks!r}")
    metered = Exposure(body.native_lowest_iso, 1 / 8 * 100 / body.native_lowest_iso, 8.0)
    return _shots(LadderSpec("iso", "shutter", metered, picked=tuple(float(word) for word in words)), body)


def _plan_shots(body: BodyModel, path: Path) -> list[tuple[ExposureSettings, float]]:
    try:
        _, _, planned = read_plan(json.loads(path.read_text()))
    except (OSError, ValueError, RecursionError) as error:
        raise UsageError(f"{path}: {error}") from error
    return [shot for one in planned for shot in _shots(one.spec, body)]
