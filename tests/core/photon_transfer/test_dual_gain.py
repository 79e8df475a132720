"""Where a second base is in force: told by read noise that falls although the gain goes on."""

import numpy as np
import pytest

from yellowjacket.core.metrology.estimate import missing, with_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt, second_base_of


def rung(iso, noise_e, share=0.01, base_gain=4.0):
    gain = base_gain * 100 / iso
    noise_dn = noise_e / gain
    return NoiseAt(
        iso, with_error(gain, gain * share, 1000), with_error(noise_dn, noise_dn * share, 1000),
        with_error(noise_e, noise_e * share, 1000),
    )  # fmt: skip


def test_a_drop_of_read_noise_in_dn_is_a_second_base():
    ladder = [rung(iso, noise) for iso, noise in ((100, 6.0), (200, 5.5), (400, 5.2), (800, 1.9), (1600, 1.8))]
    assert second_base_of(ladder).value == 800


def test_noise_that_only_falls_as_the_converter_matters_less_is_none():
    """R² = a + b·g²: the noise of the amplifier and that of the converter after it."""
    ladder = [rung(iso, (1.5**2 + (1.2 * 4.0 * 100 / iso) ** 2) ** 0.5) for iso in (100, 200, 400, 800, 1600, 3200)]
    found = second_base_of(ladder)
    assert found.value is None
    assert "no sign" in found.reason


def test_a_drop_within_the_uncertainty_is_none():
    ladder = [rung(100, 3.0, 0.2), rung(200, 2.9, 0.2), rung(400, 1.2, 0.6)]
    assert second_base_of(ladder).value is None


@pytest.mark.parametrize("known", [0, 1])
def test_too_few_settings_are_said(known):
    nothing = missing(Missing.NOT_MEASURED)
    ladder = [rung(100, 3.0)] * known + [NoiseAt(200, nothing, nothing, nothing)]
    assert "fewer than two" in second_base_of(ladder).reason


def test_rungs_two_stops_apart_tell_it_at_the_first_that_has_it():
    """By the second rung in force the jump would lie among those it is expected from."""
    truth = {160: 3.84, 640: 2.70, 2500: 1.41, 10000: 1.42, 40000: 1.42}
    assert second_base_of([rung(iso, noise) for iso, noise in truth.items()]).value == 2500


@pytest.mark.parametrize("read_e", [0.8, 1.5, 3.0, 6.0])
@pytest.mark.parametrize("after_dn", [0.5, 1.2, 2.5])
@pytest.mark.parametrize("step", [2, 4, 8])
def test_a_body_of_one_gain_has_none_however_far_its_rungs_lie_apart(read_e, after_dn, step):
    rng = np.random.default_rng(int(100 * read_e + 10 * after_dn + step))
    isos = [100 * step**n for n in range(5)]
    for _ in range(40):
        ladder = [rung(iso, np.hypot(read_e, after_dn * 400 / iso) * rng.normal(1, 0.01)) for iso in isos]
        assert second_base_of(ladder).value is None


@pytest.mark.parametrize(
    ("isos", "switch", "told"),
    [
        ((100, 200, 400, 800, 1600, 3200), 400, 400), ((100, 200, 400, 800, 1600, 3200), 200, 200),
        ((100, 400, 1600, 6400), 800, 1600), ((100, 800, 6400), 800, 800),
    ],
)  # fmt: skip
def test_few_and_early_rungs_are_enough(isos, switch, told):
    rng = np.random.default_rng(21)
    for _ in range(20):
        ladder = [
            rung(iso, np.hypot(2.7 if iso < switch else 1.2, 0.6 * 400 / iso) * rng.normal(1, 0.002), 0.002)
            for iso in isos
        ]
        assert second_base_of(ladder).value == told
