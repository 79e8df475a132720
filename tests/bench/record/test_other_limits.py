"""Limits besides ISO: as many questions to the database for many uses as for few."""

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from yellowjacket.bench.models import Ladder, Use
from yellowjacket.bench.record import other_limits

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize("kind", ["exposure", "time", "iso"])
def test_more_uses_ask_nothing_more(make_sitting, kind):
    method = {"exposure": "shutter", "time": "capped", "iso": "shutter"}[kind]
    sitting = make_sitting(kind=kind, method=method)
    ladder = sitting.ladders.select_related("sitting__profile", "body").get()

    def asked() -> int:
        uses = list(sitting.uses.all())
        with CaptureQueriesContext(connection) as captured:
            rows = other_limits.of_body(ladder, uses)
        assert {row.use for row in rows} <= {use.name for use in uses} | {""}
        return len(captured)

    before = asked()
    for n in range(6):
        Use.objects.create(sitting=sitting, position=10 + n, name=f"Use {n}", output_pixels=1_000_000 + n)
    assert asked() == before


@pytest.mark.parametrize("kind", ["exposure", "time"])
def test_more_ladders_ask_nothing_more(make_sitting, kind):
    sitting = make_sitting(kind=kind, method="shutter" if kind == "exposure" else "capped")
    uses, own = list(sitting.uses.all()), sitting.ladders.select_related("sitting__profile", "body").get()

    def asked() -> int:
        with CaptureQueriesContext(connection) as captured:
            other_limits.of_body(own, uses)
        return len(captured)

    before = asked()
    for n in range(3):
        rungs = list(own.rungs.all())
        ladder = Ladder.objects.get(pk=own.pk)
        ladder.pk, ladder.position = None, 10 + n
        ladder.save(force_insert=True)
        for rung in rungs:
            rung.pk, rung.ladder = None, ladder
            rung.save(force_insert=True)
    assert asked() == before
