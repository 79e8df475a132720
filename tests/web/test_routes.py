"""All routes, from the application's own list: reading changes nothing, and nothing that is sent breaks a page."""

import os
import random
import re
from pathlib import Path

import pytest
from django.db import connection, transaction

from tests.web import routes
from tests.web.forms_found import forms_in

pytestmark = pytest.mark.django_db
# How many hostile requests; the suite sends some, YELLOWJACKET_FUZZ=12000 sends many.
REQUESTS = int(os.environ.get("YELLOWJACKET_FUZZ", "400"))
SEED = int(os.environ.get("YELLOWJACKET_FUZZ_SEED", "16"))
HOSTILE = (
    str(2**63), str(2**64), "-1", "0", "9" * 4301, "1e400", "inf", "-inf", "nan", "\0", "²", "", " ", "x" * 5000, "2026-13-01",
    "2026-02-30", "0000-00-00", "13", "~nosuchuser", "/" + "a" * 5000, "/etc", "../..", "<script>", "%00", "1e11", "-5, 0, 3",
    "−5", "1,5", "1/0", "0/0", "1/8", "f/0", "f/8", "clean", "usable", "ISO 1oo", "[]", "{}", "null", "true", "\ud800", "\u202e",
    "1;2;3", "100,200", "10,10", "10,10,99999999999,1", "-10,-10,5,5", "on", "yes", "no", "exposure:shutter", "iso:shutter",
    "time:capped", "setting:raw_mode", "iso", "exposure", "time", "NaN,NaN", "1e308,1e308", "0.0000000001", "100000000000",
)  # fmt: skip


@pytest.fixture
def things(measured):
    return routes.things_of(measured)


def parameters() -> list[str]:
    """Every name of a field that any view or form of the application reads."""
    found: set[str] = set()
    for path in Path("src/yellowjacket/web").rglob("*.py"):
        text = path.read_text()
        found |= set(re.findall(r"""(?:GET|POST|query|request|data)(?:\.get|\.getlist)?[\[(]["'](\w+)["']""", text))
        found |= set(re.findall(r"""^    (\w+) = (?:forms\.)?\w*Field\(""", text, re.MULTILINE))
    for path in Path("src/yellowjacket/web/templates").rglob("*.html"):
        found |= set(re.findall(r'\sname="(\w+)"', path.read_text()))
    return sorted(found)


def test_there_are_fields_to_fill_in():
    assert {"ladder", "use", "spot", "temperature_c", "picked", "folder", "iso"} <= set(parameters())


def test_reading_changes_nothing(things, client):
    """Every route by GET against a database that cannot be written."""
    client.raise_request_exception = False
    walked, written = 0, set()
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA query_only = ON")
    try:
        for route, _ in routes.routes():
            for query in ("", "?ladder=&use=&spot=100,100&person=Wren&size=200"):
                with transaction.atomic():
                    response = client.get(things.path(route) + query)
                if response.status_code >= 500:
                    written.add(route)
                walked += response.status_code in (200, 204)
                if getattr(response, "streaming", False):
                    assert sum(len(part) for part in response) >= 0
    finally:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA query_only = OFF")
    assert not written
    assert walked > 120


def printable(value: object) -> str:
    """As a browser can send it: no half of a pair of code units."""
    return re.sub(r"[\ud800-\udfff]", "", str(value))


def test_nothing_that_is_sent_breaks_a_page(things, client):
    """Hostile values in every place of an address and every field, on all routes: never a 500, and pages stay whole."""
    client.raise_request_exception = False
    rng = random.Random(SEED)
    every = [(route, routes.names_in(route)) for route, _ in routes.routes()]
    fields, broken = parameters(), []
    for n in range(REQUESTS // 2):
        route, names = every[n % len(every)] if n < len(every) else rng.choice(every)
        replaced = {}
        if names and rng.random() < 0.3:
            replaced[rng.choice(names)] = re.sub(r"[/?#\0]", "", printable(rng.choice(HOSTILE)))[:300] or "1"
        sent = {rng.choice(fields): printable(rng.choice(HOSTILE)) for _ in range(rng.randint(1, 6))}
        for name in ("ladder", "use", "body", "rung", "frame"):
            if name not in sent and rng.random() < 0.5:
                sent[name] = str(things.known[name + "_id"])
        method = client.post if rng.random() < 0.6 else client.get
        if rng.random() < 0.05 and method == client.post:
            sent[rng.choice(("archive", "files", "file", "pictures", "csv", "plan"))] = routes.upload(
                content=b"\0" * 40
            )
        if method(things.path(route, replaced), sent).status_code >= 500:
            broken.append((method.__name__, route, replaced, {key: str(value)[:40] for key, value in sent.items()}))
    assert not broken, f"{len(broken)}: " + "\n".join(map(str, broken[:25]))
    still_whole(things, client)


def test_no_form_of_a_page_breaks_when_one_field_is_hostile(things, client):
    """What pages show is sent as a browser would, but for one or two fields."""
    client.raise_request_exception = False
    rng = random.Random(SEED + 1)
    found = {}
    for route, _ in routes.routes():
        response = client.get(things.path(route))
        if response.status_code == 200 and response["Content-Type"].startswith("text/html"):
            for one in forms_in(things.path(route), response.content.decode()):
                found[one.method, one.action, tuple(sorted(one.fields))] = one
    every, broken = list(found.values()), []
    assert len(every) > 60
    for n in range(REQUESTS // 2):
        form = every[n % len(every)] if n < len(every) else rng.choice(every)
        sent = dict(form.fields)
        if form.buttons:
            name, value = rng.choice(form.buttons)
            sent[name] = value
        for _ in range(rng.randint(1, 2)):
            if sent:
                sent[rng.choice(sorted(sent))] = printable(rng.choice(HOSTILE))
        response = (client.post if form.method == "post" else client.get)(form.action, sent)
        if response.status_code >= 500:
            broken.append((form.method, form.action, {key: str(value)[:40] for key, value in sent.items()}))
    assert not broken, f"{len(broken)}: " + "\n".join(map(str, broken[:25]))
    still_whole(things, client)


def still_whole(things, client) -> None:
    """What was sent did not poison what is shown afterwards."""
    for route, _ in routes.routes():
        assert client.get(things.path(route)).status_code < 500, route
