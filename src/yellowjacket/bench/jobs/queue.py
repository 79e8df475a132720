"""Long work: start it, follow it, stop it, take it up again."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone
from django_tasks import task
from django_tasks.base import TaskResultStatus

from yellowjacket.bench.jobs.progress import Progress, Stopped
from yellowjacket.bench.jobs.registry import handler_of
from yellowjacket.bench.models import Job, Sitting
from yellowjacket.bench.patience import busy, patiently, trouble_of, words_for
from yellowjacket.bench.refusal import Refusal

log = logging.getLogger(__name__)


def start(sitting: Sitting, kind: str, **parameters: Any) -> Job:
    """Record a job and hand it to the worker, both or neither. One job of a kind at a time for a sitting."""
    with transaction.atomic():
        begin = recorded(sitting, kind, **parameters)
    return begin()


def recorded(sitting: Sitting, kind: str, **parameters: Any) -> Callable[[], Job]:
    """Record a job within the caller's transaction. What comes back is to be called after it, and gives the job."""
    running = Job.objects.filter(sitting=sitting, kind=kind, state__in=Job.OPEN).first()
    if running is not None:
        raise Refusal(f"{running.get_kind_display()} is already under way for this sitting; wait for it or stop it.")
    job = Job.objects.create(sitting=sitting, kind=kind, parameters=parameters)
    if _stored_tasks():
        run_job.enqueue(job.pk)
        return lambda: job

    def begin() -> Job:
        run_job.enqueue(job.pk)
        return job

    return begin


def _stored_tasks() -> bool:
    """Whether tasks are rows of the database, rather than carried out at once as in tests."""
    return bool(settings.TASKS["default"]["BACKEND"] == "django_tasks_db.DatabaseBackend")


def stop(job: Job) -> None:
    """Ask a job to stop after the item in hand; one that has not begun ends at once."""
    Job.objects.filter(pk=job.pk).update(stop_wanted=True)
    ended = {"state": Job.State.STOPPED, "message": "stopped before it began", "finished_at": timezone.now()}
    Job.objects.filter(pk=job.pk, state=Job.State.WAITING).update(**ended)


def dismiss(job: Job) -> None:
    """What a job that ended had to tell was read."""
    Job.objects.filter(pk=job.pk).exclude(state__in=Job.OPEN).update(message="")


def resume_all() -> int:
    """Hand every unfinished job to the worker again, after a kill or a restart. Returns how many."""
    with transaction.atomic():
        if _stored_tasks():
            from django_tasks_db.models import DBTaskResult

            DBTaskResult.objects.filter(status__in=[TaskResultStatus.READY, TaskResultStatus.RUNNING]).delete()
        jobs = list(Job.objects.filter(state__in=Job.OPEN))
        for job in jobs:
            run_job.enqueue(job.pk)
    return len(jobs)


@task()
def run_job(job_id: int) -> None:
    """Carry out a recorded job. Work is idempotent: what is stored already is not done again.

    While somebody else holds the database the job waits and goes on: it neither fails nor stays half done.
    """
    if not patiently(lambda: _begun(job_id)):
        return
    message, state = patiently(lambda: _carried_out(job_id))
    ended = {"state": state, "message": message[:400], "finished_at": timezone.now()}
    patiently(lambda: Job.objects.filter(pk=job_id).update(**ended))


def _begun(job_id: int) -> bool:
    begun = Job.objects.filter(pk=job_id, state__in=Job.OPEN)
    return bool(begun.update(state=Job.State.RUNNING, started_at=timezone.now()))


def _carried_out(job_id: int) -> tuple[str, str]:
    """What became of the work, in words and as a state. Raises when the database is held, to be done again."""
    job = Job.objects.select_related("sitting").filter(pk=job_id).first()
    if job is None:
        return "", Job.State.STOPPED
    try:
        message, state = handler_of(job.kind)(job, Progress(job)), Job.State.DONE
        Job.objects.filter(pk=job_id).update(done=job.done)
    except Stopped:
        message, state = f"stopped after {job.done} of {job.total}; what came in is kept", Job.State.STOPPED
    except Refusal as refusal:
        message, state = str(refusal), Job.State.FAILED
    except Exception as error:
        if busy(error):
            raise
        trouble = trouble_of(error)
        log.exception("job %s failed", job_id)
        unexpected = "failed for a reason nobody expected; the log of the application says more"
        message, state = words_for(trouble) if trouble else unexpected, Job.State.FAILED
    return message, state
