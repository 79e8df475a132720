"""Darks against a reference library for dark subtraction, Poisson statistics and the trade's rules of thumb."""

import math

import astropy.units as u
import ccdproc
import numpy as np
import pytest
from astropy.nddata import CCDData
from astropy.stats import mad_std

from tests import darks, making
from yellowjacket.core.darks.dark_current import dark_current, dark_tiles
from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.lenr import EXPECTED_NOISE_RATIO
from yellowjacket.core.darks.master import make_master, subtracted
from yellowjacket.core.metrology.estimate import with_relative_error
from yellowjacket.core.raw.reader import read_frame

pytestmark = pytest.mark.outside
HOT = [(100, 50, 4.0), (201, 100, 20.0)]


@pytest.fixture
def paths(tmp_path, rng):
    found = darks.write_darks(tmp_path, rng, 60.0, 9, hot=HOT)
    return found + darks.write_darks(tmp_path, rng, 60.0, 1, start=9, hot=HOT, extra=[(60, 40, 3000), (300, 200, 800)])


def as_ccd(path) -> CCDData:
    return CCDData(read_frame(path).mosaic.astype(np.float64), unit=u.adu, meta={"exposure": 60.0})


def test_a_master_equals_that_of_ccdproc(paths):
    """ccdproc.Combiner with clipping at 5 σ about the median, σ from the median deviation."""
    combiner = ccdproc.Combiner([as_ccd(path) for path in paths])
    combiner.sigma_clipping(low_thresh=8, high_thresh=8, func=np.ma.median, dev_func=mad_std)
    reference = np.asarray(combiner.average_combine().data)
    own = make_master(paths).mean
    # Ten numbers give an uncertain deviation: where the two leave out different ones the averages differ by little.
    same = np.isclose(own, reference, atol=1e-3)
    assert same.mean() > 0.98
    assert np.abs(own - reference).max() < 5 * darks.READ_DN
    for y, x in ((40, 60), (200, 300)):
        assert own[y, x] == pytest.approx(reference[y, x], abs=1e-3)


def test_without_outliers_it_is_the_average(tmp_path, rng):
    """Equal to ccdproc's average_combine within rounding of 32 bits."""
    paths = darks.write_darks(tmp_path, rng, 60.0, 6)
    reference = np.asarray(ccdproc.Combiner([as_ccd(path) for path in paths]).average_combine().data)
    own = make_master(paths)
    assert np.isclose(own.mean, reference, rtol=1e-6).sum() >= own.mean.size - own.left_out


def test_subtraction_equals_that_of_ccdproc(paths, rng):
    master = make_master(paths).mean
    light = darks.dark(rng, hot=HOT, rate_e=2.0)
    reference = ccdproc.subtract_dark(
        CCDData(light.astype(np.float64), unit=u.adu), CCDData(master.astype(np.float64), unit=u.adu),
        dark_exposure=60 * u.s, data_exposure=60 * u.s, scale=False,
    )  # fmt: skip
    assert subtracted(making.frame_of(light), master) == pytest.approx(np.asarray(reference.data), abs=1e-2)


def test_scaling_equals_that_of_ccdproc_after_the_bias(paths, rng):
    master = make_master(paths).mean
    light = darks.dark(rng, 120.0, hot=HOT)
    bias = float(making.BLACK)
    reference = ccdproc.subtract_dark(
        CCDData(light - bias, unit=u.adu), CCDData(master.astype(np.float64) - bias, unit=u.adu),
        dark_exposure=60 * u.s, data_exposure=120 * u.s, scale=True,
    )  # fmt: skip
    own = subtracted(making.frame_of(light), master, bias, 2.0)
    assert own == pytest.approx(np.asarray(reference.data), abs=1e-2)


@pytest.mark.parametrize("rate_e", [0.5, 2.0])
def test_dark_signal_is_counted_like_photons(rng, rate_e):
    """Poisson: variance in electrons equals the mean; so does the noise's slope the mean's."""
    times = (1.0, 30.0, 60.0, 120.0)
    tiles = [dark_tiles(t, darks.frames(rng, seconds=t, rate_e=rate_e, shape=(512, 512))) for t in times]
    found = dark_current(tiles, with_relative_error(darks.GAIN, 0.002, 1000))
    assert found.current.value == pytest.approx(rate_e, rel=0.02)
    assert found.from_noise.value == pytest.approx(rate_e, rel=0.05)
    sigma = [np.sqrt(np.mean(one.variances["G1"])) * darks.GAIN for one in tiles]
    read = math.hypot(darks.READ_DN * darks.GAIN, darks.GAIN / math.sqrt(12))
    assert sigma[-1] == pytest.approx(math.sqrt(read**2 + rate_e * 120), rel=0.03)


def test_twice_the_time_is_twice_the_signal(rng):
    """Thermal signal doubles when the exposure doubles (common practice, no source)."""
    short, long = (
        measured(DarkGroup(t, 20.0, ("a", "b")), darks.frames(rng, seconds=t, rate_e=1.0), darks.GAIN)
        for t in (60.0, 120.0)
    )
    levels = [np.mean(one.tiles.means["R"]) - making.BLACK for one in (short, long)]
    assert levels[1] / levels[0] == pytest.approx(2.0, rel=0.03)


def test_one_dark_taken_off_adds_its_own_noise(rng):
    """Variances of independent frames add: √2 (Poisson and normal statistics)."""
    a, b = (darks.dark(rng, rate_e=1.0).astype(float) for _ in range(2))
    assert np.std(a - b) / np.std(a) == pytest.approx(EXPECTED_NOISE_RATIO, rel=0.01)
