"""The scene disturbed, and what a body writes whose quality setting is wrong."""

import numpy as np
import pytest
from PIL import Image

from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import Scene, disturbed


@pytest.fixture
def scene(rng):
    return Scene("texture", rng.uniform(0.1, 0.5, (64, 96, 3)).astype(np.float32))


def test_a_nudge_moves_the_scene_and_leaves_the_original(scene):
    before = scene.reflectance.copy()
    moved = disturbed(scene, (5, -3))
    assert np.array_equal(moved.reflectance[10, 20], scene.reflectance[13, 15])
    assert np.array_equal(scene.reflectance, before)


def test_defocus_keeps_the_light_and_takes_the_contrast(scene):
    soft = disturbed(scene, blur_px=1.5)
    assert soft.reflectance.mean() == pytest.approx(scene.reflectance.mean(), rel=0.01)
    assert soft.reflectance.std() < 0.4 * scene.reflectance.std()


def test_a_jpeg_is_a_picture_and_no_raw_file(scene, tmp_path):
    path = tmp_path / "a.jpg"
    SimulatedCamera(HEATH, scene=scene).write_jpeg(path)
    with Image.open(path) as picture:
        assert picture.format == "JPEG"
        assert picture.size == (24, 16)
