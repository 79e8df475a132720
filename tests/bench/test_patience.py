"""A database that somebody else holds, a full disk: waited for or told, never a failure for good."""

import sqlite3
import threading
import time
from contextlib import closing, contextmanager

import pytest
from django.db import OperationalError, connection, connections

from yellowjacket.bench import patience
from yellowjacket.bench.intake import importing
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.models import Frame, Job
from yellowjacket.bench.patience import Trouble, trouble_of


@contextmanager
def held(seconds: float):
    """Another program holds the database of the tests for a while."""
    ready = threading.Event()

    def hold():
        with closing(sqlite3.connect(connection.settings_dict["NAME"], uri=True, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            ready.set()
            time.sleep(seconds)
            other.execute("ROLLBACK")

    thread = threading.Thread(target=hold)
    thread.start()
    ready.wait()
    yield
    thread.join()


@pytest.fixture
def impatient(transactional_db):
    """A database in a file, which gives up waiting after a tenth of a second."""
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA busy_timeout = 100")
    before = connection.settings_dict["OPTIONS"]
    connection.settings_dict["OPTIONS"] = before | {"timeout": 0.1}
    yield
    connection.settings_dict["OPTIONS"] = before
    connections.close_all()


@pytest.fixture
def quick(monkeypatch):
    monkeypatch.setattr(patience, "_FIRST_PAUSE_S", 0.05)
    monkeypatch.setattr(patience, "_LONGEST_PAUSE_S", 0.1)


def test_a_job_waits_for_the_database_and_ends_well(impatient, quick, sitting, card, data_folder):
    from yellowjacket import data_folder as data_folder_

    data_folder_.allow_folder(data_folder, card)
    job = Job.objects.create(sitting=sitting, kind="import", parameters={"files": importing.files_of(str(card))})
    with held(1.5):
        queue.run_job.call(job.pk)
    job.refresh_from_db()
    assert (job.state, job.message) == ("done", "12 frames in")


def test_a_job_whose_database_is_taken_in_the_middle_goes_on(impatient, quick, sitting, card, data_folder, monkeypatch):
    from yellowjacket import data_folder as data_folder_

    data_folder_.allow_folder(data_folder, card)
    job = Job.objects.create(sitting=sitting, kind="import", parameters={"files": importing.files_of(str(card))})
    add_frame, holding = importing.add_frame, []

    def taken_away(*args, **kwargs):
        if len(holding) < 1 and Frame.objects.count() == 5:
            holding.append(held(1.0))
            raise OperationalError("database is locked")
        return add_frame(*args, **kwargs)

    monkeypatch.setattr(importing, "add_frame", taken_away)
    queue.run_job.call(job.pk)
    job.refresh_from_db()
    assert holding
    assert job.state == "done"
    assert Frame.objects.filter(shot__isnull=False).count() == 12


def test_a_form_sent_meanwhile_is_told_so_and_changes_nothing(impatient, sitting, client):
    client.raise_request_exception = False
    with held(1.0):
        response = client.post(f"/sittings/{sitting.pk}/shoot/watch/", {"watch": "on"})
        # Reading goes on.
        assert client.get(f"/sittings/{sitting.pk}/shoot/").status_code == 200
    assert response.status_code == 503
    assert "try again in a moment" in response.content.decode()
    sitting.refresh_from_db()
    assert not sitting.watches_inbox
    assert client.post(f"/sittings/{sitting.pk}/shoot/watch/", {"watch": "on"}).status_code == 302


def sqlite_error(code: int) -> sqlite3.Error:
    error = sqlite3.OperationalError("said so")
    error.sqlite_errorcode = code
    return error


@pytest.mark.parametrize(
    ("error", "trouble"),
    [
        (sqlite_error(sqlite3.SQLITE_BUSY), Trouble.BUSY),
        (sqlite_error(sqlite3.SQLITE_BUSY_SNAPSHOT), Trouble.BUSY),
        (sqlite_error(sqlite3.SQLITE_FULL), Trouble.FULL),
        (sqlite_error(sqlite3.SQLITE_READONLY_DBMOVED), Trouble.READ_ONLY),
        (sqlite_error(sqlite3.SQLITE_CORRUPT), Trouble.DAMAGED),
        (sqlite_error(sqlite3.SQLITE_NOTADB), Trouble.DAMAGED),
        (OSError(28, "No space left on device"), Trouble.FULL),
        (OSError(30, "Read-only file system"), Trouble.READ_ONLY),
        (OSError(2, "No such file"), None),
        (ValueError("x"), None),
        (None, None),
    ],
)
def test_what_is_wrong_with_disk_or_database_is_told_apart(error, trouble):
    """Codes of SQLite: sqlite.org/rescode.html; of the system: errno.h."""
    assert trouble_of(error) is trouble
    if error is not None:
        outer = RuntimeError("outer")
        outer.__cause__ = error
        assert trouble_of(outer) is trouble
    assert trouble is None or patience.words_for(trouble)


def test_patience_does_not_wait_for_what_does_not_pass(db):
    def broken():
        raise OperationalError("no such table: moths")

    with pytest.raises(OperationalError, match="moths"):
        patience.patiently(broken, pause=lambda _: pytest.fail("waited"))
