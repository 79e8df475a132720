"""Readings keep typed notes in place of sentences; those there are stay, as words that are known again where they can be."""

from django.db import migrations, models

_MANY, _TOWARDS = 2000, "towards "


def words_to_notes(apps, schema_editor):
    """A reading's one text becomes its notes; habits of a setting were joined by commas."""
    Reading = apps.get_model("bench", "Reading")
    changed = []
    for row in Reading.objects.exclude(reason="").only("pk", "quantity", "reason").iterator(_MANY):
        row.notes = row.reason.split(", ") if row.quantity == "flags" else [row.reason]
        changed.append(row)
        if len(changed) == _MANY:
            Reading.objects.bulk_update(changed, ["notes"])
            changed = []
    Reading.objects.bulk_update(changed, ["notes"])
    # Which way a cast goes stood at the head of how it was measured.
    for row in Reading.objects.filter(method__startswith=_TOWARDS).only("pk", "notes", "method").iterator(_MANY):
        direction, _, how = row.method.removeprefix(_TOWARDS).partition("; ")
        row.notes, row.method = [*row.notes, ["TOWARDS", direction]], how
        row.save(update_fields=["notes", "method"])


class Migration(migrations.Migration):
    dependencies = [("bench", "0014_originals_and_seen_files")]

    operations = [
        migrations.AddField("reading", "notes", models.JSONField(blank=True, default=list)),
        migrations.RunPython(words_to_notes, migrations.RunPython.noop, elidable=True),
        migrations.RemoveField("reading", "reason"),
    ]
