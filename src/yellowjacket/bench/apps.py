"""Registers the bench with Django, and its work with the queue."""

from importlib import import_module

from django.apps import AppConfig

# Rooms with work that takes long: each registers its kinds of jobs.
_WORK = (
    "darks.masters",
    "darks.measure",
    "intake.adopt",
    "intake.importing",
    "look.renditions",
    "measure.run",
    "simulation.shoot",
)


class BenchConfig(AppConfig):
    """The records."""

    name = "yellowjacket.bench"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Let every kind of job be known."""
        for room in _WORK:
            import_module(f"{self.name}.{room}")
