"""Questions to the readings: several in one query say what each alone says."""

import pytest

from yellowjacket.bench.development import Developing
from yellowjacket.bench.models import Reading
from yellowjacket.bench.models.queries.readings import LOOKED_AT, Spoken
from yellowjacket.core.metrology.measurands import Measurand

pytestmark = pytest.mark.django_db


def test_several_questions_are_answered_in_one_query(measured, django_assert_num_queries):
    ladder = measured.ladders.get()
    rungs = list(ladder.rungs.all())
    asked = {
        "limits": Reading.objects.of_limits(rungs),
        "flags": Reading.objects.filter(quantity=Measurand.FLAGS, rung__in=rungs),
        "nothing": Reading.objects.filter(rung__in=[]),
        **Developing.asked_of(ladder),
    }
    with django_assert_num_queries(1):
        together = Reading.objects.in_one(asked)
    assert together == {name: question.said() for name, question in asked.items()}
    assert [len(answer) for answer in together.values()][1:3] == [len(rungs), 0]
    assert all(answer == sorted(answer, key=lambda one: one.pk) for answer in together.values())
    assert Developing.told(ladder, together) == Developing.of(ladder)


def test_nothing_that_is_asked_asks_nothing(django_assert_num_queries):
    with django_assert_num_queries(0):
        assert Reading.objects.in_one({}) == {}


def test_what_stands_for_a_rung_is_what_the_rows_say(measured):
    """Against reading row by row."""
    rungs = list(measured.ladders.get().rungs.all())
    spoken = Spoken.of(Reading.objects.of_limits(rungs).said())
    assert spoken.findings(rungs) == Reading.objects.findings_by_use(rungs)
    seen = 0
    for row in Reading.objects.filter(rung__in=rungs).select_related("patch").order_by("-pk"):
        if row.quantity not in LOOKED_AT:
            continue
        known = Measurand(row.quantity).described
        if row.channel == known.channel and (row.patch.role if row.patch else "") == known.role:
            assert spoken.rows[row.use_id][row.rung_id][Measurand(row.quantity)] == row.result
            seen += 1
    assert seen == sum(
        quantity in LOOKED_AT for of_use in spoken.rows.values() for of_rung in of_use.values() for quantity in of_rung
    )
