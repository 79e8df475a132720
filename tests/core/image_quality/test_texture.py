"""Detail by coherence, against a texture whose spectrum and noise are known."""

import numpy as np
import pytest

from yellowjacket.core.image_quality.texture import NYQUIST, finest_detail

SIDE = 112


def texture(rng, falling=2.0, strength=1.0):
    """A random texture whose power falls with the square of frequency, periodic on a larger field."""
    size = 2 * SIDE
    radius = np.hypot(np.fft.fftfreq(size)[:, None], np.fft.fftfreq(size)[None, :])
    amplitude = np.zeros_like(radius)
    amplitude[radius > 0] = strength / (radius[radius > 0] ** (falling / 2))
    spectrum = np.fft.fft2(rng.normal(size=(size, size))) * amplitude
    return np.fft.ifft2(spectrum).real[:SIDE, :SIDE]


def crossing(noise, falling=2.0, strength=1.0):
    """Frequency at which the texture's power per pixel equals that of the noise: strength² / f^falling = noise²."""
    return (strength / noise) ** (2 / falling)


def pair(rng, noise, **kinds):
    scene = texture(rng, **kinds)
    return scene + rng.normal(0, noise, scene.shape), scene + rng.normal(0, noise, scene.shape)


@pytest.mark.parametrize("noise", [3.0, 5.0, 8.0])
def test_detail_ends_where_noise_equals_signal(noise):
    rng = np.random.default_rng(2)
    found = finest_detail([pair(rng, noise)], [0.0])
    assert found.value == pytest.approx(crossing(noise), rel=0.12)
    assert found.low <= crossing(noise) <= found.high


def test_the_interval_holds_the_truth():
    rng, inside = np.random.default_rng(3), 0
    for _ in range(300):
        found = finest_detail([pair(rng, 4.0), pair(rng, 4.0)], [0.0, 0.0])
        inside += found.low <= crossing(4.0) <= found.high
    assert 0.90 <= inside / 300 <= 0.99


def test_without_noise_detail_is_at_least_all_a_channel_shows():
    found = finest_detail([pair(np.random.default_rng(4), 0.01)], [0.0])
    assert found.value == NYQUIST
    assert found.reason.startswith("at least")


def test_noise_alone_holds_no_detail():
    rng = np.random.default_rng(5)
    found = finest_detail([(rng.normal(size=(SIDE, SIDE)), rng.normal(size=(SIDE, SIDE)))], [0.0])
    assert found.value == 0.0
    assert "no detail" in found.reason


def test_fixed_pattern_passes_for_detail_unless_it_is_taken_off():
    rng = np.random.default_rng(6)
    scene, pattern = texture(rng), rng.normal(0, 6.0, (SIDE, SIDE))
    frames = tuple(scene + pattern + rng.normal(0, 3.0, scene.shape) for _ in range(2))
    assert finest_detail([frames], [0.0]).value == NYQUIST
    # Pattern and noise together are what detail must stand out from.
    truth = crossing(np.hypot(6.0, 3.0))
    assert finest_detail([frames], [36.0]).value == pytest.approx(truth, rel=0.2)


def test_a_patch_too_small_says_how_large_it_should_be():
    small = np.zeros((20, 80))
    assert "make it 48" in finest_detail([(small, small)], [0.0]).reason
