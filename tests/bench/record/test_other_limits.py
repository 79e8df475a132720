"""Limits besides ISO: as many questions to the database for many uses as for few."""

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from yellowjacket.bench.models import Use
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
