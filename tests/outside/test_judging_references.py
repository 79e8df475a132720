"""Judging against reference libraries: statsmodels' logit and kappa, SciPy's binomial."""

import numpy as np
import pytest
import statsmodels.api as sm
from scipy import stats
from statsmodels.stats.inter_rater import cohens_kappa

from yellowjacket.core.judging.psychometrics import fitted, kappa, told_apart

pytestmark = pytest.mark.outside


def test_the_threshold_is_that_of_a_logistic_regression():
    """Many answers and no lapses: prior and lapse matter little, and the 50 % point is −a/b of statsmodels' Logit."""
    rng = np.random.default_rng(2)
    levels = np.tile(np.arange(-4, 5) * 0.75, 120)
    answers = rng.random(levels.size) < 1 / (1 + np.exp((levels - 0.4) / 0.6))
    reference = sm.Logit(answers.astype(float), sm.add_constant(levels)).fit(disp=0)
    middle = -reference.params[0] / reference.params[1]
    gradient = np.array([-1 / reference.params[1], reference.params[0] / reference.params[1] ** 2])
    se = float(np.sqrt(gradient @ reference.cov_params() @ gradient))
    own = fitted(levels.tolist(), answers.tolist())
    assert own.noise_log2.value == pytest.approx(middle, abs=0.5 * se)
    assert (own.noise_log2.high - own.noise_log2.low) / 2 == pytest.approx(1.96 * se, rel=0.25)


@pytest.mark.parametrize("weighted", [True, False])
def test_kappa_is_that_of_statsmodels(weighted):
    rng = np.random.default_rng(3)
    one = rng.integers(1, 6, 60)
    other = np.clip(one + rng.integers(-1, 2, 60), 1, 5)
    table = np.zeros((5, 5))
    np.add.at(table, (one - 1, other - 1), 1)
    reference = cohens_kappa(table, wt="quadratic" if weighted else None)
    own = kappa(one.tolist(), other.tolist(), weighted=weighted)
    assert own.value == pytest.approx(reference.kappa)
    assert (own.high - own.low) / 2 == pytest.approx(1.96 * reference.std_kappa, rel=0.02)


@pytest.mark.parametrize(("correct", "trials"), [(7, 12), (12, 12), (20, 30), (3, 12)])
def test_guessing_is_the_exact_binomial(correct, trials):
    share, chance = told_apart(correct, trials)
    assert chance == pytest.approx(stats.binom.sf(correct - 1, trials, 0.5))
    # Clopper and Pearson by the beta distribution.
    low = stats.beta.ppf(0.025, correct, trials - correct + 1) if correct else 0.0
    high = stats.beta.ppf(0.975, correct + 1, trials - correct) if correct < trials else 1.0
    assert (share.low, share.high) == pytest.approx((low, high))
