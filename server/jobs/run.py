"""Starting jobs, doing them, and ending them: however a job ends, all that waited for it is settled in the same moment.

A row of Job is all that there is of a job: the workers take the waiting rows of their queue, the oldest first.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from contextlib import nullcontext, suppress
from dataclasses import asdict
from types import NoneType
from typing import Any, NamedTuple, TypeVar, get_type_hints, overload

from django.conf import settings
from django.db import DatabaseError, OperationalError, close_old_connections, connection, transaction
from django.utils import timezone
from pydantic import ValidationError

from zubret_core.base import Cancelled, Progress, ZubretError, in_words, told_to

from ..errors import of_system
from .alive import lives, wake
from .models import Job
from .orders import Order, Tidy, read

log = logging.getLogger("zubret.jobs")
T = TypeVar("T")
Ordered = TypeVar("Ordered", bound=Order)
R = TypeVar("R")
F = TypeVar("F", bound=Callable[..., Any])
Work = Callable[[Job, Ordered, Progress], R]
"""Does what is ordered, and gives a dataclass or nothing."""
Settle = Callable[[Job, Ordered, R | None], None]
"""Gets the result of a job that is done, and nothing of any other."""

CUT_OFF = {
    "what": "The work was cut off: the process that did it ended.",
    "where": "",
    "next": "Start it again.",
}


def _nothing(job: Job, order: Order, result: Any) -> None:
    """Of a kind for which no rows wait."""


class Kind(NamedTuple):
    """What a kind of job does, by its order and to which result; settle: puts right all rows that waited for the job,
    within the transaction that ends it."""

    work: Work[Any, Any]
    queue: str
    settle: Settle[Any, Any]
    order: type[Order]
    result: Any

    def do(self, job: Job, progress: Progress) -> dict[str, Any]:
        """The work; its result as JSON."""
        result = self.work(job, read(self.order, job.args), progress)
        return {} if result is None else asdict(result)

    def ended(self, job: Job) -> None:
        """Settle what waited for a job in its last state."""
        try:
            order = read(self.order, job.args)
            result = read(self.result, job.result) if job.state == Job.DONE and self.result is not NoneType else None
        except ValidationError:
            log.exception("job %s is of another version: nothing is settled", job.pk)
            return
        self.settle(job, order, result)


_kinds: dict[str, Kind] = {}


@overload
def work(queue: str) -> Callable[[F], F]: ...
@overload
def work(queue: str, settle: Settle[Ordered, R]) -> Callable[[Work[Ordered, R]], Work[Ordered, R]]: ...
def work(queue: str, settle: Settle[Any, Any] = _nothing) -> Callable[[Any], Any]:
    """Register a function as the work of the kind of job whose order it takes.

    `settle` is called with the job in its last state, once for every job that has begun or was cancelled before.
    """

    def register(function: Work[Any, Any]) -> Work[Any, Any]:
        types = get_type_hints(function)
        order: type[Order] = types["order"]
        _kinds[order.kind] = Kind(function, queue, settle, order, types["return"])
        return function

    return register


def start(order: Order, title: str, game: Any = None, joins: tuple[str, ...] = (), alike: tuple[str, ...] = ()) -> Job:
    """A new job, handed to the worker as soon as the row can be seen.

    joins: states in which a job of this kind of the same game takes its place; that one is given back. alike: the
    fields of the order in which it has to be the same.
    """
    args = asdict(order)
    same = {f"args__{name}": args[name] for name in alike}
    with transaction.atomic():
        open_jobs = Job.objects.filter(kind=order.kind, game=game, state__in=joins, cancel=False, **same)
        running = open_jobs.order_by("pk").first()
        if running:
            return running
        job = Job.objects.create(kind=order.kind, title=title, game=game, args=args)
    transaction.on_commit(lambda: _hand_over(job))
    return job


def tidy_up() -> Job:
    """Have what nobody refers to any more removed; once is enough for all that ask before it begins."""
    return start(Tidy(), "Tidying up", None, (Job.WAITING,))


def _hand_over(job: Job) -> None:
    if settings.JOBS_AT_ONCE:
        begin(job.pk, "")
    else:
        wake(_kinds[job.kind].queue)


def take(queue: str, worker: str) -> int | None:
    """Do the oldest waiting job of a queue; its number, None where there is none."""
    kinds = [kind for kind, what in _kinds.items() if what.queue == queue]
    number = Job.objects.filter(state=Job.WAITING, kind__in=kinds).order_by("pk").values_list("pk", flat=True).first()
    if number is not None:
        begin(number, worker)
    return number


def begin(number: int, worker: str) -> None:
    """Do one job, unless it has been begun or cancelled: progress, cancel, and every outcome into its row."""
    began = Job.objects.filter(pk=number, state=Job.WAITING).update(
        state=Job.RUNNING, started=timezone.now(), worker=worker
    )
    if not began:
        return
    job = Job.objects.select_related("game").get(pk=number)
    reporter = _Reporter(number)
    try:
        with told_to(reporter.aside), _Clock(reporter) if worker else nullcontext():
            result = _kinds[job.kind].do(job, reporter)
    except Cancelled:
        end(job, Job.CANCELLED)
    except ZubretError as e:
        end(job, Job.FAILED, error=e.as_dict())
    except Exception as e:
        if told := of_system(e):
            end(job, Job.FAILED, error=told.as_dict())
            return
        log.exception("job %s failed", number)  # a fault of ours
        what = f"Zubret made a mistake here ({type(e).__name__}: {e})."
        end(job, Job.FAILED, error={"what": what, "where": job.kind, "next": "Try again; the log has the details."})
    except BaseException:
        end(job, Job.CUT_OFF, error=CUT_OFF)
        raise
    else:
        end(job, Job.DONE, result=result)


def end(job: Job, state: str, was: str = Job.RUNNING, **values: Any) -> bool:
    """Remove what a job left half-written, write down how it ended, and settle what waited for it, the last two in one
    transaction. False, and nothing done, where its state is not the one that it `was` in."""

    def written() -> bool:
        with transaction.atomic():
            rows = Job.objects.filter(pk=job.pk, state=was)
            if not rows.update(state=state, finished=timezone.now(), note="", **values):
                return False
            job.refresh_from_db()
            _kinds[job.kind].ended(job)
            return True

    left = patiently(Job.objects.filter(pk=job.pk, state=was).first)
    if left is None:
        return False
    if state != Job.DONE:
        left.clean_up()
    return patiently(written)


def cancel(job: Job) -> None:
    """Ask a job to stop; one that has not begun ends at once."""
    if not end(job, Job.CANCELLED, Job.WAITING):
        Job.objects.filter(pk=job.pk, state=Job.RUNNING).update(cancel=True)


def patiently(what: Callable[[], T]) -> T:
    """Do something in the database that has to be done, again and again while it is busy or the disk is full."""
    told = False
    while True:
        try:
            return what()
        except OperationalError as e:
            if not told:
                log.warning("waiting for the database: %s", e)
            told = True
            close_old_connections()
            time.sleep(1)


def reap() -> None:
    """End the jobs whose workers do not live any more."""
    for job in Job.objects.filter(state=Job.RUNNING).exclude(worker=""):
        if not lives(job.worker):
            end(job, Job.CUT_OFF, error=CUT_OFF)


QUIET = 1.0
"""Seconds after which a job's words say how long it has said nothing."""


class _Clock:
    """While a job says nothing, as when a file of gigabytes is closed or a disk is slow, its words say for how long."""

    def __init__(self, reporter: _Reporter):
        self._reporter, self._over = reporter, threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True, name="job's clock")

    def __enter__(self) -> None:
        self._thread.start()

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()

    def _watch(self) -> None:
        rows = Job.objects.filter(pk=self._reporter.number, state=Job.RUNNING)
        while not self._over.wait(QUIET / 2):
            silent = time.monotonic() - self._reporter.heard
            if silent >= QUIET:
                with suppress(DatabaseError):
                    rows.update(note=f"{self._reporter.note[:280] or 'working'}, {silent:.0f} s")
        connection.close()  # this thread's own


class _Reporter:
    """The progress callback of a job: at most four writes a second; raises Cancelled when asked to."""

    def __init__(self, number: int):
        self.number, self.last = number, 0.0
        self.done = self.total = 0
        self.note, self.heard = "", time.monotonic()

    def aside(self, done: int, total: int, note: str) -> None:
        """What is told from deep inside: the bar stays where it is, and the words say how far that is."""
        self(self.done, self.total, in_words(done, total, note))

    def __call__(self, done: int, total: int, note: str) -> None:
        if total and done * self.total >= self.done * total:  # a bar does not run back
            self.done, self.total = done, total
        else:
            note = in_words(done, total, note)
        now = self.heard = time.monotonic()
        self.note = note
        if now - self.last < 0.25:
            return
        self.last = now
        rows = Job.objects.filter(pk=self.number)
        state = rows.values_list("cancel", "state").first()
        if state is None or state[0] or state[1] != Job.RUNNING:
            raise Cancelled
        with suppress(OperationalError):  # how far it is may be told the next time
            rows.update(done=self.done, total=self.total, note=note[:300])
