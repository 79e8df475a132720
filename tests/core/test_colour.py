import numpy as np
import pytest

from tests import making
from yellowjacket.core.colour import NOT_DISTINGUISHABLE, ChannelMeans, neutral_drift

GREY = np.array([1100.0, 2000.0, 2000.0, 1400.0])


def means(scale=(1.0, 1.0, 1.0, 1.0), relative_se=0.001):
    values = GREY * np.array(scale)
    return ChannelMeans(tuple(values), tuple(relative_se * values), 4096)


def drift(patch, reference=None):
    return neutral_drift(patch, reference or means(), making.MATRIX, np.random.default_rng(1))


def test_brightness_alone_is_no_drift():
    found = drift(means((0.25,) * 4))
    assert found.reason == NOT_DISTINGUISHABLE
    assert found.low == 0.0


def test_a_cast_grows_with_its_strength_and_its_interval_holds_it():
    sizes = [drift(means((1 + cast, 1, 1, 1))).value for cast in (0.02, 0.05, 0.1, 0.2)]
    assert sizes == sorted(sizes)
    exact = drift(means((1.1, 1, 1, 1), 1e-9)).value
    found = drift(means((1.1, 1, 1, 1), 0.005))
    assert found.low < exact < found.high
    assert found.reason == ""


def test_red_and_blue_casts_are_both_seen():
    for scale in ((1.05, 1, 1, 1), (1, 1, 1, 1.05), (0.95, 1, 1, 0.95)):
        assert drift(means(scale)).value > 1


def test_a_channel_without_signal_gives_a_reason_and_no_number():
    assert "no signal above black" in drift(means((0, 1, 1, 1))).reason
    assert drift(means((-0.1, 1, 1, 1))).value is None


def test_the_same_readings_give_the_same_interval():
    assert drift(means((1.03, 1, 1, 1))) == drift(means((1.03, 1, 1, 1)))


def test_noise_widens_the_interval():
    narrow, wide = (drift(means((1.1, 1, 1, 1), se)) for se in (0.001, 0.01))
    assert wide.high - wide.low > 3 * (narrow.high - narrow.low)
    assert wide.value == pytest.approx(narrow.value)
