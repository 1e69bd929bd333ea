"""Jobs in the API."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one
from ..paging import Limit, Offset
from .models import Job
from .run import cancel

router = Router()


class ProblemOut(Schema):
    """An error: what is wrong, where, and what to do next."""

    what: str
    where: str
    next: str


class JobOut(Schema):
    """state: waiting, running, done, failed, cancelled or cut off."""

    id: int
    game_id: int | None
    kind: str
    title: str
    state: str
    done: int
    total: int
    note: str
    error: ProblemOut | None
    result: dict
    created: datetime
    started: datetime | None
    finished: datetime | None


@router.get("/jobs", response=list[JobOut])
def list_jobs(request: HttpRequest, open: bool = False, offset: Offset = 0, limit: Limit = 50):
    """The newest jobs; with `open` only those that wait or run."""
    jobs = Job.objects.filter(state__in=Job.OPEN) if open else Job.objects.all()
    return jobs.order_by("-id")[offset : offset + limit]


@router.get("/jobs/{int:job_id}", response=JobOut)
def get_job(request: HttpRequest, job_id: int):
    """One job."""
    return one(Job.objects.all(), job_id)


@router.post("/jobs/{int:job_id}/cancel", response=JobOut)
def cancel_job(request: HttpRequest, job_id: int):
    """Ask a job to stop; one that has not begun ends at once."""
    job = one(Job.objects.all(), job_id)
    cancel(job)
    job.refresh_from_db()
    return job
