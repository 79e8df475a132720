"""The glossary: every line that Measure shows is explained, and the sheet leads there."""

import re

import pytest

from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA
from yellowjacket.web.glossary import LINES, TERMS
from yellowjacket.web.measure.sheet import KINDS

pytestmark = pytest.mark.django_db


def test_every_line_of_the_sheet_is_explained():
    missing = [kind.key for kind in KINDS if kind.key not in LINES]
    assert missing == []
    assert all(LINES[kind.key].name == kind.name for kind in KINDS)
    # What decides limits is explained, too.
    assert all(one.quantity in LINES for one in DEFAULT_CRITERIA)


def test_explanations_are_sentences():
    for line in LINES.values():
        for words in (line.what, line.good, line.worse):
            assert re.fullmatch(r"[A-Z0-9].*[.]", words), words
    assert len({word for word, _ in TERMS}) == len(TERMS)


def test_it_is_reached_from_the_keys_and_from_every_line(client, measured):
    page = client.get(f"/sittings/{measured.pk}/measure/").content.decode()
    assert page.count('href="/glossary/"') == 1
    keys = re.findall(r'class="what" href="/glossary/#([a-z0-9_]+)"\s*aria-label="What [^"]+ means"', page)
    assert "shadow_snr" in keys
    text = client.get("/glossary/").content.decode()
    for key in keys:
        assert f'id="{key}"' in text
    assert "Long-exposure noise reduction" in text
