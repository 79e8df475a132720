"""What was done on the day: every action is logged with its time, and can be taken back, the newest first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.db import models, transaction
from django.utils import timezone

from yellowjacket.bench.models import Conditions, Frame, Ladder, MarkedSpot, Problem, Shot, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal

_MODELS: dict[str, type[models.Model]] = {
    "shot": Shot, "ladder": Ladder, "frame": Frame, "problem": Problem, "sitting": Sitting, "conditions": Conditions,
    "markedspot": MarkedSpot,
}  # fmt: skip
Touched = Sequence[tuple[models.Model, dict[str, Any]]]


@transaction.atomic
def act(
    sitting: Sitting, kind: str, text: str, touched: Touched = (), *, shot: Shot | None = None,
    created: models.Model | None = None, removed: models.Model | None = None,
) -> SittingEvent:  # fmt: skip
    """Change rows and log it in one go.

    ``touched``: rows with their new values. ``created``: a row that undoing removes; ``removed``: a row that is
    removed now and that undoing brings back.
    """
    before: list[dict[str, Any]] = []
    for row, values in touched:
        before.append(
            {"model": _name(row), "pk": row.pk, "values": {name: _plain(getattr(row, name)) for name in values}}
        )
        for name, value in values.items():
            setattr(row, name, value)
        row.save(update_fields=list(values))
    if created is not None:
        before.append({"model": _name(created), "pk": created.pk, "created": True})
    if removed is not None:
        values = {field.attname: _plain(getattr(removed, field.attname)) for field in removed._meta.concrete_fields}
        before.append({"model": _name(removed), "pk": removed.pk, "removed": values})
        removed.delete()
    return SittingEvent.objects.create(sitting=sitting, shot=shot, kind=kind, text=text[:300], before=before)


def _name(row: models.Model) -> str:
    return row._meta.model_name or ""


def _plain(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value


@transaction.atomic
def undo(sitting: Sitting) -> SittingEvent:
    """Take the newest action back. Refuses when there is none."""
    event = sitting.events.exclude(before=[]).filter(undone_at__isnull=True).last()
    if event is None:
        raise Refusal("There is nothing to undo.")
    # Rows that were created go first, so that what they stood on is free again.
    for entry in sorted(event.before, key=lambda entry: "created" not in entry):
        model = _MODELS[entry["model"]]
        if "created" in entry:
            model._default_manager.filter(pk=entry["pk"]).delete()
        elif "removed" in entry:
            model._default_manager.create(**entry["removed"])
        else:
            model._default_manager.filter(pk=entry["pk"]).update(**entry["values"])
    event.undone_at = timezone.now()
    event.save(update_fields=["undone_at"])
    return event
