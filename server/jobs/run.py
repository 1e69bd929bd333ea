"""Starting jobs, and doing them in the worker."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from typing import Any

from django.db import close_old_connections, connection, transaction
from django.utils import timezone
from django_tasks import task

from zubret_core.base import Cancelled, Progress, ZubretError

from .heartbeat import EVERY
from .models import Job

log = logging.getLogger("zubret.jobs")
Work = Callable[[Job, Progress], dict[str, Any]]
_kinds: dict[str, tuple[Work, str]] = {}


def work(kind: str, queue: str) -> Callable[[Work], Work]:
    """Register a function as the work of a kind of job; it returns the job's result."""

    def register(function: Work) -> Work:
        _kinds[kind] = function, queue
        return function

    return register


def start(kind: str, title: str, game=None, **args: Any) -> Job:
    """A new job, handed to the worker as soon as the row can be seen."""
    job = Job.objects.create(kind=kind, title=title, game=game, args=args)
    transaction.on_commit(lambda: run.using(queue_name=_kinds[kind][1]).enqueue(job.pk))
    return job


@task(queue_name="long")
def run(job_id: int) -> None:
    """Do one job: lease and heartbeat, progress, cancel, and every outcome into its row."""
    began = Job.objects.filter(pk=job_id, state=Job.WAITING, cancel=False).update(
        state=Job.RUNNING, started=timezone.now(), lease_until=Job.new_lease()
    )
    if not began:
        return
    job = Job.objects.get(pk=job_id)
    stop = threading.Event()
    heart = threading.Thread(target=_heartbeat, args=(job_id, stop), daemon=True)
    heart.start()
    try:
        result = _kinds[job.kind][0](job, _Reporter(job_id))
        _finish(job, Job.DONE, result=result)
    except Cancelled:
        job.refresh_from_db()
        job.clean_up()
        _finish(job, Job.CANCELLED)
    except ZubretError as e:
        job.refresh_from_db()
        job.clean_up()
        _finish(job, Job.FAILED, error=e.as_dict())
    except Exception as e:  # a fault of ours: the row must not stay "running"
        log.exception("job %s failed", job_id)
        job.refresh_from_db()
        job.clean_up()
        what = f"Zubret made a mistake here ({type(e).__name__}: {e})."
        _finish(job, Job.FAILED, error={"what": what, "where": job.kind, "next": "Try again; the log has the details."})
    finally:
        stop.set()
        heart.join()


def _finish(job: Job, state: str, **values: Any) -> None:
    Job.objects.filter(pk=job.pk, state=Job.RUNNING).update(state=state, finished=timezone.now(), note="", **values)


def _heartbeat(job_id: int, stop: threading.Event) -> None:
    while not stop.wait(EVERY):
        try:
            Job.objects.filter(pk=job_id, state=Job.RUNNING).update(lease_until=Job.new_lease())
        except Exception:  # a busy database is tried again at the next beat
            log.warning("no heartbeat for job %s", job_id)
        finally:
            close_old_connections()
    connection.close()


class _Reporter:
    """The progress callback of a job: at most four writes a second; raises Cancelled when asked to."""

    def __init__(self, job_id: int):
        self.job_id, self.last = job_id, 0.0

    def __call__(self, done: int, total: int, note: str) -> None:
        now = time.monotonic()
        if now - self.last < 0.25:
            return
        self.last = now
        rows = Job.objects.filter(pk=self.job_id)
        state = rows.values_list("cancel", "state").first()
        if state is None or state[0] or state[1] != Job.RUNNING:
            raise Cancelled
        rows.update(done=done, total=total, note=note[:300])
