"""Databases of earlier versions: as they were before 0001_to_0015 made one step of the first fifteen."""

from __future__ import annotations

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.loader import MigrationLoader

NEWEST = "0017_colour_separation"


def migrated(name: str):
    """Take the tables to a migration by the way of older versions; the models as they were then."""
    executor = MigrationExecutor(connection)
    executor.loader = MigrationLoader(connection, replace_migrations=False)
    executor.migrate([("bench", name)])
    return executor.loader.project_state([("bench", name)]).apps
