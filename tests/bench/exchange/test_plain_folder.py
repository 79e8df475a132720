"""Frames as a plain folder: named by body and rung, the files as they are, and what is missing said."""

import csv
import hashlib
import io
import zipfile

import pytest

from yellowjacket.bench.exchange import plain_folder
from yellowjacket.bench.models import Body, Frame

pytestmark = pytest.mark.django_db


def opened(sitting):
    buffer = io.BytesIO()
    missing = plain_folder.write(sitting, buffer)
    return zipfile.ZipFile(buffer), missing


def test_every_frame_lies_under_its_body_and_rung_as_it_was(client, filled):
    archive, missing = opened(filled)
    assert missing == 0
    table = list(csv.DictReader(io.StringIO(archive.read("Drawer 1/frames.csv").decode())))
    assert len(table) == Frame.objects.count() == 12
    for row in table:
        data = archive.read(f"Drawer 1/{row['file']}")
        assert hashlib.sha256(data).hexdigest() == row["sha256"]
        assert row["file"].startswith(f"Ostrel Heath OH-1/ISO/ISO {int(float(row['iso'])):06d}, ")
    response = client.get(f"/sittings/{filled.pk}/frames.zip")
    assert response["Content-Disposition"].endswith('filename="drawer-1-frames.zip"')
    assert zipfile.ZipFile(io.BytesIO(b"".join(response.streaming_content))).testzip() is None


def test_an_original_that_is_gone_is_said(filled):
    gone = Frame.objects.first()
    Frame.objects.filter(pk=gone.pk).update(path="/gone/x.DNG")
    archive, missing = opened(filled)
    assert missing == 1
    assert gone.sha256 in archive.read("Drawer 1/not-here.txt").decode()


def test_names_lead_nowhere_else(filled):
    Body.objects.update(model="../..", serial="a/b:c")
    names = opened(filled)[0].namelist()
    assert all(".." not in name.split("/") and name.count("/") <= 4 and ":" not in name for name in names)
