"""A rung measured from its files, against the truth of the test body."""

from dataclasses import replace

import numpy as np
import pytest

from tests import making
from tests.making import CHANNELS
from yellowjacket.core.colour.cast import cast_of
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.planning.ladder import Exposure
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.ladder import RungHabits, RungSignals, relate_habits, relate_rungs
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung

STEP_PX = making.WIDTH // making.STEPS


def patches():
    roles = {making.GREY_STEP: "grey", making.GREY_STEP + 3: "shadow", making.STEPS - 1: "black"}
    return tuple(
        PatchSpec(roles.get(step, f"field {step}-{row}") if row == 0 else f"field {step}-{row}",
                  roles.get(step, "field") if row == 0 else "field", Rect(step * STEP_PX + 8, 8 + row * 72, 64, 64))
        for step in range(making.STEPS) for row in range(6)
    )  # fmt: skip


def task(card, first, light=2, dark=2):
    names = [str(card / f"F{first + n:03d}.DNG") for n in range(2)]
    darks = [str(card / f"F{first + 6 + n:03d}.DNG") for n in range(2)]
    return RungTask(1, tuple(names[:light]), tuple(darks[:dark]), patches())


def reading(result, quantity, channel="all", patch=None):
    return next(
        r for r in result.readings if (r.quantity, r.channel, r.patch) == (quantity, channel, patch)
    ).result  # fmt: skip


@pytest.mark.parametrize(("first", "iso"), [(1, 100), (3, 200), (5, 400)])
def test_a_rung_is_measured_within_three_standard_errors(card, first, iso):
    result = measure_rung(task(card, first))
    gain = making.GAIN_E_PER_DN[iso]
    truths = {
        ("gain_e_per_dn", "all", None): gain,
        ("read_noise_dn", "all", None): np.sqrt(making.READ_NOISE_DN**2 + 1 / 12),
        ("read_noise_e", "all", None): gain * np.sqrt(making.READ_NOISE_DN**2 + 1 / 12),
        ("signal_dn", "G1", "grey"): making.GREY_DN,
        ("signal_dn", "R", "grey"): making.GREY_DN * making.RESPONSE["R"],
        ("black_dn", "B", None): making.BLACK,
    }
    for key, truth in truths.items():
        found = reading(result, *key)
        assert abs(found.value - truth) < 3 * found.se, key
    model = [making.GREY_DN / 2**stops for stops in (0, 3)]
    grey, shadow = (s / np.sqrt(s / gain + making.READ_NOISE_DN**2 + 1 / 12) for s in model)
    assert reading(result, "snr", "G", "grey").value == pytest.approx(grey, rel=0.04)
    assert reading(result, "shadow_snr", "G").value == pytest.approx(shadow, rel=0.04)
    assert result.problems == ()


def test_without_darks_the_tag_gives_the_black_and_the_intercept_the_read_noise(card):
    result = measure_rung(task(card, 1, dark=0))
    assert "from the file's tag" in reading(result, "black_dn", "R").reason
    source = next(r.method for r in result.readings if r.quantity == "read_noise_dn" and r.channel == "G1")
    assert source == "from intercept"


@pytest.mark.parametrize(("first", "iso"), [(1, 100), (3, 200), (5, 400)])
def test_a_single_frame_reads_as_the_pair_does_where_nothing_is_fixed_and_says_so(card, first, iso):
    """These frames have no fixed pattern: one of them alone tells the noise that both tell, a little less surely."""
    pair, one = measure_rung(task(card, first)), measure_rung(task(card, first, light=1))
    for where in (
        ("snr", "G", "grey"),
        ("shadow_snr", "G", None),
        ("snr", "all", "grey"),
        ("noise_chroma", "all", "grey"),
    ):
        alone, both = reading(one, *where), reading(pair, *where)
        assert alone.value == pytest.approx(both.value, rel=0.06), where
        assert "from one frame" in alone.reason
        assert "from one frame" not in both.reason
    # Of the sensor one frame tells nothing.
    assert not reading(one, "gain_e_per_dn").known


def test_a_single_frame_counts_fixed_pattern_as_noise(card, tmp_path):
    """A spread of response of 3 % comes on top of the temporal noise, root of the sum of squares."""
    rng = np.random.default_rng(4)
    spread = 1 + 0.03 * rng.standard_normal((making.HEIGHT, making.WIDTH))
    uneven = making.BLACK + (making.shot(100, rng) - float(making.BLACK)) * spread
    name = making.write(tmp_path / "fixed.dng", uneven.round().astype(np.uint16))
    whole = task(card, 1)
    found = reading(measure_rung(RungTask(1, (str(name),), whole.dark, whole.patches)), "snr", "G", "grey")
    temporal = reading(measure_rung(whole), "snr", "G", "grey").value
    assert found.value == pytest.approx(1 / np.hypot(1 / temporal, 0.03), rel=0.06)


def test_a_single_frame_gives_its_signal_and_a_problem_with_a_remedy(card):
    result = measure_rung(task(card, 1, light=1))
    assert reading(result, "signal_dn", "G1", "grey").value == pytest.approx(making.GREY_DN, rel=0.01)
    assert [problem.code for problem in result.problems] == ["single"]
    assert result.problems[0].path.name == "F001.DNG"


def test_a_bad_file_becomes_a_problem_and_the_other_is_still_used(card, tmp_path):
    broken = tmp_path / "broken.dng"
    broken.write_bytes((card / "F002.DNG").read_bytes()[:100_000])
    whole = task(card, 1)
    result = measure_rung(RungTask(1, (whole.light[0], str(broken)), whole.dark, whole.patches))
    assert "truncated" in [problem.code for problem in result.problems]
    assert reading(result, "signal_dn", "G1", "grey").known


def test_a_patch_outside_the_frame_says_so(card):
    outside = PatchSpec("grey", "grey", Rect(making.WIDTH - 16, 0, 64, 64))
    whole = task(card, 1)
    result = measure_rung(RungTask(1, whole.light, whole.dark, (outside,)))
    assert "lies outside this frame" in reading(result, "snr", "G", "grey").reason


def test_clipping_is_counted_where_it_is(tmp_path):
    rng = np.random.default_rng(9)
    names = tuple(str(making.write(tmp_path / f"{n}.dng", making.shot(100, rng, stops=1.2))) for n in range(2))
    result = measure_rung(RungTask(1, names, (), (PatchSpec("bright", "grey", Rect(8, 8, 64, 64)),)))
    assert reading(result, "clipped_share", "G1", "bright").value == 1.0
    assert reading(result, "clipped_share", "R", "bright").value == 0.0
    assert reading(result, "snr", "G", "bright").has(Missing.CLIPPED)


def signals(key, stops=0.0, red=1.0, expected=0.0):
    grey = {c: with_error(2000 * making.RESPONSE[c[0]] * 2**stops * (red if c == "R" else 1), 0.5, 4096)
            for c in ("R", "G1", "G2", "B")}  # fmt: skip
    return RungSignals(key, grey, expected)


def test_exposure_error_is_what_was_measured_over_what_was_asked():
    related = relate_rungs([signals(1), signals(2, stops=-0.7, expected=-1.0)], 1, making.MATRIX)
    error = related[2][0].result
    assert error.value == pytest.approx(0.3, abs=1e-6)
    assert error.low < 0.3 < error.high
    assert related[1][0].result.value == 0.0


def test_settings_alone_predict_the_level():
    # ISO up a stop and the shutter down one mark: equally bright, by exact values behind the printed ones.
    assert Exposure(200, 1 / 15, 8).level_stops == pytest.approx(Exposure(100, 1 / 8, 8).level_stops, abs=1e-9)


def test_a_cast_is_a_drift_and_brightness_is_not():
    related = relate_rungs([signals(1), signals(2, stops=0.5), signals(3, red=1.06)], 1, making.MATRIX)
    assert "not distinguishable" in related[2][1].result.reason
    drift = related[3][1].result
    assert drift.low > 1.0
    assert drift.reason == ""


def test_drift_is_told_as_a_converter_sees_it_and_beside_it_with_the_black_that_was_measured():
    """A body whose true black lies 40 DN above its tag: a converter takes too little off, dark frames turn magenta."""
    dim = RungSignals(
        2, {c: q.scaled(0.05) for c, q in signals(2).grey_dn.items()}, 0.0, off_dn=dict.fromkeys(CHANNELS, 40.0)
    )
    base = replace(signals(1), off_dn=dict.fromkeys(CHANNELS, 40.0))
    told = {one.quantity: one for one in relate_rungs([base, dim], 1, making.MATRIX)[2]}
    filed, corrected = told["neutral_drift_de00"], told["neutral_drift_corrected_de00"]
    assert filed.result.low > 3
    assert corrected.result.reason == "not distinguishable from none"
    assert filed.method.endswith("black as the file says")
    assert corrected.method.endswith("black as measured")
    cast, _ = cast_of(dim.grey_as_filed, base.grey_as_filed, making.MATRIX)
    assert filed.result.value == pytest.approx(cast.value, rel=0.01)


def test_a_rung_without_a_grey_signal_says_why():
    blind = RungSignals(2, {c: missing(Missing.CLIPPED) for c in ("R", "G1", "G2", "B")}, 0.0)
    related = relate_rungs([signals(1), blind], 1, making.MATRIX)
    assert {r.quantity for r in related[2]} == {
        "exposure_error_stops", "neutral_drift_de00", "neutral_drift_corrected_de00", "neutral_drift_duv",
        "drift_red_stops", "drift_blue_stops",
    }  # fmt: skip
    assert {r.result.reason for r in related[2]} == {"clipped"}


def habits(iso, *, noise_dn, gain, empty=0.0, cooked=False):
    exact = {"gain_e_per_dn": gain, "read_noise_dn": noise_dn, "read_noise_e": noise_dn * gain}
    readings = {name: with_relative_error(value, 0.002, 9) for name, value in exact.items()}
    readings |= {
        name: Quantity(empty, empty, empty, 500) for name in ("codes_empty", "codes_empty_low", "codes_empty_high")
    }
    readings["codes_doubled"] = Quantity(0.0, 0.0, 0.0, 500)
    readings["neighbour_correlation"] = Quantity(0.0, -0.001, 0.001, 99, (Note(Remark.SMOOTHED),) if cooked else ())
    return RungHabits(iso, iso, readings)


def flags_of(rungs):
    return {key: readings[0].result.reason for key, readings in relate_habits(rungs).items()}


def test_habits_of_the_raw_are_flagged_along_the_ladder():
    rungs = [
        habits(100, noise_dn=2.0, gain=2.0), habits(200, noise_dn=2.4, gain=1.0), habits(400, noise_dn=1.6, gain=0.5),
        habits(800, noise_dn=2.8, gain=0.25, empty=0.4), habits(1600, noise_dn=2.0, gain=0.125, cooked=True),
    ]  # fmt: skip
    assert flags_of(rungs) == {
        100: "", 200: "under base", 400: "second base", 800: "digital", 1600: "smoothed",
    }  # fmt: skip


def test_a_quiet_mark_below_the_trend_is_a_second_base_and_a_trend_is_none():
    # R² = a + b·g²: what an ordinary body does.
    gains = [3.2, 1.6, 0.8, 0.4, 0.2]
    noises = [(2.0 + 1.5 * g * g) ** 0.5 for g in gains]
    plain = [habits(100 * 2**n, noise_dn=r / g, gain=g) for n, (g, r) in enumerate(zip(gains, noises, strict=True))]
    assert set(flags_of(plain).values()) == {""}
    noises[3] *= 0.8
    noises[4] *= 0.8
    quiet = [habits(100 * 2**n, noise_dn=r / g, gain=g) for n, (g, r) in enumerate(zip(gains, noises, strict=True))]
    assert flags_of(quiet)[800] == "second base"
