"""Every simulated body characterised from its own files, against its true parameters. The estimators see only files.

Bounds are those of "Accuracy wanted" in docs/methods.md: 3 SE, and SE within what two megapixels allow.
"""

from datetime import datetime, timedelta

import pytest

from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.photon_transfer.iso_marks import habits_of
from yellowjacket.core.survey.sort import card_of, setting_of, sort_cards
from yellowjacket.simcam.bodies import BODIES
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings
from yellowjacket.simcam.truth import truth_of

RUNGS = {
    "fen": (100, 400, 1600), "heath": (50, 400, 800, 3200), "tarn": (160, 1280, 10240), "moor": (200, 3200, 25600),
    "holt": (160, 1600), "wold": (160, 3200),
}  # fmt: skip


@pytest.fixture(scope="module", params=RUNGS)
def found(request, tmp_path_factory):
    """(body, findings by ISO, digital verdicts, second base ISO)."""
    body, folder = BODIES[request.param], tmp_path_factory.mktemp(request.param)
    camera, number = SimulatedCamera(body, seed=5), 0
    begin = datetime(2026, 3, 14, 20, 0)
    for iso in RUNGS[request.param]:
        for capped in (False, False, True, True):
            number += 1
            settings = ExposureSettings(iso, 1 / 8 * 100 / iso, 8.0, capped)
            camera.shoot(settings, folder / f"{number:02}.dng", number, begin + timedelta(seconds=9 * number))
    (tasks,) = sort_cards([card_of(str(path)) for path in sorted(folder.iterdir())])
    rungs = [characterise_iso(task) for task in tasks.tasks]
    habits = habits_of([setting_of(rung) for rung in rungs])
    digital = {rung.iso: verdict for rung, verdict in zip(rungs, habits.digital, strict=True)}
    return body, {rung.iso: rung for rung in rungs}, digital, habits.second_base


def test_noise_model_against_the_truth(found):
    body, rungs, digital, _ = found
    for truth in truth_of(body, list(rungs))["isos"]:
        rung = rungs[truth["iso"]]
        assert rung.every.cooked.flag is truth["smoothed"]
        assert digital[truth["iso"]].flag is (truth["multiplied"] > 1)
        # What is smoothed is held against the truth after correction; its plain readings carry the flag.
        values = rung.every.corrected if truth["smoothed"] else rung.every.quantities
        wanted = {"gain_e_per_dn": 0.015, "read_noise_e": 0.02} if truth["smoothed"] or truth["multiplied"] > 1 else {
            "gain_e_per_dn": 0.008, "read_noise_e": 0.009, "read_noise_dn": 0.003,
        }  # fmt: skip
        for name, share in wanted.items():
            value = values[name]
            assert abs(value.value - truth[name]) < 3.3 * value.se + 0.0005 * truth[name], (truth["iso"], name)
            if truth["multiplied"] == 1:
                assert value.se / truth[name] < share, (truth["iso"], name)


def test_saturation_and_range(found):
    body, rungs, _, _ = found
    for truth in truth_of(body, list(rungs))["isos"]:
        if truth["smoothed"]:
            continue
        saturation = rungs[truth["iso"]].every.quantities["saturation_e"]
        if "from the tag" in saturation.reason:
            assert saturation.low * 0.98 <= truth["saturation_e"] <= saturation.high * 1.02
        else:
            assert saturation.value == pytest.approx(
                truth["saturation_e"], rel=max(0.012, 3.3 * saturation.se / saturation.value)
            )


def test_prnu_where_it_can_be_told(found):
    body, rungs, _, _ = found
    lowest = rungs[min(rungs)].every.quantities["prnu"]
    assert lowest.value == pytest.approx(body.prnu, rel=0.06)


def test_second_base_iso_is_found_where_there_is_one(found):
    body, _, _, base = found
    assert base.value == (800 if body.key == "heath" else None)


def test_row_noise_of_the_old_body(found):
    body, rungs, _, _ = found
    row = rungs[min(rungs)].every.banding.row_dn
    expected = body.row_noise_e * body.gain_dn_per_e(min(rungs))
    assert row.low - 0.02 <= expected <= row.high + 0.02
