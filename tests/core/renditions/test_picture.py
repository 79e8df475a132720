"""Rendered pictures: noise in display units, against a picture whose noise is known."""

import subprocess
import sys
import zlib

import numpy as np
import pytest
from PIL import Image, ImageCms

from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.picture_file import read_rendered
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.renditions.picture import RenderedTask, lab_of, measure_rendered, proposed

AREA = (("area", Rect(16, 16, 96, 96)),)


def write(path, rng, level=120.0, sigma=6.0, size=(128, 160), **options):
    """An even grey sRGB picture with independent noise in its three channels."""
    picture = np.clip(np.rint(level + rng.normal(0, sigma, (*size, 3))), 0, 255).astype(np.uint8)
    Image.fromarray(picture).save(path, **options)
    return path


def expected(level=120.0, sigma=6.0):
    """σ of L*, and hypot of σ_a and σ_b, counted over a million pixels."""
    rng = np.random.default_rng(0)
    lab = lab_of(np.clip(np.rint(level + rng.normal(0, sigma, (1000, 1000, 3))), 0, 255).astype(np.uint8))
    spread = lab.std(axis=(0, 1))
    return float(spread[0]), float(np.hypot(spread[1], spread[2]))


def patch_of(task):
    return measure_rendered(task)["patches"][0]


def test_a_pair_gives_the_noise_of_the_picture(tmp_path):
    rng = np.random.default_rng(1)
    pair = [str(write(tmp_path / f"{n}.png", rng)) for n in range(2)]
    found = patch_of(RenderedTask(pair[0], pair[1], AREA))
    for name, truth in zip(("noise_luma", "noise_chroma"), expected(), strict=True):
        assert found[name]["low"] < truth * 1.01
        assert found[name]["high"] > truth * 0.99
    # sRGB grey 120: L* 50.4 (published conversion tables; from memory).
    assert found["lightness"]["value"] == pytest.approx(50.4, abs=0.2)


def test_one_picture_alone_is_marked(tmp_path):
    found = patch_of(RenderedTask(str(write(tmp_path / "a.png", np.random.default_rng(2))), None, AREA))
    assert found["noise_luma"]["value"] == pytest.approx(expected()[0], rel=0.03)
    assert "one picture only" in found["noise_luma"]["reason"]
    assert found["noise_luma"]["high"] is None


def test_the_same_picture_twice_is_no_pair(tmp_path):
    one = str(write(tmp_path / "a.png", np.random.default_rng(3)))
    assert measure_rendered(RenderedTask(one, one, AREA))["paired_with"] is None


@pytest.mark.parametrize(("level", "says"), [(2.0, "too dark"), (254.0, "clips")])
def test_ends_of_the_scale_say_why_there_is_no_noise(tmp_path, level, says):
    found = patch_of(RenderedTask(str(write(tmp_path / "a.png", np.random.default_rng(4), level, 1.0)), None, AREA))
    assert found["noise_luma"]["value"] is None
    assert says in found["noise_luma"]["reason"]


def test_patches_are_proposed_where_it_is_even(tmp_path):
    path = write(tmp_path / "a.png", np.random.default_rng(5), size=(256, 256))
    picture = read_rendered(path).copy()
    picture[:128, ::2] = 200
    picture[:128, 1::2] = np.linspace(60, 200, 128)[None, :, None].astype(np.uint8)
    places = [rect for _, rect in proposed(picture)]
    assert len(places) == 12
    assert all(rect.y >= 128 for rect in places)
    assert proposed(picture[:20, :20]) == ()


def test_an_embedded_profile_is_followed_and_turned_pictures_stand_upright(tmp_path):
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    exif = Image.Exif()
    exif[0x0112] = 6
    path = write(
        tmp_path / "a.jpg", np.random.default_rng(6), size=(64, 96), icc_profile=profile, exif=exif, quality=95
    )
    assert read_rendered(path).shape == (96, 64, 3)


@pytest.mark.parametrize(("content", "code"), [(b"", "not-a-picture"), (b"no picture at all", "not-a-picture")])
def test_what_is_no_picture_says_so(tmp_path, content, code):
    path = tmp_path / "a.jpg"
    path.write_bytes(content)
    with pytest.raises(FrameError) as caught:
        read_rendered(path)
    assert caught.value.code == code


def test_a_picture_cut_short_says_so(tmp_path):
    whole = write(tmp_path / "a.jpg", np.random.default_rng(7), quality=95)
    cut = tmp_path / "b.jpg"
    cut.write_bytes(whole.read_bytes()[:2000])
    with pytest.raises(FrameError, match="cut short"):
        read_rendered(cut)


def test_a_patch_outside_says_where_to_go(tmp_path):
    task = RenderedTask(
        str(write(tmp_path / "a.png", np.random.default_rng(8))), None, (("far", Rect(900, 0, 32, 32)),)
    )
    assert "outside this picture" in patch_of(task)["noise_luma"]["reason"]


def test_a_large_picture_takes_seven_bytes_a_pixel_and_a_larger_one_none(tmp_path):
    """Measured in a process of its own; the figure of before was eighteen."""
    path = tmp_path / "large.jpg"
    rng = np.random.default_rng(1)
    Image.fromarray(rng.integers(60, 180, (400, 400, 3), dtype=np.uint8)).resize((8000, 8000)).save(path, quality=80)
    script = (
        "import resource, sys\nfrom pathlib import Path\nfrom yellowjacket.core.raw.picture_file import read_rendered\n"
        "peak = lambda: resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024\nbefore = peak()\n"
        "shape = read_rendered(Path(sys.argv[1]), int(sys.argv[2])).shape\nprint(shape[0], shape[1], peak() - before)"
    )

    def read(most):
        told = subprocess.run(
            [sys.executable, "-c", script, str(path), str(most)], capture_output=True, text=True, check=True
        )
        height, width, peak = map(int, told.stdout.split())
        return (height, width), peak / (8000 * 8000)

    size, bytes_a_pixel = read(0)
    assert size == (8000, 8000)
    assert bytes_a_pixel < 8
    size, bytes_a_pixel = read(20_000_000)
    assert size == (4000, 4000)
    assert bytes_a_pixel < 2.5


def test_a_picture_of_too_many_pixels_is_refused_from_its_head(tmp_path):
    """A PNG that says it is 60,000 pixels wide: the sizes stand in the first chunk (PNG, third edition, 11.2.1)."""
    path = tmp_path / "bomb.png"
    Image.new("RGB", (16, 16)).save(path)
    data = bytearray(path.read_bytes())
    data[16:24] = (60_000).to_bytes(4, "big") * 2
    data[29:33] = zlib.crc32(data[12:29]).to_bytes(4, "big")
    path.write_bytes(data)
    with pytest.raises(FrameError, match=r"picture|megapixels"):
        read_rendered(path)
