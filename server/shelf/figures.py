"""What was measured of streams, and which others are the same."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any, ClassVar

from django.db.models import F, Q
from django.db.models.functions import Abs
from numpy.typing import NDArray

from zubret_core.audio import measure
from zubret_core.audio.alike import beginning, same_audio
from zubret_core.base import Progress, ZubretError, silent
from zubret_core.source import Source, same_bytes

from ..games.models import Game
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from .models import Figures, Stream, streams_of
from .sound import open_original, original_address, sound_at

AT_ONCE = 1 << 21
"""Frames up to which a stream is measured while its reader waits."""
MOST_COMPARED, BUDGET = 1000, 1.0
"""Streams that are compared in one answer, and the seconds that it may take."""


@dataclass(frozen=True)
class MeasureOrder(Order):
    """Measure a stream, by its number."""

    kind: ClassVar[str] = "measure"
    stream: int


def figures_of(row: Stream) -> dict[str, Any] | None:
    """The figures of a stream; None where it was not measured yet."""
    return Figures.objects.filter(pk=row.digest()).values_list("data", flat=True).first()


def start_measuring(row: Stream) -> Job | None:
    """Measure a stream: a short one now, a longer one as a job."""
    if row.frames <= AT_ONCE:
        _measure(row)
        return None
    title = f"Measuring {row.name or row.stream_id or row.bank.name}"
    return start(MeasureOrder(row.pk), title, row.archive.game, Job.OPEN, ("stream",))


def _settle(job: Job, order: MeasureOrder, result: None) -> None:
    """Who looks through long streams starts many of these; what came of it stands in the stream's figures."""
    if job.state == Job.DONE:
        Job.objects.filter(pk=job.pk).delete()


@work("long", _settle)
def measure_stream(job: Job, order: MeasureOrder, progress: Progress) -> None:
    """Decode it from end to end."""
    row = Stream.objects.select_related("archive__game", "archive__outer", "bank").filter(pk=order.stream).first()
    if row is None:
        raise ZubretError("The survey has changed meanwhile.", next="Choose the stream again.")
    _measure(row, progress)


def _measure(row: Stream, progress: Progress = silent) -> None:
    """Keep the figures of a stream, and what kind of sound they let guess."""
    sound = sound_at(original_address(row))
    path = f"{row.archive.path}/{row.bank.entry_path}"
    data = measure(sound.decode, sound.format, row.language, path, progress).as_dict()
    Figures.objects.get_or_create(pk=row.digest(), defaults={"data": data})
    if row.kind != data["kind"]:
        Stream.objects.filter(pk=row.pk).update(kind=data["kind"])
        Game.objects.filter(pk=row.archive.game_id).update(said=F("said") + 1)


def same_as(row: Stream, after: int = 0) -> dict[str, Any]:
    """Other streams of the game with the same payload, or with the same audio in another form.

    Those of nearly the same length are looked at, the nearest first: byte for byte where as many are stored, else by
    their samples. One that can't be read is passed over. After `BUDGET` seconds what was found is given, with the number
    that were looked at; ask again `after` it. done: that number; total: how many there are to look at.
    """
    near = Q(seconds__gte=row.seconds * 0.998 - 0.002, seconds__lte=row.seconds * 1.002 + 0.002)
    twin = Q(stored=row.stored, frames=row.frames, channels=row.channels)
    others = streams_of(row.archive.game).filter(near | twin).exclude(pk=row.pk)
    others = others.order_by(Abs(F("seconds") - row.seconds), "pk").select_related(
        "archive__game", "archive__outer", "bank"
    )
    payload, sound = open_original(row).payload, sound_at(original_address(row))
    heard = beginning(sound.decode, sound.format)
    found, done, until = [], after, time.monotonic() + BUDGET
    for other in others[after : after + MOST_COMPARED]:
        if how := _alike(row, payload, heard, other):
            found.append((other, how))
        done += 1
        if time.monotonic() > until:
            break
    return {"found": found, "done": done, "total": others.count()}


def _alike(row: Stream, payload: Source, heard: NDArray, other: Stream) -> str:
    """ "payload", "audio", or "" where they differ."""
    as_many = (other.stored, other.frames, other.channels) == (row.stored, row.frames, row.channels)
    try:
        theirs = open_original(other)
        if as_many and same_bytes(payload, theirs.payload):
            return "payload"
        return "audio" if same_audio(heard, row.rate, theirs.decode, theirs.format) else ""
    except ZubretError:
        return ""
