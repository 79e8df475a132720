"""Tolerance profiles: made on the page, given away and taken in as files, put in force; never changed."""

import io
import json
import re
from pathlib import Path

import jsonschema
import pytest
from django.contrib.messages import get_messages

from yellowjacket.bench.models import ToleranceProfile, TrailEntry
from yellowjacket.core.limits.tolerance import LEVELS

pytestmark = pytest.mark.django_db
SCHEMA = json.loads(Path("docs/tolerance.schema.json").read_text())


def said(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def fields(client) -> dict[str, str]:
    page = client.get("/tolerance/").content.decode()
    return dict(re.findall(r'<input name="([\w-]+)" value="([\d.]+)" size="6"', page))


def test_the_default_stands_there_and_another_is_made_from_it(client, sitting):
    shown = fields(client)
    assert len(shown) == 9 * len(LEVELS)
    made = client.post("/tolerance/", shown | {"chroma_noise-usable": "6,5", "name": "Moths"})
    profile = ToleranceProfile.objects.get(name="Moths")
    assert made.headers["Location"] == f"/tolerance/?profile={profile.pk}"
    chroma = next(one for one in profile.criteria.criteria if one.key == "chroma_noise")
    assert chroma.thresholds == (4.3, 6.5, 22.0)
    client.post(f"/tolerance/{profile.pk}/in-force/", {"sitting": sitting.pk})
    sitting.refresh_from_db()
    assert sitting.profile == profile
    entry = TrailEntry.objects.get(act="tolerance in force")
    assert (entry.before, entry.after, entry.sitting) == ("Default", "Moths", sitting)
    assert "is in force for 1 sitting." in client.get(f"/tolerance/?profile={profile.pk}").content.decode()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"name": ""}, "Give the profile a name"), ({"name": "Default"}, "already: choose another name"),
        ({"grey_snr-usable": "50"}, "must fall and be positive"), ({"grey_snr-clean": "much"}, "'much' is not a number"),
        ({"grey_snr-emergency": "nan"}, "'nan' is not a number"),
    ],
)  # fmt: skip
def test_what_makes_no_profile_is_said_and_what_was_typed_stays(client, sitting, change, words):
    typed = fields(client) | {"name": "Moths", "chroma_noise-usable": "6.5"} | change
    page = client.post("/tolerance/", typed).content.decode()
    assert words in page.replace("&#x27;", "'")
    assert 'value="6.5"' in page
    assert not ToleranceProfile.objects.filter(name="Moths").exists()


def test_a_profile_goes_out_and_comes_in_the_same(client, sitting):
    client.post("/tolerance/", fields(client) | {"detail-usable": "0.8", "name": "Moths"})
    profile = ToleranceProfile.objects.get(name="Moths")
    document = client.get(f"/tolerance/{profile.pk}.json").json()
    jsonschema.Draft202012Validator(SCHEMA).validate(document)
    profile.delete()
    upload = {"profile": io.BytesIO(json.dumps(document).encode())}
    assert "“Moths” is here" in said(client.post("/tolerance/take-in/", upload))
    again = ToleranceProfile.objects.get(name="Moths")
    assert client.get(f"/tolerance/{again.pk}.json").json() == document
    upload = {"profile": io.BytesIO(json.dumps(document).encode())}
    assert "already: choose another name" in said(client.post("/tolerance/take-in/", upload))


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"hello", "not JSON"), (b"[]", "schema is missing"), (b'{"schema": "yellowjacket-tolerance/2"}', "upgrade it"),
        (b'{"schema": "yellowjacket-tolerance/1", "criteria": {}}', "name is missing"),
        (b'{"schema": "yellowjacket-tolerance/1", "name": "x"}', "criteria is missing"),
        (b'{"schema": "yellowjacket-tolerance/1", "name": "x", "criteria": {"grey_snr": {"thresholds": [1, true, 2]}}}',
         "criteria.grey_snr.thresholds 2 must be a number, not True"),
        (b'{"schema": "yellowjacket-tolerance/1", "name": "x", "criteria": {"charm": {"thresholds": [3, 2, 1]}}}',
         "unknown criteria charm"),
        (b" " * 100_001, "larger than"), (b"\xff\xfe", "not JSON"),
    ],
)  # fmt: skip
def test_a_file_that_is_no_profile_is_refused_with_the_reason(client, db, data, words):
    assert words in said(client.post("/tolerance/take-in/", {"profile": io.BytesIO(data)}))
    assert not ToleranceProfile.objects.filter(name="x").exists()


def test_without_a_file_it_is_asked_for(client, db):
    assert "Choose the file" in said(client.post("/tolerance/take-in/"))
