"""What many tests share: small frames made in memory and on disk, bodies and sittings in the database."""

from __future__ import annotations

import gc
from collections.abc import Callable
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from django.conf import settings
from hypothesis import HealthCheck
from hypothesis import settings as hypothesis_settings

from tests import making
from yellowjacket import data_folder as data_folder_

# Machines are noisy: no test fails for being slow.
hypothesis_settings.register_profile("suite", deadline=None, suppress_health_check=[HealthCheck.too_slow])
hypothesis_settings.load_profile("suite")


def pytest_collection_finish() -> None:
    """What was loaded to collect tests stays, and a test leaves little behind: looking through all of it again and again
    took a twelfth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 50, 50)


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20260314)


@pytest.fixture
def data_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A data folder of the test's own, in force as settings.HOME."""
    folder = tmp_path / "home"
    data_folder_.prepare(folder)
    monkeypatch.setattr(settings, "HOME", folder)
    return folder


@pytest.fixture
def as_measured(request, db) -> bool:
    """Whether the measured sitting of an earlier test was put back, with its body, for one that asks for it."""
    if there := bool(_KEPT) and "measured" in request.fixturenames:
        put_back(_KEPT)
    return there


@pytest.fixture
def body(as_measured):
    """The register's entry for the small test body of tests/making.py."""
    from yellowjacket.bench.models import Body

    if as_measured:
        return Body.objects.get()
    return Body.objects.create(
        make="Ostrel", model="Heath", serial="OH-1", pixel_width=making.WIDTH, pixel_height=making.HEIGHT,
        lowest_iso=100, native_lowest_iso=100, native_highest_iso=400, highest_iso=400,
        fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    )  # fmt: skip


@pytest.fixture
def make_sitting(body) -> Callable:
    """A function that stores a sitting of three rungs (ISO 100, 200, 400)."""
    from yellowjacket.bench.models import Sitting, ToleranceProfile
    from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
    from yellowjacket.core.planning.ladder import Exposure, LadderSpec

    def make(name: str = "Drawer 1", **ladder):
        profile, _ = ToleranceProfile.objects.get_or_create(name="Default")
        sitting = Sitting(
            name=name, scene="drawer", question="How high?", expectation="ISO 200", held_on=date(2026, 3, 14),
            profile=profile,
        )  # fmt: skip
        values = {"kind": "iso", "method": "shutter", "metered": Exposure(100, 1 / 8, 8.0)} | ladder
        request = LadderRequest(body, LadderSpec(**values))
        return create_sitting(sitting, [UseSpec("Pixel level", None), UseSpec("Web", 10_000)], [request])

    return make


@pytest.fixture
def sitting(as_measured, make_sitting):
    from yellowjacket.bench.models import Sitting

    return Sitting.objects.get() if as_measured else make_sitting()


@pytest.fixture(scope="session")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with every frame of the three-rung ladder: two light and two dark a rung."""
    return making.write_ladder(tmp_path_factory.mktemp("card"))


@pytest.fixture
def filled(sitting, card, data_folder):
    """A sitting with all its frames in, not measured."""
    from yellowjacket.bench.intake import importing

    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    return sitting


# The tables with the measured sitting as it was made the first time, for all other tests of this process.
_KEPT: dict[str, list[tuple]] = {}


@pytest.fixture
def measured(as_measured, card, data_folder, sitting):
    """A sitting with all its frames in and measured. It is measured once; other tests find the same rows."""
    from yellowjacket.bench.intake import importing
    from yellowjacket.bench.measure import run

    data_folder_.allow_folder(data_folder, card)
    if as_measured:
        return sitting
    importing.import_folder(sitting, str(card))
    run.start_measuring(sitting)
    if not _KEPT:
        _KEPT.update(rows_of_the_bench())
    return sitting


def rows_of_the_bench() -> dict[str, list[tuple]]:
    """Everything in the tables of the bench, by table."""
    from django.db import connection

    with connection.cursor() as cursor:
        tables = [name for name in connection.introspection.table_names(cursor) if name.startswith("bench_")]
        return {name: cursor.execute(f"SELECT * FROM {name}").fetchall() for name in tables}


def put_back(kept: dict[str, list[tuple]]) -> None:
    """The tables of the bench as they were, inside of the test's transaction, which is checked at its end."""
    from django.db import connection

    with connection.cursor() as cursor:
        for name, rows in kept.items():
            cursor.execute(f"DELETE FROM {name}")
            if rows:
                cursor.executemany(f"INSERT INTO {name} VALUES ({', '.join(['%s'] * len(rows[0]))})", rows)
