"""Data of the first version goes on in the next: rungs get their names, ladders their plan, shots their order."""

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from tests.old_versions import NEWEST, emptied, migrated


def old_ladder(old):
    """A ladder without rungs in the tables of an older version, with what it belongs to."""
    body = old.get_model("bench", "Body").objects.create(
        make="Ostrel", model="Heath", pixel_width=100, pixel_height=100, lowest_iso=100, native_lowest_iso=100,
        native_highest_iso=200, highest_iso=200, fastest_shutter_s=1 / 8000,
    )  # fmt: skip
    profile = old.get_model("bench", "ToleranceProfile").objects.create(name="Default")
    sitting = old.get_model("bench", "Sitting").objects.create(
        name="Old", scene="x", question="x", expectation="x", held_on="2026-03-14", profile=profile
    )
    return old.get_model("bench", "Ladder").objects.create(
        sitting=sitting, body=body, metered_iso=100, metered_exposure_s=0.125, f_number=8
    )


@pytest.mark.django_db(transaction=True)
def test_sittings_of_the_first_version_keep_their_plan_in_the_tables_of_one_step():
    at_once = tables()
    emptied()
    old = migrated("0001_initial")
    ladder = old_ladder(old)
    for position, iso in enumerate((100, 200)):
        rung = old.get_model("bench", "Rung").objects.create(
            ladder=ladder, position=position, iso=iso, exposure_s=12.5 / iso, warnings=["extended ISO"]
        )
        for kind in ("light", "dark"):
            for repeat in (1, 2):
                old.get_model("bench", "Shot").objects.create(rung=rung, kind=kind, repeat=repeat)
    migrated(NEWEST)

    from yellowjacket.bench.models import Ladder, Shot

    new = Ladder.objects.get()
    assert [(rung.key, rung.label) for rung in new.rungs.all()] == [("100", "ISO 100"), ("200", "ISO 200")]
    assert new.rungs.first().warnings[0]["text"] == "extended ISO"
    assert (new.planned.spec.repeats, new.planned.spec.darks) == (2, 2)
    assert new.advice
    in_order = Shot.objects.order_by("order").values_list("kind", "rung__iso", "repeat")
    assert list(in_order)[:3] == [("light", 100, 1), ("light", 100, 2), ("light", 200, 1)]
    assert len(set(Shot.objects.values_list("order", flat=True))) == 8
    # One step leads to the same tables, and who has gone the old way has nothing left to do.
    assert tables() == at_once
    assert MigrationExecutor(connection).migration_plan([("bench", NEWEST)]) == []


@pytest.mark.django_db(transaction=True)
def test_words_of_old_readings_become_typed_notes():
    emptied()
    old = migrated("0014_originals_and_seen_files")
    ladder = old_ladder(old)
    rung = old.get_model("bench", "Rung").objects.create(ladder=ladder, position=0, iso=100, exposure_s=0.125)
    told = {
        "flags": "second base, smoothed", "noise_dn": "limited by rounding", "prnu": "told in words of its own", "snr": "",
    }  # fmt: skip
    for quantity, reason in told.items():
        old.get_model("bench", "Reading").objects.create(
            rung=rung, channel="all", quantity=quantity, value=2.0, reason=reason
        )
    old.get_model("bench", "Reading").objects.create(
        rung=rung, channel="all", quantity="cast_de00", value=2.0, method="towards magenta; black as the file says"
    )
    migrated(NEWEST)

    from yellowjacket.bench.models import Reading
    from yellowjacket.core.metrology.notes import Remark

    new = {row.quantity: row for row in Reading.objects.all()}
    assert [note.kind for note in new["flags"].result.notes] == [Remark.SECOND_BASE, Remark.SMOOTHED_HERE]
    assert new["noise_dn"].result.has(Remark.ROUNDING)
    assert (new["cast_de00"].reason, new["cast_de00"].method) == ("towards magenta", "black as the file says")
    assert (new["prnu"].reason, new["snr"].result.notes) == ("told in words of its own", ())


def tables():
    """Every table of the bench with its columns, and every index, as SQLite keeps them; in no order."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name LIKE 'bench%'")
        found = {}
        for (name,) in cursor.fetchall():
            cursor.execute(f"SELECT name, type, [notnull], pk FROM pragma_table_info('{name}')")
            columns = set(cursor.fetchall())
            cursor.execute(f"SELECT [unique], partial, name FROM pragma_index_list('{name}')")
            indexes = {(unique, partial, *columns_of(cursor, index)) for unique, partial, index in cursor.fetchall()}
            cursor.execute("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = %s", [name])
            checks = sorted(part.split('"')[0] for part in cursor.fetchone()[0].split("CONSTRAINT ")[1:])
            found[name] = columns, indexes, len(checks)
    return found


def columns_of(cursor, index):
    cursor.execute(f"SELECT name FROM pragma_index_info('{index}')")
    return tuple(name for (name,) in cursor.fetchall())
