"""Loops that a swap's file could have, looked for by a job; and the beats of both, by which a loop is taken over."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from typing import ClassVar, TypeVar

import numpy as np
from numpy.typing import NDArray

from zubret_core.audio import AudioInfo, pieces_between
from zubret_core.audio.loops import Between, FoundLoop, beat_of, find_loops
from zubret_core.base import Passes, Progress
from zubret_core.swap import Treatment, original_source

from ..errors import stopped
from ..jobs.models import Job
from ..jobs.orders import Order, read
from ..jobs.run import start, work
from ..shelf.sound import open_original
from .models import Swap
from .services import row_of, source_of


@dataclass(frozen=True)
class PartOrder(Order):
    """Listen to the part [first, last) of a swap's file, in its frames."""

    kind: ClassVar[str] = ""
    swap: int
    first: int
    last: int


@dataclass(frozen=True)
class LoopsOrder(PartOrder):
    """Look for loops in it."""

    kind: ClassVar[str] = "loops"


@dataclass(frozen=True)
class BeatsOrder(PartOrder):
    """Measure how long a beat is in it and in the original."""

    kind: ClassVar[str] = "beats"


@dataclass(frozen=True)
class Loops:
    """What was found, the likeliest first, in frames of the file."""

    loops: list[FoundLoop]


@dataclass(frozen=True)
class Beats:
    """Seconds from beat to beat in the original and in the new one, None where none is steady."""

    original: float | None
    new: float | None


P = TypeVar("P", bound=PartOrder)
R = TypeVar("R")


def _order(kind: type[P], swap: Swap) -> P:
    """For the part that is used now."""
    if swap.info is None:
        raise stopped(409, "The file is still being read.", "Wait a moment, then try again.", swap.source_name)
    first, last = Treatment.from_dict(swap.treatment).used(AudioInfo.from_dict(swap.info))
    return kind(swap.pk, first, last)


def look(swap: Swap) -> Job:
    """Start looking for loops; the job that already does, if there is one."""
    return _begun(_order(LoopsOrder, swap), f"Loops in {swap.source_name}", swap)


def measure_beats(swap: Swap) -> Job:
    """Start measuring beats; the job that already does, if there is one."""
    return _begun(_order(BeatsOrder, swap), f"Beats of {swap.source_name}", swap)


def _begun(order: PartOrder, title: str, swap: Swap) -> Job:
    return start(order, title, swap.mod.game, Job.OPEN, ("swap", "first", "last"))


def found(swap: Swap) -> tuple[Job | None, Loops | None]:
    """The newest job that looked through the part which is used now, and what it found."""
    return _newest(LoopsOrder, Loops, swap)


def beats(swap: Swap) -> tuple[Job | None, Beats | None]:
    """The newest job that measured the beats of that part and of the original, and what it found."""
    return _newest(BeatsOrder, Beats, swap)


def _newest(kind: type[PartOrder], result: type[R], swap: Swap) -> tuple[Job | None, R | None]:
    if swap.info is None:
        return None, None
    order = _order(kind, swap)
    args = {f"args__{name}": value for name, value in vars(order).items()}
    job = Job.objects.filter(kind=order.kind, **args).order_by("-pk").first()
    done = job is not None and job.state == Job.DONE
    return job, read(result, job.result) if job is not None and done else None


@work("quick")
def find(job: Job, order: LoopsOrder, progress: Progress) -> Loops:
    """Look through the file."""
    with _part(order) as (between, rate, _):
        loops = find_loops(between, order.last - order.first, rate, progress)
    return Loops([replace(x, start=x.start + order.first, end=x.end + order.first) for x in loops])


@work("quick")
def measure(job: Job, order: BeatsOrder, progress: Progress) -> Beats:
    """Listen to both."""
    with _part(order) as (between, rate, swap):
        original = open_original(row_of(swap, swap.locator))
        bar = Passes(progress, original.format.frames / original.format.rate, (order.last - order.first) / rate)
        with original_source(original) as stored:
            old = beat_of(partial(pieces_between, stored), original.format.frames, original.format.rate, bar[0])
        new = beat_of(between, order.last - order.first, rate, bar[1])
    return Beats(old, new)


@contextmanager
def _part(order: PartOrder) -> Iterator[tuple[Between, int, Swap]]:
    """The part of a swap's file, its rate, and the swap."""
    swap = Swap.objects.select_related("mod__game").get(pk=order.swap)
    assert swap.info is not None
    with source_of(swap) as source:

        def between(first: int, last: int) -> Iterator[NDArray[np.float32]]:
            return pieces_between(source, order.first + first, order.first + last)

        yield between, swap.info["rate"], swap
