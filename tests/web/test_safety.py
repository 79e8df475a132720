"""Security headers, CSRF, escaping; and that pages stay small in queries."""

import re
from datetime import date
from pathlib import Path

import pytest
from django.db import IntegrityError, OperationalError, connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.intake import importing
from yellowjacket.bench.measure import run
from yellowjacket.bench.models import Grade, Rung, Shot, Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.core.planning.ladder import Exposure, LadderSpec

pytestmark = pytest.mark.django_db


def test_the_policy_allows_nothing_inline_and_nothing_foreign(client):
    policy = client.get("/")["Content-Security-Policy"]
    assert "default-src 'none'" in policy
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert "http" not in policy


def test_other_headers(client):
    response = client.get("/")
    assert response["X-Content-Type-Options"] == "nosniff"
    assert response["X-Frame-Options"] == "DENY"
    assert response["Referrer-Policy"] == "same-origin"


def test_a_form_without_its_token_is_refused_with_a_sentence(sitting):
    response = Client(enforce_csrf_checks=True).post(f"/sittings/{sitting.pk}/measure/start/")
    assert response.status_code == 403
    assert "expired" in response.content.decode()


@pytest.mark.parametrize("path", ["shoot/simulate", "measure/start", "look/grade", "record/sign", "record/amend"])
def test_what_changes_something_cannot_be_got(client, sitting, path):
    assert client.get(f"/sittings/{sitting.pk}/{path}/").status_code == 405


def test_names_are_escaped(client, make_sitting):
    sitting = make_sitting("<script>alert(1)</script>")
    for path in ("/", f"/sittings/{sitting.pk}/plan/", f"/sittings/{sitting.pk}/record/print/"):
        assert "<script>alert" not in client.get(path).content.decode()


def test_no_template_has_inline_script_style_or_handlers():
    forbidden = re.compile(r"<script>|<script [^>]*>[^<]|\son[a-z]+=|style=|<style|javascript:")
    templates = list(Path("src/yellowjacket/web/templates").rglob("*.html"))
    assert templates
    for path in templates:
        assert not forbidden.search(path.read_text()), path


def test_a_foreign_host_is_refused(client):
    assert client.get("/", headers={"host": "elsewhere.example"}).status_code == 400


def queries(client, path):
    with CaptureQueriesContext(connection) as captured:
        assert client.get(path).status_code == 200
    return len(captured)


@pytest.mark.parametrize("step", ["plan", "shoot", "measure", "look", "record"])
def test_queries_do_not_grow_with_the_ladder(client, sitting, body, step, card, data_folder):
    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    run.start_measuring(sitting)
    ladder = sitting.ladders.get()
    Grade.objects.create(rung=ladder.rungs.first(), use=sitting.uses.first(), person="Wren", grade=2)
    path = f"/sittings/{sitting.pk}/{step}/"
    client.get(path)
    before = queries(client, path)
    for n in range(20):
        rung = Rung.objects.create(
            ladder=ladder, position=3 + n, iso=800 * 2**n, exposure_s=1 / 60, key=str(n), label=str(n)
        )
        Shot.objects.create(rung=rung, kind="light", repeat=1)
        Grade.objects.create(rung=rung, use=sitting.uses.first(), person="Wren", grade=2)
    # What wants a decision is counted anew once.
    client.get(path)
    assert queries(client, path) <= before


def test_queries_of_the_desk_do_not_grow_with_sittings(client, sitting, make_sitting):
    client.get("/")
    before = queries(client, "/")
    for n in range(8):
        make_sitting(f"Drawer {n + 2}")
    assert queries(client, "/") == before


def test_everything_of_a_sitting_is_stored_or_nothing(body, monkeypatch):
    class Broken(Exception):
        pass

    def fail(*args, **kwargs):
        raise Broken

    monkeypatch.setattr(Shot.objects, "bulk_create", fail)
    profile, _ = ToleranceProfile.objects.get_or_create(name="Default")
    sitting = Sitting(name="x", scene="x", question="x", expectation="x", held_on=date(2026, 1, 1), profile=profile)
    with pytest.raises(Broken):
        create_sitting(
            sitting, [UseSpec("Web", 1)], [LadderRequest(body, LadderSpec("iso", "shutter", Exposure(100, 1 / 8, 8)))]
        )
    assert not Sitting.objects.exists()


def test_signs_that_only_look_like_numbers_break_nothing(client, measured):
    """A raised two is a digit to Python and no number: addresses come from anywhere."""
    sitting = f"/sittings/{measured.pk}"
    for address in (
        "/?page=²", "/?bodies=²", "/people/?page=²", "/compare/?ladder=²&size=²", "/advice/?body=²", "/tolerance/?profile=²",
        f"{sitting}/look/?lane=²&spot=²,²", f"{sitting}/record/?version=²&ladder=²", f"{sitting}/measure/?use=²",
    ):  # fmt: skip
        assert client.get(address).status_code == 200, address


def test_a_foreign_host_is_refused_behind_a_sign_in_too(client, settings):
    settings.SIGN_IN = True
    for path in ("/", "/people/sign-in/", "/bodies/"):
        assert client.get(path, headers={"host": "elsewhere.example"}).status_code == 400


@pytest.mark.parametrize(
    ("error", "status", "words"),
    [
        (IntegrityError("UNIQUE constraint failed"), 409, "Another window changed the same thing"),
        (OSError(28, "No space left on device"), 507, "The disk is full"),
        (OperationalError("database is locked"), 503, "try again in a moment"),
        (RuntimeError("x"), 500, "Nothing was lost"),
    ],
)
def test_what_a_person_can_do_about_a_failure_is_said(client, measured, monkeypatch, error, status, words):
    """Two windows at once, a full disk, a database that is held: each with a status and a sentence of its own."""
    from yellowjacket.bench.measure import patches

    def fail(*args, **kwargs):
        raise error

    monkeypatch.setattr(patches, "place_patch", fail)
    client.raise_request_exception = False
    sent = {"name": "own", "x": "0", "y": "0", "w": "32", "h": "32", "role": "other"}
    response = client.post(f"/sittings/{measured.pk}/measure/patch/", sent)
    assert response.status_code == status
    assert words in response.content.decode()


def test_a_page_that_fails_without_its_database_is_still_a_page(client, monkeypatch):
    from yellowjacket.web.http import errors

    def broken(*args, **kwargs):
        raise OperationalError("database disk image is malformed")

    monkeypatch.setattr(errors, "render", broken)
    response = client.get("/nowhere/")
    assert response.status_code == 404
    assert "Not here" in response.content.decode()
