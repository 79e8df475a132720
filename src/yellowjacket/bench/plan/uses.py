"""Changing what pictures are for."""

from __future__ import annotations

from django.db import transaction

from yellowjacket.bench.models import Use
from yellowjacket.bench.plan.sittings import UseSpec
from yellowjacket.bench.refusal import Refusal

_MOST = 8


@transaction.atomic
def keep(use: Use, before: Use | None) -> bool:
    """Store a use, changed or new; whether readings at its size are out of date now.

    Refuses nameless and doubled names, and too many.
    """
    use.name = use.name.strip()
    others = Use.objects.filter(sitting=use.sitting).exclude(pk=use.pk)
    if not use.name:
        raise Refusal("Name the use: what the picture is for.")
    if any(other.name.casefold() == use.name.casefold() for other in others):
        raise Refusal(f"There is a use “{use.name}” already.")
    if before is None:
        if others.count() >= _MOST:
            raise Refusal(f"A sitting has {_MOST} uses at most.")
        last = others.order_by("-position").first()
        use.position = last.position + 1 if last else 0
    use.save()
    return before is None or before.whole_frame_pixels != use.whole_frame_pixels


# Uses as offered: name and megapixels; an empty size is pixel level.
OFFERED_USES = (("Pixel level", None), ("Large print", 24), ("Web", 2), ("", None))


def offered_uses() -> list[UseSpec]:
    """The uses a sitting has when nobody named others."""
    return [UseSpec(name, round(size * 1e6) if size else None) for name, size in OFFERED_USES if name]
