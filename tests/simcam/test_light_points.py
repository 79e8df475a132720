"""Hot and dead pixels told from light frames of the simulated drawer."""

from datetime import datetime

import numpy as np
import pytest

from tests import making
from yellowjacket.core.darks.defects_in_light import bright_points, no_response
from yellowjacket.core.darks.hot_pixels import DEAD
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, _fixed_pattern


@pytest.fixture(scope="module")
def long_exposure(tmp_path_factory):
    """60 s by the light of very little: the drawer, with the sensor's hot pixels in it."""
    path = tmp_path_factory.mktemp("light") / "L.dng"
    camera = SimulatedCamera(HEATH, 5, Lamp(ev100=-4.0))
    camera.shoot(ExposureSettings(800, 60.0, 8.0), path, 1, datetime(2026, 3, 14, 20, 0))
    return read_frame(path)


def test_hot_pixels_are_told_from_fine_texture(long_exposure):
    found = bright_points(long_exposure)
    _, _, rate = _fixed_pattern(HEATH, (HEIGHT_PX, WIDTH_PX))
    right = [one for one in found if rate[one.y, one.x] > 0]
    # Less sure than darks: nine in ten are right, and half of the bright ones are seen.
    assert len(found) > 100
    assert len(right) / len(found) > 0.9
    bright = np.argwhere(rate * 60 > 1500)
    seen = {(one.y, one.x) for one in found}
    assert np.mean([(y, x) in seen for y, x in bright.tolist()]) > 0.5


def test_a_short_exposure_has_next_to_none(tmp_path):
    SimulatedCamera(HEATH, 5).shoot(
        ExposureSettings(100, 1 / 8, 8.0), tmp_path / "L.dng", 1, datetime(2026, 3, 14, 20, 0)
    )
    assert len(bright_points(read_frame(tmp_path / "L.dng"))) < 30


def test_dead_pixels_answer_no_light(rng):
    frames = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    for frame in frames:
        frame.mosaic[100, 51] = making.BLACK
        # In the darkest field nothing can be told.
        frame.mosaic[100, 631] = making.BLACK
    frames[0].mosaic[200, 90] = making.BLACK
    found = no_response(frames)
    assert [(one.x, one.y, one.channel, one.kind) for one in found] == [(51, 100, "G1", DEAD)]
    with pytest.raises(ValueError, match="light frames"):
        no_response([])
