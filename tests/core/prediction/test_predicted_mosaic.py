"""Predicted pictures against pictures that the simulated camera takes: noise, colour noise, lines, ends; and what cannot be."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from yellowjacket.benchmarks.truths.practice import SCENE
from yellowjacket.core.image_quality.visual_noise import appearance
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.noise.autocorrelation import lag_sums
from yellowjacket.core.noise.banding import banding_of
from yellowjacket.core.noise.smoothing import correlation_of, verdict
from yellowjacket.core.prediction.from_document import sensor_of
from yellowjacket.core.prediction.predicted_mosaic import HotPixels, asked_for, predicted
from yellowjacket.core.prediction.sensor_at import NoPicture, Sensor, SensorAt
from yellowjacket.core.raw.frame import BAYER, LINEAR, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import GRADIENT, Development, developed_crop, gains_from_grey
from yellowjacket.simcam.bodies import FEN, HEATH, MOOR
from yellowjacket.simcam.scene import Scene
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, expose

LAYOUT = Layout(BAYER, (("R", "G1"), ("G2", "B")))
MEASURED = (100, 400, 1600, 12800, 51200)
# Greys and colours, twice as large as they are measured elsewhere, for statistics.
AREAS = Scene("areas", SCENE.reflectance.repeat(2, axis=0).repeat(2, axis=1))
# Upper left corners and sides, even.
PLACES = {
    "grey": ((12, 12, 330),), "shadow": ((732, 12, 330),), "black": ((1092, 12, 330),),
    "colour": tuple((144 * n + 6, 396, 130) for n in range(4)),
}  # fmt: skip


def truth_at(body, iso):
    gain = 1 / body.gain_dn_per_e(iso)
    codes_e = (body.white_dn - body.black_dn) * gain
    black = dict.fromkeys(LAYOUT.channels, float(body.black_dn))
    return SensorAt(
        iso, dict.fromkeys(LAYOUT.channels, gain), black, black, float(body.white_dn),
        min(body.gain_mode(iso).full_well_e, codes_e), math.hypot(body.read_noise_e(iso), body.row_noise_e),
        body.row_noise_e,
    )  # fmt: skip


def sensor(body, isos=MEASURED):
    return Sensor([truth_at(body, iso) for iso in isos])


def taken(body, iso, seed, stops_less=0.0, scene=AREAS, **more):
    settings = ExposureSettings(iso, 1 / 8 * 100 / iso * 2.0**-stops_less, 8.0, **more)
    return expose(body, scene, settings, Lamp(), np.random.default_rng(seed))


@pytest.fixture(scope="module")
def clean():
    return [taken(HEATH, 100, seed) for seed in (1, 2)]


def pictures(clean, iso, body=HEATH, stops_less=0.0):
    own = sensor(body)
    asked = asked_for(own, own.at(100), own, iso, stops_less)
    return [predicted(mosaic, (0, 0), LAYOUT, asked, seed).mosaic for seed, mosaic in enumerate(clean)]


def of_pair(pair, place):
    """Mean over black and noise of a green channel; SNR and colour noise of the picture."""
    x, y, side = place
    planes = [one[y : y + side, x : x + side][::2, 1::2].astype(float) for one in pair]
    ((gx, gy, _),) = PLACES["grey"]
    area = np.mean(pair, axis=0)[gy : gy + 330, gx : gx + 330] - HEATH.black_dn
    sites = {name: LAYOUT.sites(name)[0] for name in LAYOUT.channels}
    grey = {name: float(area[site.row :: 2, site.column :: 2].mean()) for name, site in sites.items()}
    how = Development(LAYOUT, dict.fromkeys(grey, float(HEATH.black_dn)), gains_from_grey(grey), HEATH.matrix, GRADIENT)
    seen = appearance(*(developed_crop(one, Rect(x, y, side, side), how) for one in pair), 1.0, coloured=True)
    return {
        "mean": planes[0].mean() - HEATH.black_dn, "sigma": (planes[0] - planes[1]).std() / math.sqrt(2),
        "snr": seen.snr.value or 0.0, "chroma": seen.chroma.value or 0.0,
    }  # fmt: skip


def pooled(pairs, place):
    found = [of_pair(pair, one) for pair in pairs for one in PLACES[place]]
    return {key: float(np.mean([one[key] for one in found])) for key in found[0]}


@pytest.mark.parametrize(("iso", "stops_less"), [(3200, 0.0), (6400, 0.0), (25600, 0.0), (1600, 2.0)])
def test_a_setting_that_was_never_measured_looks_as_it_does(clean, iso, stops_less):
    """Leave one rung out: ISO 3200, 6400 and 25600 are between what is known."""
    real = [[taken(HEATH, iso, 10 * n + seed, stops_less) for seed in (3, 4)] for n in range(2)]
    made = [pictures(order, iso, stops_less=stops_less) for order in (clean, clean[::-1])]
    for place in ("grey", "shadow", "colour"):
        truth, own = pooled(real, place), pooled(made, place)
        for key in ("mean", "sigma", "snr", "chroma"):
            assert own[key] == pytest.approx(truth[key], rel=0.03), (place, key)


def test_lines_are_as_strong_as_they_are():
    streaky = replace(MOOR, row_noise_e=0.8)
    clean, real = ([taken(streaky, iso, seed, capped=True) for seed in (1, 2)] for iso in (100, 12800))
    rows = [
        banding_of(*(one[::2, 1::2] for one in pair)).row_dn.value for pair in (pictures(clean, 12800, streaky), real)
    ]
    assert rows[0] == pytest.approx(rows[1], rel=0.10)


def test_nobody_tells_predicted_crops_from_real_ones(clean):
    """On what noise looks like: spread, skew, tails, neighbours, lines; fitted on one half, asked on seeds it never saw."""
    iso, side = 6400, 64

    def features(mosaic, x, y):
        plane = mosaic[y : y + side, x : x + side][::2, 1::2].astype(float)
        noise = plane - plane.mean()
        sums = [(noise[:, 1:] * noise[:, :-1]).mean(), (noise[1:] * noise[:-1]).mean(), noise.mean(axis=1).var()]
        return [plane.mean(), noise.std(), stats.skew(noise, axis=None), stats.kurtosis(noise, axis=None), *sums]

    def crops(frames):
        places = [(12 + side * n, 12 + side * m) for n in range(4) for m in range(5)]
        return [features(frame, x, y) for frame in frames for x, y in places]

    real = crops([taken(HEATH, iso, seed) for seed in range(20, 30)])
    own = sensor(HEATH)
    asked = asked_for(own, own.at(100), own, iso)
    frames = [predicted(taken(HEATH, 100, seed), (0, 0), LAYOUT, asked, seed).mosaic for seed in range(40, 50)]
    made = crops(frames)
    assert len(real) == len(made) == 200
    table = np.array(real + made)
    table = (table - table.mean(axis=0)) / table.std(axis=0)
    of = np.repeat([0.0, 1.0], 200)
    known = np.tile(np.repeat([True, False], 100), 2)
    # The direction that parts them best (Fisher's discriminant; handbook).
    apart = table[known & (of == 1)].mean(axis=0) - table[known & (of == 0)].mean(axis=0)
    direction = np.linalg.solve(np.cov(table[known].T) + 1e-6 * np.eye(table.shape[1]), apart)
    score = table[~known] @ direction
    auc = stats.mannwhitneyu(score[of[~known] == 1], score[of[~known] == 0]).statistic / 100**2
    assert 0.4 < auc < 0.6


@pytest.mark.outside
@pytest.mark.parametrize("mean", [3.0, 9.0, 13.0, 40.0, 900.0])
def test_thinned_light_stays_poisson(mean):
    """A thinned Poisson process is Poisson (handbook): goodness of fit by SciPy's chi-square, over counts of every size."""
    rng = np.random.default_rng(8)
    light = 1 / 8
    one = SensorAt(100, {"M": 1.0}, {"M": 0.0}, {"M": 0.0}, 60000.0, 60000.0, 1e-3)
    own = Sensor([one, replace(one, iso=800, saturation_e=7500.0)])
    layout = Layout("monochrome", (("M",),))
    mosaic = rng.poisson(mean / light, (400, 400)).astype(np.uint16)
    counts = predicted(mosaic, (0, 0), layout, asked_for(own, own.at(100), own, 800), 3).mosaic.ravel()
    edges = np.unique(stats.poisson.ppf(np.linspace(0.02, 0.98, 25), mean))
    seen = np.histogram(counts, [-np.inf, *(edges + 0.5), np.inf])[0]
    expected = np.diff([0.0, *stats.poisson.cdf(edges, mean), 1.0]) * counts.size
    assert stats.chisquare(seen, expected).pvalue > 0.001


def test_smoothed_raw_comes_out_smoothed(clean):
    own = sensor(HEATH)
    rho = correlation_of(0.12)
    target = Sensor([*own.marks[:2], *(replace(one, correlation=rho) for one in own.marks[2:])])
    asked = asked_for(own, own.at(100), target, 12800)
    mosaics = [predicted(mosaic, (0, 0), LAYOUT, asked, seed).mosaic for seed, mosaic in enumerate(clean)]
    ((x, y, _),) = PLACES["grey"]
    planes = [one[y : y + 330, x : x + 330][::2, 1::2].astype(float) for one in mosaics]
    assert verdict(lag_sums((planes[0] - planes[1]) / math.sqrt(2))).lag1.value == pytest.approx(rho, abs=0.03)


def test_a_second_of_dark_and_hot_pixels_add_what_they_gather(clean):
    own = sensor(HEATH)
    asked = replace(asked_for(own, own.at(100), own, 6400), dark_e=30.0)
    ((x, y, _),) = PLACES["black"]
    crop = clean[0][y : y + 300, x : x + 300]
    hot = HotPixels(np.array([40, 51]), np.array([41, 60]), np.array([300.0, 80.0]))
    with_dark = predicted(crop, (x, y), LAYOUT, replace(asked, hot=(hot,)), 5).mosaic.astype(float)
    without = predicted(crop, (x, y), LAYOUT, replace(asked, dark_e=0.0), 5).mosaic.astype(float)
    gain = asked.target.gain_e_per_dn["G1"]
    assert (with_dark.mean() - without.mean()) * gain == pytest.approx(30 + 380 / crop.size, rel=0.02)
    assert (with_dark[40, 41] - without[40, 41]) * gain == pytest.approx(330, abs=80)


def test_the_same_address_is_the_same_picture(clean):
    own = sensor(HEATH)
    asked = asked_for(own, own.at(100), own, 1600)
    crop = clean[0][101:301, 51:251]
    one, same, other = (predicted(crop, (51, 101), LAYOUT, asked, seed).mosaic for seed in (7, 7, 8))
    assert (one == same).all()
    assert (one != other).mean() > 0.5
    # The crop begins in the middle of a tile: its channels are those of the frame.
    assert one.mean() == pytest.approx(taken(HEATH, 1600, 3)[101:301, 51:251].mean(), rel=0.01)


def test_a_range_that_is_smaller_ends_earlier():
    bright = Scene("bright", np.full((64, 64, 3), 2.0, np.float32))
    clean = taken(HEATH, 100, 1, scene=bright)
    found = pictures([clean], 1600)[0]
    assert found.max() == HEATH.white_dn
    own = sensor(HEATH)
    assert predicted(clean, (0, 0), LAYOUT, asked_for(own, own.at(100), own, 1600), 1).clipped > 0.4


def refused(call):
    with pytest.raises(NoPicture) as caught:
        call()
    assert "{" not in str(caught.value)
    return caught.value.note.kind


def test_what_cannot_be_is_said(clean):
    heath, noisy = sensor(HEATH), sensor(FEN)
    loud = Sensor([replace(one, read_noise_e=200.0) for one in heath.marks])
    assert refused(lambda: asked_for(heath, heath.at(1600), heath, 100)) is Missing.MORE_LIGHT_THAN_CLEAN
    assert refused(lambda: asked_for(loud, loud.at(100), heath, 1600)) is Missing.CLEANER_THAN_CLEAN
    assert refused(lambda: heath.at(409600)) is Missing.BEYOND_MEASURED
    assert refused(lambda: Sensor([]).at(100)) is Missing.NO_ISO_WITH_MODEL
    assert refused(lambda: Sensor([]).grey_e(100)) is Missing.NO_ISO_WITH_MODEL
    # The Heath has a second gain between the two.
    assert refused(lambda: heath.at(800)) is Missing.GAIN_CHANGES_BETWEEN
    other = Sensor([replace(one, gain_e_per_dn={"M": 1.0}) for one in noisy.marks])
    assert refused(lambda: asked_for(heath, heath.at(100), other, 1600)) is Missing.OTHER_LAYOUT
    asked = asked_for(heath, heath.at(100), heath, 1600)
    linear = Layout(LINEAR, (("R", "G", "B"),), 3)
    assert refused(lambda: predicted(clean[0], (0, 0), linear, asked, 1)) is Missing.NOT_A_MOSAIC


def test_a_setting_whose_clip_point_no_frame_reached_ends_where_its_wells_are_full():
    """As `characterise` writes a low ISO whose frames are all well exposed."""
    channel = {"gain_e_per_dn": {"value": 2.0}, "black_dn": {"value": 512.0}}
    whole = {
        "read_noise_e": {"value": 5.0}, "saturation_e": {"value": 30000.0}, "gain_e_per_dn": {"value": 2.0},
        "saturation_dn": {"value": 15000.0}, "black_dn": {"value": 512.0}, "clip_dn": {"value": None},
    }  # fmt: skip
    sensor = sensor_of({"isos": [{"iso": 100, "all": whole, "channels": {"G1": channel}}]})
    assert sensor.at(100).clip_dn == pytest.approx(15512)
