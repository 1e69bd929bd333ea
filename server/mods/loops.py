"""Loops that a swap's file could have, looked for by a job."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from zubret_core.audio import AudioInfo, pieces_between
from zubret_core.audio.loops import FoundLoop, find_loops
from zubret_core.base import Progress
from zubret_core.swap import Treatment

from ..errors import stopped
from ..jobs.models import Job
from ..jobs.orders import Order, read
from ..jobs.run import start, work
from .models import Swap
from .services import source_of


@dataclass(frozen=True)
class LoopsOrder(Order):
    """Look for loops in the part [first, last) of a swap's file, in its frames."""

    kind: ClassVar[str] = "loops"
    swap: int
    first: int
    last: int


@dataclass(frozen=True)
class Loops:
    """What was found, the likeliest first, in frames of the file."""

    loops: list[FoundLoop]


def _order(swap: Swap) -> LoopsOrder:
    """For the part that is used now."""
    if swap.info is None:
        raise stopped(409, "The file is still being read.", "Wait a moment, then try again.", swap.source_name)
    first, last = Treatment.from_dict(swap.treatment).used(AudioInfo.from_dict(swap.info))
    return LoopsOrder(swap.pk, first, last)


def look(swap: Swap) -> Job:
    """Start looking for loops; the job that already does, if there is one."""
    title = f"Loops in {swap.source_name}"
    return start(_order(swap), title, swap.mod.game, Job.OPEN, ("swap", "first", "last"))


def found(swap: Swap) -> tuple[Job | None, Loops | None]:
    """The newest job that looked through the part which is used now, and what it found."""
    if swap.info is None:
        return None, None
    order = _order(swap)
    args = {f"args__{name}": value for name, value in vars(order).items()}
    job = Job.objects.filter(kind=order.kind, **args).order_by("-pk").first()
    done = job is not None and job.state == Job.DONE
    return job, read(Loops, job.result) if job is not None and done else None


@work("quick")
def find(job: Job, order: LoopsOrder, progress: Progress) -> Loops:
    """Look through the file."""
    swap = Swap.objects.select_related("mod__game").get(pk=order.swap)
    assert swap.info is not None
    with source_of(swap) as source:

        def between(first: int, last: int) -> Iterator[NDArray[np.float32]]:
            return pieces_between(source, order.first + first, order.first + last)

        loops = find_loops(between, order.last - order.first, swap.info["rate"], progress)
    return Loops([replace(x, start=x.start + order.first, end=x.end + order.first) for x in loops])
