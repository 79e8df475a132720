"""Saturation kept stayed 1 at every ISO and makes room for colour separation; thresholds after a standard get a name."""

from django.db import migrations

_DEFAULT, STANDARD = "Default", "After ISO 12232"
AFTER_STANDARD = {
    "grey_snr": [40.0, 10.0, 4.0], "shadow_snr": None, "chroma_noise": None, "colour_separation": None, "detail": None,
}  # fmt: skip


def forwards(apps, schema_editor):
    """What was read and asked of saturation goes; new readings come with the next measuring."""
    apps.get_model("bench", "Reading").objects.filter(quantity="saturation_kept").delete()
    profiles = apps.get_model("bench", "ToleranceProfile").objects
    for profile in profiles.all():
        if "saturation_kept" in profile.thresholds:
            del profile.thresholds["saturation_kept"]
            profile.save(update_fields=["thresholds"])
    profiles.get_or_create(name=_DEFAULT)
    profiles.get_or_create(name=STANDARD, defaults={"thresholds": AFTER_STANDARD})


class Migration(migrations.Migration):
    dependencies = [("bench", "0016_real_cameras")]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop, elidable=True)]
