"""Master darks, taking them off, and finding the one that fits."""

from fractions import Fraction

import numpy as np
import pytest

from tests import darks, making
from yellowjacket.core.darks.master import MasterError, make_master, subtracted, with_pedestal
from yellowjacket.core.darks.matching import Fit, Setting, matches
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_frame

HOT = [(100, 50, 4.0), (200, 100, 20.0)]


@pytest.fixture
def files(tmp_path, rng):
    return darks.write_darks(tmp_path, rng, 60.0, 8, hot=HOT)


def test_the_average_without_what_struck_one_frame(tmp_path, rng):
    paths = darks.write_darks(tmp_path, rng, 60.0, 5)
    paths += darks.write_darks(tmp_path, rng, 60.0, 1, start=5, extra=[(60, 40, 900), (61, 40, 400)])
    paths += darks.write_darks(tmp_path, rng, 60.0, 1, start=6, extra=[(60, 40, 500), (10, 10, -200)])
    stack = np.array([read_frame(path).mosaic for path in paths], np.float64)
    found = make_master(paths)
    plain = stack.mean(axis=0)
    ordinary = np.ones(plain.shape, bool)
    ordinary[[40, 40, 10], [60, 61, 10]] = False
    # 5 σ of one in a few hundred thousand normal numbers may be left out by chance.
    equal = np.isclose(found.mean, plain, atol=1e-3)
    assert equal[ordinary].mean() > 0.9999
    assert found.mean[40, 60] == pytest.approx(np.sort(stack[:, 40, 60])[:-2].mean(), abs=1e-3)
    assert found.mean[40, 61] == pytest.approx(np.sort(stack[:, 40, 61])[:-1].mean(), abs=1e-3)
    assert found.mean[10, 10] == pytest.approx(np.sort(stack[:, 10, 10])[1:].mean(), abs=1e-3)
    assert 4 <= found.left_out < 12
    assert found.frames == 7
    assert found.sigma_dn == pytest.approx(darks.READ_DN, rel=0.05)


def test_shot_noise_of_hot_pixels_is_no_outlier(tmp_path, rng):
    hot = [(10 + 5 * (n % 70), 10 + 15 * (n // 70), 4.0) for n in range(700)]
    paths = darks.write_darks(tmp_path, rng, 60.0, 6, hot=hot)
    stack = np.array([read_frame(path).mosaic for path in paths], np.float64)
    found = make_master(paths)
    places = tuple(np.array([(y, x) for x, y, _ in hot]).T)
    assert np.isclose(found.mean[places], stack.mean(axis=0)[places], atol=1e-2).mean() > 0.99


def test_what_the_darks_were_is_kept(files):
    found = make_master(files, [20.0, 20.5, 21.0, None, 20.0, 20.0, 21.0, 20.5])
    assert (found.metadata.iso, found.metadata.exposure_s, found.metadata.firmware) == (100, 60.0, "1.10")
    assert found.temperature_c == pytest.approx(20.43, abs=0.01)
    assert found.names == tuple(path.name for path in files)


def test_originals_are_not_changed(files):
    before = [path.read_bytes() for path in files]
    make_master(files)
    assert [path.read_bytes() for path in files] == before


@pytest.mark.parametrize(
    ("change", "words"),
    [({"iso": 200}, "another ISO"), ({"firmware": "1.11"}, "another firmware"), ({"model": "Fen"}, "another body"),
     ({"shape": (256, 320)}, "another dimensions"), ({"rate_e": 0.0, "seconds": 30.0}, "exposed 30 s")],
)  # fmt: skip
def test_mixed_darks_are_refused_by_name(tmp_path, files, rng, change, words):
    folder = tmp_path / "other"
    folder.mkdir()
    seconds = change.pop("seconds", 60.0)
    (odd,) = darks.write_darks(folder, rng, seconds, 1, start=20, **change)
    with pytest.raises(MasterError, match=words) as refused:
        make_master([*files, odd])
    assert odd.name in str(refused.value)


def test_too_few_light_mixed_in_and_warm(tmp_path, files, rng):
    with pytest.raises(MasterError, match="needs 3 darks or more"):
        make_master(files[:2])
    light = making.write(
        tmp_path / "L.DNG", making.shot(100, rng)[: darks.SHAPE[0], : darks.SHAPE[1]], exposure_s=Fraction(60)
    )
    with pytest.raises(MasterError, match=r"L\.DNG is a light frame"):
        make_master([*files, light])
    with pytest.raises(MasterError, match=r"4\.0 °C warmer"):
        make_master(files[:3], [20.0, 21.0, 24.0])
    broken = tmp_path / "broken.DNG"
    broken.write_bytes(b"II*\0")
    with pytest.raises(FrameError):
        make_master([*files, broken])


def test_subtraction_takes_hot_pixels_and_keeps_the_light(files, rng):
    master = make_master(files)
    light = darks.dark(rng, hot=HOT, rate_e=2.0)
    found = subtracted(making.frame_of(light), master.mean)
    assert found.mean() == pytest.approx(2.0 * 60 / darks.GAIN, rel=0.01)
    assert found[100, 200] - np.median(found) == pytest.approx(0, abs=5 * np.sqrt(20 * 60) / darks.GAIN)
    assert found[50, 100] - np.median(found) == pytest.approx(0, abs=150)
    assert light[100, 200] - np.median(light) > 2000


def test_another_time_is_scaled_only_after_the_bias(files, rng):
    master = make_master(files).mean
    light = making.frame_of(darks.dark(rng, 120.0, hot=HOT))
    with pytest.raises(ValueError, match="bias"):
        subtracted(light, master, time_ratio=2.0)
    found = subtracted(light, master, making.BLACK, 2.0)
    assert np.median(found) == pytest.approx(0, abs=1)
    assert found[100, 200] == pytest.approx(0, abs=6 * np.sqrt(20 * 120 * 1.5) / darks.GAIN)
    with pytest.raises(ValueError, match="size"):
        subtracted(light, master[:100])


def test_numbers_return_to_the_black_level():
    signal = np.array([[-600.0, -3.4, 0.0], [7.5, 20000.0, 2.5]], np.float32)
    assert with_pedestal(signal, 512.0, 16383.0).tolist() == [[0, 509, 512], [520, 16383, 514]]


# Matching

WANTED = Setting("Heath", (800, 600), 800, 60.0, 20.0)


def found(**changes):
    values = {"body": "Heath", "size": (800, 600), "iso": 800, "exposure_s": 60.0, "temperature_c": 20.0} | changes
    return matches(WANTED, [(1, Setting(**values))], 6.0)


def test_equal_iso_and_time_within_two_degrees_fit():
    (one,) = found(temperature_c=21.0, exposure_s=60.5)
    assert one.fit == Fit.FITS
    # One degree: 2^(−1/6) − 1 of the dark signal is taken off too much.
    assert one.residual == pytest.approx(2 ** (-1 / 6) - 1)
    assert "too much" in one.words


def test_a_near_match_states_what_it_leaves():
    (one,) = found(temperature_c=14.0)
    assert one.fit == Fit.WARMER
    # Six degrees double the signal: as much as the dark holds is left (common practice, no source).
    assert one.residual == pytest.approx(1.0)
    assert "100 % of the dark signal is left" in one.words


def test_other_times_are_only_scaled_and_other_isos_do_not_fit():
    (one,) = found(exposure_s=120.0)
    assert (one.fit, one.time_ratio) == (Fit.SCALED, 0.5)
    assert "2 min" in one.words
    assert found(iso=1600)[0].fit == Fit.NONE
    assert found(temperature_c=None)[0].fit == Fit.UNSURE
    assert found(body="Fen") == []
    assert found(size=(400, 300)) == []


def test_the_best_comes_first():
    masters = [
        (1, Setting("Heath", (800, 600), 800, 120.0, 20.0)), (2, Setting("Heath", (800, 600), 800, 60.0, 28.0)),
        (3, Setting("Heath", (800, 600), 800, 60.0, 19.0)), (4, Setting("Heath", (800, 600), 800, 60.0, 20.0)),
        (5, Setting("Heath", (800, 600), 400, 60.0, 20.0)),
    ]  # fmt: skip
    assert [one.key for one in matches(WANTED, masters)] == [4, 3, 2, 1, 5]
