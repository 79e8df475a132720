"""The background worker: carries out recorded jobs, and looks into the inbox for sittings that watch it."""

from __future__ import annotations

import logging
import threading
import time
from typing import Any

from django.core.management.base import BaseCommand
from django.db import DatabaseError, close_old_connections
from django.utils.crypto import get_random_string
from django_tasks_db.management.commands.db_worker import Worker

from yellowjacket.bench.intake import importing
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.patience import busy, patiently

log = logging.getLogger(__name__)

_POLL_S = 0.3
_LOOK_EVERY_S = 1.5


class Command(BaseCommand):
    """Works until it is stopped; a database that somebody else holds makes it wait, not end."""

    help = "Carry out recorded jobs and watch the inbox"

    def handle(self, **options: Any) -> None:
        """Carry out jobs for good."""
        logging.getLogger("django_tasks").setLevel(logging.CRITICAL)
        logging.getLogger("django_tasks_db").setLevel(logging.CRITICAL)
        threading.Thread(target=_watch_inbox, daemon=True).start()
        while True:
            # Whatever was under way when the last round ended is taken up again.
            patiently(queue.resume_all)
            worker = Worker(
                queue_names=["*"], interval=_POLL_S, batch=False, backend_name="default", startup_delay=False,
                max_tasks=None, worker_id=get_random_string(32), excluded_queue_names=[],
            )  # fmt: skip
            worker.configure_signals()
            try:
                worker.run()
                return
            except DatabaseError as error:
                if not busy(error):
                    raise
                log.warning("the database is held by another program; the worker continues when it is free")
            close_old_connections()


def _watch_inbox() -> None:
    while True:
        time.sleep(_LOOK_EVERY_S)
        try:
            importing.look_into_inboxes()
        except Exception as error:
            # The next look comes in a moment; nothing was marked as seen.
            if not (isinstance(error, DatabaseError) and busy(error)):
                log.exception("the inbox could not be looked into")
        finally:
            close_old_connections()
