"""Exposure ladders and ISO ladders of one light on simulated bodies, told from files alone, against their truth.

Bounds are those of "Accuracy wanted" in docs/methods.md.
"""

import math
from datetime import datetime, timedelta

import pytest

from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.survey.exposure_ladders import (
    exposure_ladder,
    exposure_tasks,
    fixed_light,
    fixed_noise,
    iso_against_push,
)
from yellowjacket.core.survey.sort import card_of, sort_cards
from yellowjacket.simcam.bodies import BODIES
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings

# Printed marks; 1/50 s where 1/60 s was wanted is a third of a stop too much.
TIMES = {1 / 250: -5, 1 / 125: -4, 1 / 50: -3, 1 / 30: -2, 1 / 15: -1, 1 / 8: 0, 1 / 4: 1}
BEGIN = datetime(2026, 3, 14, 20, 0)


def shoot(body, folder, settings, seed=5):
    camera = SimulatedCamera(body, seed=seed)
    folder.mkdir(exist_ok=True)
    number = 0
    for iso, seconds, capped in settings:
        for _ in range(2):
            number += 1
            camera.shoot(
                ExposureSettings(iso, seconds, 8.0, capped), folder / f"{number:03}.dng", number,
                BEGIN + timedelta(seconds=9 * number),
            )  # fmt: skip
    (found,) = sort_cards([card_of(str(path)) for path in sorted(folder.iterdir())])
    return found.tasks


@pytest.fixture(scope="module")
def moor(tmp_path_factory):
    folder = tmp_path_factory.mktemp("moor")
    tasks = shoot(BODIES["moor"], folder / "frames", [(100, seconds, False) for seconds in TIMES])
    (task,) = exposure_tasks(tasks)
    return exposure_ladder(task)


def test_steps_are_those_that_were_shot(moor):
    assert len(moor.steps) == 2 * len(TIMES)
    for _, nominal, measured in moor.steps:
        seconds = min(TIMES, key=lambda one: abs(math.log2(one * 8) - nominal))
        truth = math.log2(exact_exposure_s(seconds) * 8)
        assert measured.value == pytest.approx(truth, abs=0.005), nominal


def test_black_error_is_found_to_a_tenth_of_a_number(moor):
    for channel, truth in zip(("R", "G1", "G2", "B"), BODIES["moor"].black_error_dn, strict=True):
        found = moor.black_error_dn[channel]
        assert found.value == pytest.approx(truth, abs=0.1)
        assert found.low - 0.03 < truth < found.high + 0.03


def test_the_cast_of_a_wrong_black_ends_a_push_where_noise_would_not_yet(moor):
    assert moor.push["clean"].stops is not None
    assert moor.push["usable"].stops > moor.push["clean"].stops
    assert {limit.criterion for limit in moor.push.values()} <= {
        "grey SNR", "shadow SNR", "chroma noise", "neutral drift", "",
    }  # fmt: skip


def test_the_pull_ends_where_the_wells_are_full(moor):
    body = BODIES["moor"]
    # The lightest uniform area is a wedge step or card at 0.72 to 0.8 of white, grey at 0.18 of it being 12.7 % of what the
    # converter would hold; the well holds less.
    over = [math.log2(body.saturation_e(100) / (0.127 * body.converter_full_e * light / 0.18)) for light in (0.8, 0.72)]
    assert min(over) - 0.08 < moor.pull["usable"].stops < max(over) + 0.02
    assert moor.pull["usable"].criterion.startswith("highlight clips in G")


def fixed(body, folder, isos, seconds):
    lit = [(iso, seconds, False) for iso in isos]
    return shoot(body, folder, lit + [(iso, seconds, True) for iso in isos])


@pytest.fixture(scope="module", params=["heath", "fen"])
def pushed(request, tmp_path_factory):
    body = BODIES[request.param]
    isos = (100, 400, 800, 3200) if body.key == "heath" else (100, 400, 1600, 3200)
    tasks = fixed(body, tmp_path_factory.mktemp(body.key) / "frames", isos, 1 / 250)
    light = fixed_light(tasks)
    assert [iso for iso, _ in light.pairs] == list(isos)
    models = {task.iso: characterise_iso(task).every.quantities for task in tasks}
    return body, *iso_against_push(models, fixed_noise(light))


def test_penalties_are_those_of_the_noise_model(pushed):
    body, found, _ = pushed
    assert len(found) == 6
    for one in found:
        level = 0.127 * body.saturation_e(one.wanted_iso) / 16
        low, high = (body.read_noise_e(iso) for iso in (one.shot_iso, one.wanted_iso))
        # Row noise and rounding are part of what a pair shows.
        rounding = [1 / 12 / body.gain_dn_per_e(iso) ** 2 for iso in (one.shot_iso, one.wanted_iso)]
        squares = [noise**2 + body.row_noise_e**2 + r for noise, r in zip((low, high), rounding, strict=True)]
        truth = 0.5 * math.log2((squares[0] + level) / (squares[1] + level))
        assert one.stops.value == pytest.approx(truth, abs=max(0.03, 3 * one.stops.se)), (one.shot_iso, one.wanted_iso)


def test_invariance_is_told_where_the_body_has_it(pushed):
    body, found, invariance = pushed
    assert any(one.kind == "measured" for one in found)
    if body.key == "heath":
        assert invariance.from_iso.value == 800
        assert invariance.highlight_stops.value == pytest.approx(2.0, abs=0.03)
    else:
        # Its noise sits before the gain: below ISO 1600 raising ISO still pays.
        assert invariance.from_iso.value is None or invariance.from_iso.value >= 400
