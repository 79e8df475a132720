"""A ladder made longer, with everything that belongs to its rungs, to see whether a page asks more of the database."""

from __future__ import annotations

import hashlib

from django.db import connection
from django.test.utils import CaptureQueriesContext

from yellowjacket.bench.models import Frame, Grade, Reading, RungDarks, Shot


def queries(client, path: str) -> int:
    """How many queries a page takes."""
    with CaptureQueriesContext(connection) as captured:
        assert client.get(path).status_code == 200, path
    return len(captured)


def grow(ladder, times: int = 2) -> None:
    """Every rung again, ``times`` over: its shots, frames, readings, darks and grades with it."""
    rungs = list(ladder.rungs.all())
    for n in range(times):
        for rung in rungs:
            old = rung.pk
            shots = list(Shot.objects.filter(rung=old))
            parts = [list(model.objects.filter(rung=old)) for model in (Reading, RungDarks, Grade)]
            rung.pk, rung.key, rung.position = None, f"{rung.key}-{n}"[-20:], rung.position + 100
            rung.at_stops += 0.1
            rung.save(force_insert=True)
            for shot in shots:
                frame = Frame.objects.filter(shot=shot.pk).first()
                shot.pk, shot.rung = None, rung
                shot.save(force_insert=True)
                if frame is not None:
                    frame.sha256 = hashlib.sha256(f"{frame.sha256}{n}".encode()).hexdigest()
                    frame.pk, frame.shot = None, shot
                    frame.save(force_insert=True)
            for part in parts:
                for one in part:
                    one.pk, one.rung = None, rung
                    one.save(force_insert=True)
