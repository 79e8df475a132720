"""Registers the bench with Django."""

from django.apps import AppConfig


class BenchConfig(AppConfig):
    """The records."""

    name = "yellowjacket.bench"
    default_auto_field = "django.db.models.BigAutoField"
