"""What codes tell: multiplication, division, bit depth, the clip point."""

import numpy as np
import pytest

from yellowjacket.core.raw.codes import FEWEST_CODES, clip_code, code_use, digital_verdict, noise_of_cut_black


def counts_of(codes):
    return np.bincount(np.clip(codes, 0, 65535).astype(np.int64), minlength=65536)


@pytest.fixture
def signal(rng):
    """Whole numbers of a scene from the blacks to the lights."""
    return np.rint(rng.uniform(600, 9000, 400_000) + rng.normal(0, 5, 400_000))


@pytest.mark.parametrize("factor", [1.1, 1.26, 1.5873, 2.0])
def test_multiplied_numbers_leave_codes_empty(signal, factor):
    lowest = code_use(counts_of(signal), None)
    use = code_use(counts_of(np.rint((signal - 512) * factor + 512)), None)
    found = digital_verdict(use, lowest)
    assert found.flag is True
    assert found.factor == pytest.approx(factor, rel=0.02)


@pytest.mark.parametrize("seed", range(12))
def test_an_honest_amplifier_leaves_none(seed):
    rng = np.random.default_rng(seed)
    use = code_use(counts_of(np.rint(rng.uniform(600, 9000, 300_000))), None)
    assert digital_verdict(use, use).flag is False
    # A dark's narrow hill: its tails must not count as gaps.
    hill = code_use(counts_of(np.rint(rng.normal(512, 40, 500_000))), None)
    assert hill.empty <= 0.05


def test_a_divided_mark_has_doubled_codes(signal):
    use = code_use(counts_of(np.rint(signal / 1.26)), None)
    found = digital_verdict(use, code_use(counts_of(signal), None))
    assert found.flag is True
    assert "divided" in found.reason


def test_gaps_on_every_rung_are_the_bit_depth(signal):
    twelve = code_use(counts_of(np.rint(signal / 4) * 4), None)
    assert digital_verdict(twelve, twelve).flag is False
    assert "bit depth" in digital_verdict(twelve, None).reason


def test_a_table_that_thins_out_is_not_digital(rng):
    low, high = rng.uniform(600, 3000, 200_000), rng.uniform(3000, 9000, 400_000)
    use = code_use(counts_of(np.concatenate([np.rint(low), np.rint(high / 2) * 2])), None)
    assert "coding table" in digital_verdict(use, code_use(counts_of(np.rint(low)), None)).reason


def test_too_few_codes_cannot_tell(rng):
    use = code_use(counts_of(np.rint(rng.normal(512, 2, 100_000))), None)
    assert use.usable < FEWEST_CODES
    assert digital_verdict(use, use).flag is None


def test_the_clip_point_is_a_pile_at_the_top(signal):
    assert clip_code(counts_of(np.minimum(signal, 8000))) == 8000
    assert clip_code(counts_of(signal)) is None
    assert clip_code(np.zeros(65536, np.int64)) is None


@pytest.mark.parametrize("sigma", [30.0, 200.0, 900.0])
def test_noise_of_a_black_that_is_cut_off_is_bounded_from_above(rng, sigma):
    numbers = np.clip(np.rint(rng.normal(0.4 * sigma, sigma, 400_000)), 0, None)
    found = noise_of_cut_black(counts_of(numbers))
    assert found.value == pytest.approx(sigma, rel=0.01)
    assert (found.low, "upper bound" in found.reason) == (0.0, True)
    whole = np.rint(rng.normal(1000 + 6 * sigma, sigma, 100_000))
    assert noise_of_cut_black(counts_of(whole)).value is None
    assert noise_of_cut_black(counts_of(np.clip(numbers - 2 * sigma, 0, None))).value is None
