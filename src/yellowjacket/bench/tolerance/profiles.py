"""Tolerance profiles: made, brought in from a file, put in force for a sitting. One that exists is never changed."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from django.db import transaction
from django.db.models import Count, QuerySet

from yellowjacket.bench.models import Sitting, ToleranceProfile
from yellowjacket.bench.people import trail
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.limits.tolerance_file import ProfileFileError, read_profile

LARGEST_BYTES = 100_000


def known() -> QuerySet[ToleranceProfile]:
    """Every profile with ``in_use``, the number of sittings it is in force for."""
    return ToleranceProfile.objects.annotate(in_use=Count("sittings"))


@transaction.atomic
def add(name: str, thresholds: Mapping[str, Sequence[float] | None]) -> ToleranceProfile:
    """A profile with own thresholds; criteria that are not named keep the defaults, None drops one. Refuses a name that is
    taken, and thresholds out of order: sittings that were judged by a profile must find it as it was."""
    name = name.strip()[:80]
    if not name:
        raise Refusal("Give the profile a name.")
    if ToleranceProfile.objects.filter(name=name).exists():
        raise Refusal(f"There is a profile “{name}” already: choose another name.")
    try:
        profile_from(name, thresholds)
    except ValueError as error:
        raise Refusal(f"{error}.") from error
    trail.note("tolerance made", name)
    return ToleranceProfile.objects.create(
        name=name, thresholds={key: own if own is None else list(own) for key, own in thresholds.items()}
    )


def take_in(data: bytes, file_name: str) -> ToleranceProfile:
    """A profile from a file, under the name it has there."""
    if len(data) > LARGEST_BYTES:
        raise Refusal(f"{file_name} is larger than a profile can be.")
    try:
        name, thresholds = read_profile(json.loads(data))
    except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as error:
        raise Refusal(f"{file_name} is not JSON: export a profile to see the form.") from error
    except ProfileFileError as error:
        raise Refusal(f"{file_name}: {error}") from error
    except ValueError as error:
        raise Refusal(f"{file_name} holds a number that is none: export a profile to see the form.") from error
    return add(name, thresholds)


@transaction.atomic
def put_in_force(sitting: Sitting, profile: ToleranceProfile) -> None:
    """The limits of a sitting follow another profile from now on; what was signed keeps its own."""
    trail.note("tolerance in force", sitting.name, sitting=sitting, before=sitting.profile.name, after=profile.name)
    sitting.profile = profile
    sitting.save(update_fields=["profile"])


DEFAULT_PROFILE = "Default"
