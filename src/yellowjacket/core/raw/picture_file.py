"""Files of rendered pictures (JPEG, PNG, TIFF, HEIF): what a camera or a converter has made of its raw numbers already."""

from __future__ import annotations

import contextlib
import io
import math
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags, Image, ImageCms, ImageOps, UnidentifiedImageError
from pillow_heif import register_heif_opener

from yellowjacket.core.raw.frame import FrameError

# More are refused before anything is decoded: 150 MP is the largest body, and a worker takes 7 bytes a pixel.
MOST_PIXELS = 220_000_000
_BAND_PX = 256
# Exif orientations that stand on a side (CIPA DC-008, Orientation).
_ON_ITS_SIDE = (5, 6, 7, 8)

Picture = NDArray[np.uint8]
register_heif_opener()
# The bound is ours, and asked first.
Image.MAX_IMAGE_PIXELS = MOST_PIXELS


def read_rendered(path: Path, most_pixels: int = 0) -> Picture:
    """A rendered picture as sRGB, uint8 (height, width, 3), upright; an embedded profile is followed.

    ``most_pixels``: where fewer do, a JPEG that has more is decoded to a half, a quarter or an eighth of its sides; 0 for
    all. Takes seven bytes a pixel at most. Raises FrameError for what is no picture, is cut short, or so large that decoding
    it would take the machine's memory.
    """
    try:
        with Image.open(path) as picture:
            require_bearable(path, picture.width, picture.height)
            if most_pixels and picture.width * picture.height > most_pixels:
                half = math.ceil(math.log2(picture.width * picture.height / most_pixels) / 2)
                picture.draft("RGB", (picture.width >> half, picture.height >> half))
            ImageOps.exif_transpose(picture, in_place=True)
            return _in_bands(_in_srgb(picture))
    except (UnidentifiedImageError, Image.DecompressionBombError) as error:
        raise FrameError(path, "not-a-picture", "is not a picture that can be read.", "Export it again.") from error
    except (OSError, SyntaxError, ValueError) as error:
        raise FrameError(path, "truncated", "is cut short or damaged.", "Copy or export it again.") from error


def require_bearable(path: Path, width: int, height: int) -> None:
    """Raise FrameError for a picture of more pixels than are decoded; asked before it is."""
    if width * height > MOST_PIXELS:
        raise FrameError(
            path, "size", f"has {width * height / 1e6:.0f} megapixels; {MOST_PIXELS / 1e6:.0f} at most are read.",
            "Export it smaller.",
        )  # fmt: skip


def size_of(path: Path) -> tuple[int, int]:
    """Width and height of a rendered picture, upright, from its head alone. Raises FrameError like read_rendered."""
    try:
        with Image.open(path) as picture:
            turned = picture.getexif().get(ExifTags.Base.Orientation, 1) in _ON_ITS_SIDE
            return (picture.height, picture.width) if turned else picture.size
    except (OSError, SyntaxError, ValueError) as error:
        raise FrameError(path, "not-a-picture", "is not a picture that can be read.", "Export it again.") from error


def _in_bands(picture: Image.Image) -> Picture:
    """The pixels as an array: a band at a time, as the library's own way holds them three times over."""
    found = np.empty((picture.height, picture.width, 3), np.uint8)
    for top in range(0, picture.height, _BAND_PX):
        bottom = min(top + _BAND_PX, picture.height)
        found[top:bottom] = np.asarray(picture.crop((0, top, picture.width, bottom)))
    return found


def _in_srgb(picture: Image.Image) -> Image.Image:
    profile = picture.info.get("icc_profile")
    if profile and picture.mode == "RGB":
        with contextlib.suppress(ImageCms.PyCMSError):
            ImageCms.profileToProfile(
                picture, ImageCms.ImageCmsProfile(io.BytesIO(profile)), ImageCms.createProfile("sRGB"), inPlace=True
            )
    return picture if picture.mode == "RGB" else picture.convert("RGB")
