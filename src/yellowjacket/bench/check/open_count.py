"""How much of a sitting wants a decision, as every page of it says."""

from __future__ import annotations

import hashlib

from django.core.cache import cache

from yellowjacket.bench.check.audit import audit
from yellowjacket.bench.check.how_far import HowFar
from yellowjacket.bench.models import Sitting


def open_count(sitting: Sitting, so_far: HowFar | None = None) -> int:
    """How much wants a decision, remembered until what an audit rests on changes. ``so_far``: of the sitting, where it is
    known already."""
    so_far = so_far or HowFar.of(sitting)
    problems, gone = so_far.problems
    rests_on = [one for one in so_far.day if one[0] != "problems"]
    # A sitting of many ladders rests on more than a key may be long.
    key = f"open-{sitting.pk}-{hashlib.sha256(repr((rests_on, gone)).encode()).hexdigest()}"
    found = cache.get(key)
    if found is None:
        found = sum(len(audit(ladder).findings) for ladder in sitting.ladders.select_related("body"))
        cache.set(key, found)
    return int(found) + problems - gone
