"""Smoothing told from the correlation of neighbours, and what it hides, against filters applied to noise."""

import numpy as np
import pytest
from scipy.ndimage import convolve1d

from yellowjacket.core.metrology.estimate import missing, with_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.noise.autocorrelation import lag_sums
from yellowjacket.core.noise.smoothing import (
    correlation_of,
    kept_variance,
    noise_hidden_stops,
    processing_part,
    share_of,
    verdict,
)


def smoothed(share, seed=1):
    noise = np.random.default_rng(seed).normal(0, 8, (900, 900))
    for axis in (0, 1):
        noise = convolve1d(noise, [share, 1 - 2 * share, share], axis=axis, mode="wrap")
    return noise


@pytest.mark.parametrize("share", [0.03, 0.06, 0.12, 0.2])
def test_the_filter_is_told_from_what_it_did(share):
    noise = smoothed(share)
    found = verdict(lag_sums(noise))
    assert found.flag
    assert share_of(found.lag1.value) == pytest.approx(share, abs=0.003)
    hidden = noise_hidden_stops(found.lag1)
    # What the filter took of the noise, counted.
    assert hidden.value == pytest.approx(np.log2(8 / noise.std()), abs=0.02)
    assert hidden.low <= hidden.value <= hidden.high


def test_closed_forms_and_their_ends():
    assert kept_variance(0.0) == 1.0
    assert correlation_of(0.25) == pytest.approx(2 / 3)
    assert share_of(-0.1) == 0.0
    assert share_of(0.9) == pytest.approx(0.25, abs=1e-6)
    assert noise_hidden_stops(missing(Missing.NO_PAIR)).has(Missing.NO_PAIR)


def test_the_part_of_a_difference_that_is_smoothing():
    # The same sensor twice, one of them smoothed: all of the difference is processing.
    noise = smoothed(0.12)
    rho = verdict(lag_sums(noise)).lag1
    gained = float(np.log2(8 / noise.std()))
    difference, part = processing_part(
        with_error(12.0 + gained, 0.01, 9), with_error(12.0, 0.01, 9), rho, with_error(0.0, 0.001, 9)
    )
    assert difference.value == pytest.approx(gained)
    assert part.low - 0.02 < gained < part.high + 0.02
    nothing, _ = processing_part(missing(Missing.NO_DARK_PAIR), with_error(12, 0.1, 9), rho, rho)
    assert nothing.has(Missing.NO_DARK_PAIR)
