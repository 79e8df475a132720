"""Curves from elsewhere: taken in from a CSV, kept apart, shown beside one's own and marked wherever they appear."""

from __future__ import annotations

from django.db import transaction
from django.db.models import QuerySet

from yellowjacket.bench.models import ForeignCurve
from yellowjacket.bench.people import trail
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.foreign_curves import QUANTITIES, ForeignError, read_curve

LARGEST_BYTES = 256 * 1024
_MOST_PIXELS = 1_000_000_000


@transaction.atomic
def take_in(
    data: bytes, file_name: str, *, name: str, quantity: str, unit: str, output_pixels: int, source: str
) -> ForeignCurve:
    """Keep a curve of a CSV. ``output_pixels``: the size it was given at, 0 per pixel. Refuses what cannot be read without
    guessing, curves without body or source, and one that is here already."""
    if not name.strip() or not source.strip():
        raise Refusal("Say which body the curve is of, and where it is from.")
    if not 0 <= output_pixels <= _MOST_PIXELS:
        raise Refusal("The size is given in megapixels; leave it empty for a curve per pixel.")
    if len(data) > LARGEST_BYTES:
        raise Refusal(f"{file_name} is larger than {LARGEST_BYTES // 1024} kB: that is not a curve along ISO.")
    try:
        curve = read_curve(data.decode("utf-8-sig"), quantity, unit)
    except UnicodeDecodeError as error:
        raise Refusal(f"{file_name} is not UTF-8 text: save it as CSV in UTF-8.") from error
    except ForeignError as error:
        raise Refusal(f"{file_name}: {error}.") from error
    identity = {
        "name": name.strip()[:80], "quantity": quantity, "output_pixels": output_pixels, "source": source.strip()[:160],
    }  # fmt: skip
    if ForeignCurve.objects.filter(**identity).exists():
        raise Refusal(
            "A curve of that body, quantity, size and source is here already: delete it, or give the source another name."
        )
    made = ForeignCurve.objects.create(
        points=[list(point) for point in curve.points], remarks=list(curve.remarks), **identity
    )
    trail.note("foreign curve taken in", f"{made.name}: {QUANTITIES[quantity].name}, from {made.source}")
    return made


def known() -> QuerySet[ForeignCurve]:
    """Every curve that was taken in."""
    return ForeignCurve.objects.all()


@transaction.atomic
def delete(curve: ForeignCurve) -> None:
    """Remove a curve; the trail keeps that it was here."""
    trail.note("foreign curve deleted", f"{curve.name}: {QUANTITIES[curve.quantity].name}, from {curve.source}")
    curve.delete()
