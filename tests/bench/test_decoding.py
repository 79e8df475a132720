"""Pixels from the cache: one decode for all who ask, and nothing that the cache may lose is missed."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from yellowjacket.bench import decoding
from yellowjacket.bench.models import Frame

pytestmark = pytest.mark.django_db


@pytest.fixture
def decodes(monkeypatch):
    """The files that were decoded, each slowly enough for others to come meanwhile."""
    done = []
    real = decoding.decode

    def slowly(task):
        done.append(task.path)
        time.sleep(0.2)
        real(task)

    monkeypatch.setattr(decoding, "decode", slowly)
    return done


def place(data_folder, frame):
    return data_folder / "cache" / "mosaics" / f"{frame.sha256}.npy"


def test_one_decodes_while_the_others_wait(measured, decodes):
    frame = Frame.objects.first()
    with ThreadPoolExecutor(6) as threads:
        found = list(threads.map(decoding.mosaic_of, [frame] * 6))
    assert len(decodes) == 1
    assert all(np.array_equal(one, found[0]) for one in found)


def test_what_the_cache_lost_or_broke_is_decoded_anew(measured, data_folder, decodes):
    frame = Frame.objects.first()
    whole = np.array(decoding.mosaic_of(frame))
    for harm in (lambda file: file.unlink(), lambda file: file.write_bytes(b"not pixels")):
        harm(place(data_folder, frame))
        assert np.array_equal(decoding.mosaic_of(frame), whole)
    assert len(decodes) == 3


def test_without_locks_everybody_decodes_for_himself(measured, data_folder, monkeypatch):
    def never(*_):
        raise OSError("this file system knows no locks")

    monkeypatch.setattr(decoding.fcntl, "flock", never)
    frame = Frame.objects.first()
    assert decoding.mosaic_of(frame).shape == (frame.height, frame.width)


def test_a_page_has_its_frame_decoded_while_it_is_written(measured, data_folder, client, decodes):
    client.get("/tolerance/")
    folder = data_folder / "cache" / "mosaics"
    until = time.monotonic() + 20
    while not list(folder.glob("*.npy")) and time.monotonic() < until:
        time.sleep(0.02)
    # The picture that the page asks for finds it there.
    decoding.mosaic_of(Frame.objects.get(path=decodes[0]))
    assert len(decodes) == 1
