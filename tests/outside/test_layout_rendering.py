"""The look of 6×6 and monochrome frames against LibRaw's own rendering of the same files: mean colours of patches."""

from datetime import datetime

import numpy as np
import pytest
import rawpy

from yellowjacket.core.colour.colorimetry import camera_to_srgb, delta_e_2000, lab_of_linear_srgb
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import DEVELOPERS, Development, interpolated_crop
from yellowjacket.simcam.bodies import HEATH, HOLT, WOLD
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings

pytestmark = pytest.mark.outside
# Corners of the drawer's colour patches in raw pixels; ten by three of them.
LEFT, TOP, RIGHT, BOTTOM, ACROSS, DOWN = 64, 924, 938, 1170, 10, 3


def patches() -> list[Rect]:
    wide, tall = (RIGHT - LEFT) / ACROSS, (BOTTOM - TOP) / DOWN
    return [
        Rect(int(LEFT + (n + 0.3) * wide) // 2 * 2, int(TOP + (m + 0.3) * tall) // 2 * 2, 30, 30)
        for m in range(DOWN)
        for n in range(ACROSS)
    ]


def brought_to_grey(linear: np.ndarray) -> np.ndarray:
    """Means of patches, all with the same mean light, as exposure is no part of colour."""
    return linear / linear.mean() * 0.25


@pytest.mark.parametrize("developer", DEVELOPERS)
@pytest.mark.parametrize("body", [HEATH, HOLT, WOLD], ids=lambda body: body.key)
def test_patches_have_the_colours_that_libraw_gives_them(tmp_path, body, developer):
    path = tmp_path / "a.dng"
    iso = body.native_lowest_iso
    SimulatedCamera(body, 3).shoot(
        ExposureSettings(iso, 1 / 16 * 100 / iso, 8.0), path, 1, datetime(2026, 3, 14, 20, 0)
    )
    with rawpy.imread(str(path)) as raw:
        theirs = (
            raw.postprocess(
                use_camera_wb=True, no_auto_bright=True, gamma=(1, 1), output_bps=16, user_flip=0, half_size=False
            )
            / 65535
        )
    # Of one colour it gives one channel.
    theirs = np.repeat(theirs, 3, axis=-1) if theirs.shape[-1] == 1 else theirs
    frame = read_frame(path)
    gains = tuple(1e-4 / share for share in (frame.neutral if body.filters else np.ones(3)))
    how = Development(frame.layout, frame.black_dn, gains, frame.xyz_to_camera, developer)
    turn = camera_to_srgb(frame.xyz_to_camera) if body.filters else np.eye(3)
    ours = [(interpolated_crop(frame.mosaic, rect, how) @ turn.T).mean(axis=(0, 1)) for rect in patches()]
    shown = [theirs[r.y : r.y + r.h, r.x : r.x + r.w].mean(axis=(0, 1)) for r in patches()]
    found, wanted = (lab_of_linear_srgb(np.maximum(brought_to_grey(np.array(one)), 0)) for one in (ours, shown))
    # What lies outside sRGB is cut off there and kept here.
    inside = np.array(ours).min(axis=1) > 0
    assert inside.sum() >= 20
    assert delta_e_2000(found[inside], wanted[inside]).max() < 2
