"""Databases of earlier versions: as they were before one step was made of the first seventeen."""

from __future__ import annotations

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.loader import MigrationLoader

NEWEST = "0023_grades_of_lanes"


def migrated(name: str):
    """Take the tables to a migration by the way of older versions; the models as they were then."""
    executor = MigrationExecutor(connection)
    executor.loader = MigrationLoader(connection, replace_migrations=False)
    executor.migrate([("bench", name)])
    return executor.loader.project_state([("bench", name)]).apps


def emptied() -> None:
    """No table of the bench and no step of it taken: quicker than the way back through every version."""
    with connection.constraint_checks_disabled(), connection.cursor() as cursor:
        for table in connection.introspection.table_names(cursor):
            if table.startswith("bench_"):
                cursor.execute(f"DROP TABLE {table}")
        cursor.execute("DELETE FROM django_migrations WHERE app = 'bench'")
