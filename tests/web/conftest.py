"""Pages as a reader sees them: HTML makes one space of any white space, and none between rows, cells and blocks."""

from __future__ import annotations

import re

import pytest
from django.test import Client

_BLOCKS = rb"(?:tr|t[dh]|thead|tbody|table|p|li|ul|ol|div|section|h[1-6]|d[dlt]|form|option|text|line|rect|circle|svg)"
_BETWEEN_BLOCKS = re.compile(rb"(</?" + _BLOCKS + rb"\b[^<>]*>) (?=</?" + _BLOCKS + rb"\b)")


class ReadingClient(Client):
    """A client whose HTML has its white space as a browser shows it."""

    def request(self, **request):
        response = super().request(**request)
        if not response.streaming and response.get("Content-Type", "").startswith("text/html"):
            response.content = _BETWEEN_BLOCKS.sub(rb"\1", re.sub(rb"\s+", b" ", response.content))
        return response


@pytest.fixture
def client():
    return ReadingClient()
