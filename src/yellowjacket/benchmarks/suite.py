"""The benchmark: what must stay fast and small, as ratios within one run and times of pages.

Machines are noisy, so reading and measuring are timed alternately and compared by their medians; memory
is the growth of a fresh process.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import rawpy

from yellowjacket import data_folder
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.benchmarks import adopting, cluster, darks
from yellowjacket.benchmarks import looking as looking_
from yellowjacket.benchmarks.lines import line
from yellowjacket.benchmarks.yardstick import measure_plainly
from yellowjacket.core.export.dng import CaptureData, DngImage, Storage, write_dng
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.raw.first_look import inspect_file
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_frames, measure_rung
from yellowjacket.core.survey.sort import card_of, sort_cards
from yellowjacket.simcam.bodies import BODIES
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings
from yellowjacket.simcam.truth import truth_of

WIDTH_PX, HEIGHT_PX = 6000, 4000
_SIZES = {"24 MP": (WIDTH_PX, HEIGHT_PX), "60 MP": (9504, 6336)}
_BLACK_DN, _WHITE_DN = 1024, 16383
_ROUNDS = 7
_PATCHES = 48
_SCALED = 12
_PATCH_PX = 128
_PAGE_ROUNDS = 9
_PAGES = ("plan", "shoot", "check", "measure", "push", "time", "look", "record")
# Of so many ladders, first to last: all of the demo's.
_LADDERS = 60
# So many pages that took longest are looked at more closely.
_SLOWEST = 3
# Pages of long exposures in the demo.
_LONG_PAGES = {"darks": "/darks/?sitting=4", "night": "/night/"}
# A night of four bodies: 4 ladders each, 20 rungs, 4 repeats.
_NIGHT_LADDERS, _NIGHT_REPEATS = 16, 4
# As cameras write them.
_STORED = {Storage.PLAIN: "", Storage.COMPRESSED: ", compressed"}

# Goals; the printed line says whether each is met.
MEASURE_RATIO_GOAL = 1.75
TWO_THREADS_GOAL = 1.2
IMPORT_GOAL = 1.3
PLAIN_GOAL = 20.0
SCALING_GOAL = 1.8
MEMORY_RATIO_GOAL = 2.5
PAGE_GOAL_S = 0.100
QUERIES_GOAL = 10
NIGHT_GOAL_S = 0.200
MATCH_GOAL_S = 1.0
_MATCHED = 2000
_ADOPTED = 60
_ACCURACY_MARKS = (100, 200, 800, 3200, 12800, 25600)
DEMO_GOAL_S = 45.0
DEMO_GOAL_MB = 500.0


def run(report: Callable[[str], None]) -> int:
    """Run everything; ``report`` gets a line per figure. Returns 0 when every goal is met, else 1."""
    with tempfile.TemporaryDirectory(prefix="yellowjacket-bench-") as name:
        folder = Path(name)
        _accuracy(folder / "bodies", report)
        met = [*_frames(folder, report), *darks.run(folder / "darks", report)]
        met += looking_.run(folder, write_frame(folder / "looked-at.dng", 1), report)
        met += cluster.run(report)
        met += _application(folder / "home", report)
    report("all goals met" if all(met) else "a goal was missed")
    return 0 if all(met) else 1


def _accuracy(folder: Path, report: Callable[[str], None]) -> None:
    """Every simulated body characterised from its own files: truth, estimate, interval, error."""
    report(f"{'body':6} {'ISO':>6}  {'quantity':14} {'truth':>9} {'estimate':>9}  {'95 % interval':21} {'error':>8}")
    for body in BODIES.values():
        place = folder / body.key
        place.mkdir(parents=True)
        marks = [mark for mark in _ACCURACY_MARKS if body.lowest_iso <= mark <= body.highest_iso]
        camera, number = SimulatedCamera(body, seed=3), 0
        for iso in marks:
            for capped in (False, False, True, True):
                number += 1
                settings = ExposureSettings(iso, 1 / 8 * 100 / iso, 8.0, capped)
                camera.shoot(settings, place / f"{number:03}.dng", number, datetime(2026, 3, 14, 20, number))  # noqa: DTZ001
        (tasks,) = sort_cards([card_of(str(path)) for path in sorted(place.iterdir())])
        truths = truth_of(body, marks)["isos"]
        for truth, (_, found) in zip(truths, run_all(characterise_iso, list(tasks.tasks)), strict=True):
            if isinstance(found, Exception) or found.every is None:
                raise ValueError(f"{body.key} at ISO {truth['iso']}: {found}")
            smoothed = truth["smoothed"]
            values = found.every.corrected if smoothed else found.every.quantities
            for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_E, Measurand.SATURATION_E):
                if name in values:
                    report(_accuracy_line(body.model, truth, name, values[name], "corrected" if smoothed else ""))


def _accuracy_line(model: str, truth: dict[str, Any], name: str, found: Quantity, remark: str) -> str:
    short = name.removesuffix("_per_dn").removesuffix("_e").replace("_", " ")
    begin = f"{model:6} {truth['iso']:6}  {short:14} {truth[name]:9.4g}"
    if found.value is None or found.low is None or found.high is None:
        return f"{begin} {'–':>9}  {found.reason}"
    error = 100 * (found.value / truth[name] - 1)
    remark = ", ".join(part for part in (remark, found.reason) if part)
    return f"{begin} {found.value:9.4g}  {found.low:9.4g} … {found.high:9.4g} {error:+7.2f} %  {remark}".rstrip()


def _frames(folder: Path, report: Callable[[str], None]) -> list[bool]:
    met: list[bool] = []
    for name, (width, height) in _SIZES.items():
        for storage, words in _STORED.items():
            pair = [write_frame(folder / f"{name} {storage.value}-{n}.dng", n, width, height, storage) for n in (0, 1)]
            met += _one_size(name + words, pair, report)
    pair = [folder / f"24 MP {Storage.PLAIN.value}-{n}.dng" for n in (0, 1)]
    task = _task(pair)
    looking, reading = [], []
    for _ in range(_ROUNDS):
        looking.append(_seconds(lambda: inspect_file(str(pair[0]))))
        reading.append(_seconds(lambda: _read(pair[0])))
    ratio = statistics.median(looking) / statistics.median(reading)
    name = "24 MP DNG inspected at import (hash, metadata, decode), against decoding it"
    met.append(line(report, name, ratio, IMPORT_GOAL, "×"))
    met.append(_plainly(pair, task, report))
    scaled = statistics.median(_scaled(task) for _ in range(3))
    report(f"{_SCALED} pairs of 24 MP on {os.cpu_count()} cores: {scaled:.2f} × the speed of one (goal 1.8 × on two)")
    met.append(scaled >= SCALING_GOAL or (os.cpu_count() or 1) < 2)
    grown = _memory_of(*pair) - _memory_of(None)
    mosaic = 2 * WIDTH_PX * HEIGHT_PX
    met.append(
        line(
            report, "peak memory of measuring a 24 MP pair, against one mosaic", grown / mosaic, MEMORY_RATIO_GOAL, "×"
        )
    )
    return met


def _task(pair: Sequence[Path], threads: int = 1) -> RungTask:
    return RungTask(0, tuple(str(path) for path in pair), (), _patches(), threads=threads)


def _one_size(name: str, pair: list[Path], report: Callable[[str], None]) -> list[bool]:
    """Measuring against decoding the two files with a copy of their mosaics: CPU time on one thread, time on two."""
    for path in pair:
        _read(path)
    measure_rung(_task(pair))
    reading, measuring, on_two = [], [], []
    for _ in range(_ROUNDS):
        reading.append(_seconds(lambda: [_read(path) for path in pair], cpu=True))
        measuring.append(_seconds(lambda: measure_rung(_task(pair)), cpu=True))
    wall = []
    for _ in range(_ROUNDS):
        wall.append(_seconds(lambda: [_read(path) for path in pair]))
        on_two.append(_seconds(lambda: measure_rung(_task(pair, threads=2))))
    report(f"{name} DNG decoded and copied: {1000 * statistics.median(reading) / 2:.0f} ms of CPU time")
    one = statistics.median(measuring) / statistics.median(reading)
    two = statistics.median(on_two) / statistics.median(wall)
    return [
        line(report, f"{name} pair measured, decode included, against decoding it", one, MEASURE_RATIO_GOAL, "×"),
        line(report, f"{name} pair measured on two threads, against decoding it on one", two, TWO_THREADS_GOAL, "×"),
    ]


def _plainly(pair: list[Path], task: RungTask, report: Callable[[str], None]) -> bool:
    """Measuring alone against the plain NumPy and SciPy version of it."""
    first, second = (read_frame(path) for path in pair)
    fast = statistics.median(
        _seconds(lambda: measure_frames([first, second], (), task), cpu=True) for _ in range(_ROUNDS)
    )
    plain = _seconds(lambda: measure_plainly(first, second, [patch.rect for patch in task.patches]), cpu=True)
    met = plain / fast >= PLAIN_GOAL
    report(f"24 MP pair measured, without decoding: {plain / fast:.0f} × the speed of plain NumPy and SciPy "
           f"(goal {PLAIN_GOAL:g} ×, {'met' if met else 'missed'})")  # fmt: skip
    return met


def write_frame(
    path: Path, seed: int, width: int = WIDTH_PX, height: int = HEIGHT_PX, storage: Storage = Storage.PLAIN
) -> Path:
    """A DNG of a grey ramp with photon noise."""
    rng = np.random.default_rng(seed)
    ramp = np.linspace(20, 6000, width, dtype=np.float32)[None, :]
    noise = rng.standard_normal((height // 8, width), dtype=np.float32)
    strip = np.rint(_BLACK_DN + ramp + np.sqrt(ramp + 9) * noise)
    mosaic = np.tile(np.clip(strip, 0, _WHITE_DN).astype(np.uint16), (8, 1))
    capture = CaptureData(
        "Ostrel", "Heath", "OH-1", "1.10", 100, Fraction(1, 8), Fraction(8), datetime(2026, 3, 14, 20, 0, seed)  # noqa: DTZ001
    )  # fmt: skip
    path.parent.mkdir(parents=True, exist_ok=True)
    black, neutral = (_BLACK_DN,) * 4, (0.5, 1.0, 0.7)
    write_dng(path, DngImage(mosaic, ("R", "G", "G", "B"), black, _WHITE_DN, np.eye(3), neutral, capture, storage))
    return path


def _patches() -> tuple[PatchSpec, ...]:
    step = WIDTH_PX // _PATCHES // 2 * 2
    roles = ("grey", "shadow", "black")
    return tuple(
        PatchSpec(f"p{n}", roles[n] if n < len(roles) else "field", Rect(n * step, 512, _PATCH_PX, _PATCH_PX))
        for n in range(_PATCHES)
        if n * step + _PATCH_PX <= WIDTH_PX
    )


def _read(path: Path) -> int:
    with rawpy.imread(str(path)) as raw:
        return int(np.array(raw.raw_image).size)


def _seconds(function: Callable[[], object], *, cpu: bool = False) -> float:
    clock = time.process_time if cpu else time.perf_counter
    begin = clock()
    function()
    return clock() - begin


def _memory_of(*paths: Path | None) -> int:
    """Peak resident bytes of a fresh process that measured a small pair and then these files."""
    names = [str(path) for path in paths if path is not None]
    command = [sys.executable, "-m", "yellowjacket.benchmarks.suite", *names]
    return int(subprocess.run(command, check=True, capture_output=True, text=True).stdout)  # noqa: S603 - ourselves


def _scaled(task: RungTask) -> float:
    """How much faster all cores measure the same pairs than one, on worker processes that are up already."""
    list(run_all(measure_rung, [replace(task, key=n) for n in range(os.cpu_count() or 1)]))
    one = _seconds(lambda: [measure_rung(task) for _ in range(_SCALED)])
    return one / _seconds(lambda: list(run_all(measure_rung, [replace(task, key=n) for n in range(_SCALED)])))


def _peak_of_measuring(names: list[str]) -> int:
    # What is loaded and compiled at first use is no part of a pair's own need.
    with tempfile.TemporaryDirectory(prefix="yellowjacket-bench-") as folder:
        small = [write_frame(Path(folder) / f"{n}.dng", n, WIDTH_PX, 768) for n in (0, 1)]
        measure_rung(_task(small))
    if names:
        measure_rung(RungTask(0, tuple(names), (), _patches()))
    # Not getrusage: its peak is inherited from the process that started this one.
    status = Path("/proc/self/status").read_text()
    peak = next(line for line in status.splitlines() if line.startswith("VmHWM"))
    return 1024 * int(peak.split()[1])


def _application(folder: Path, report: Callable[[str], None]) -> list[bool]:
    """The demo's making and the pages of its full ladder, in a data folder of their own."""
    os.environ[data_folder.HOME_VARIABLE] = str(folder)
    command = [sys.executable, "-m", "yellowjacket.cli", "demo", "--prepare-only"]
    begin = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)  # noqa: S603 - ourselves
    made_s = time.perf_counter() - begin
    megabytes = sum(file.stat().st_size for file in folder.rglob("*") if file.is_file()) / 1e6
    met = [
        line(report, "demo data made", made_s, DEMO_GOAL_S, "s"),
        line(report, "demo data on disk", megabytes, DEMO_GOAL_MB, "MB"),
    ]
    for step, page_s, asked in _page_times():
        met.append(line(report, f"page {step}", 1000 * page_s, 1000 * PAGE_GOAL_S, "ms"))
        if step in _PAGES:
            met.append(line(report, f"page {step}, queries", asked, QUERIES_GOAL, "queries"))
    shots, night_s = _night_time()
    met.append(
        line(report, f"a change to a plan of {shots} shots, answered", 1000 * night_s, 1000 * NIGHT_GOAL_S, "ms")
    )
    frames, match_s = _match_time()
    met.append(line(report, f"{frames} frames matched against as many shots", match_s, MATCH_GOAL_S, "s"))
    for storage, words in _STORED.items():
        to_adopt = folder.parent / f"to-adopt-{storage.value}"
        for n in range(_ADOPTED):
            write_frame(to_adopt / f"A{n:02}.dng", n, WIDTH_PX, HEIGHT_PX, storage)
        met += adopting.run(to_adopt, f"24 MP{words}", report)
        shutil.rmtree(to_adopt)
    shutil.rmtree(folder, ignore_errors=True)
    return met


def _page_times() -> list[tuple[str, float, int]]:
    """Median answer of the server for each step of the demo's ladder where it takes longest, and how many queries the step asks
    where it asks most."""
    os.environ["DJANGO_SETTINGS_MODULE"] = "yellowjacket.settings.local"
    import django

    django.setup()
    from django.db import connection
    from django.test import Client
    from django.test.utils import CaptureQueriesContext

    from yellowjacket import serving
    from yellowjacket.bench.jobs.queue import run_job
    from yellowjacket.bench.models import Job, Ladder
    from yellowjacket.web.look.switches import ROWS

    # Pages name them by their contents, which a start of the server works out.
    serving.collect_static_files()

    # What the demo leaves to the application's worker.
    for job in Job.objects.filter(state__in=Job.OPEN):
        run_job.call(job.pk)
    client = Client(headers={"host": "127.0.0.1"})

    def get(address: str) -> None:
        response = client.get(address)
        if response.status_code != 200:
            raise ValueError(f"{address} answered {response.status_code}")

    def looked_at(address: str) -> tuple[float, int]:
        """Seconds and queries of a page that was asked for before."""
        get(address)
        with CaptureQueriesContext(connection) as captured:
            taken_s = _seconds(lambda: get(address))
        return taken_s, len(captured)

    # Every ladder has a page of its own, and a wall for every kind of rows.
    pages = {
        step: [
            f"/sittings/{ladder.sitting_id}/{step}/?ladder={ladder.pk}{rows}"
            for ladder in Ladder.objects.order_by("pk")[:_LADDERS]
            for rows in ([f"&rows={kind}" for kind in ROWS] if step == "look" else [""])
        ]
        for step in _PAGES
    }
    found = []
    for name, addresses in (pages | {name: [address] for name, address in _LONG_PAGES.items()}).items():
        seen = {address: looked_at(address) for address in addresses}
        # One look each may be spoilt by what else the machine does.
        slowest = sorted(addresses, key=lambda address: -seen[address][0])[:_SLOWEST]
        medians = [
            statistics.median(_seconds(lambda address=address: get(address)) for _ in range(_PAGE_ROUNDS))  # type: ignore[misc]
            for address in slowest
        ]
        found.append((name, max(medians), max(asked for _, asked in seen.values())))
    return found


def _night_time() -> tuple[int, float]:
    """Shots of a large plan, and the median time of working it out anew and drawing its page."""
    from datetime import date

    from django.test import Client

    from yellowjacket.bench.models import Body, Shot, Sitting, ToleranceProfile
    from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
    from yellowjacket.core.planning.ladder import Exposure, LadderSpec

    body = Body.objects.filter(highest_iso__gte=8000)[0]
    picked = tuple(float(iso) for iso in (100, 125, 160, 200, 250, 320, 400, 500, 640, 800, 1000, 1250, 1600, 2000, 2500,
                                          3200, 4000, 5000, 6400, 8000))  # fmt: skip
    spec = LadderSpec("iso", "shutter", Exposure(100, 1 / 8, 8.0), picked=picked, repeats=_NIGHT_REPEATS, darks=0)
    profile = ToleranceProfile.objects.all()[0]
    sitting = Sitting(
        name="Night", scene="x", question="x", expectation="x", held_on=date(2026, 3, 14), profile=profile
    )
    create_sitting(sitting, [UseSpec("Pixel level", None)], [LadderRequest(body, spec)] * _NIGHT_LADDERS)
    client = Client(headers={"host": "127.0.0.1"})

    def get() -> None:
        if client.get(f"/sittings/{sitting.pk}/plan/").status_code != 200:
            raise ValueError("the plan of a long night did not answer")

    get()
    seconds = statistics.median(_seconds(get) for _ in range(_PAGE_ROUNDS))
    return Shot.objects.filter(rung__ladder__sitting=sitting).count(), seconds


def _match_time() -> tuple[int, float]:
    """Frames and seconds of finding every shot of the night's plan its frame, without decoding."""
    from yellowjacket.bench.intake.match_shots import ShotFinder
    from yellowjacket.bench.models import Shot, Sitting
    from yellowjacket.core.planning.frame_to_shot import Candidate

    sitting = Sitting.objects.get(name="Night")
    body = sitting.ladders.all()[0].body
    shots = Shot.objects.filter(rung__ladder__sitting=sitting).select_related("rung__ladder").order_by("order")
    cards = [
        Candidate(
            body.make, body.model, body.serial, s.rung.iso, s.rung.exposure_s, s.rung.ladder.f_number, False, 640, 448
        )
        for s in shots
    ]
    cards += cards[: max(0, _MATCHED - len(cards))]

    def match() -> None:
        finder = ShotFinder(sitting)
        for card in cards:
            finder.place(card)

    return len(cards), statistics.median(_seconds(match) for _ in range(3))


if __name__ == "__main__":
    print(_peak_of_measuring(sys.argv[1:]))
