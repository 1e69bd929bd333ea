"""What was measured of streams, and which others are the same."""

from __future__ import annotations

import time
from typing import Any

from django.db.models import F, Q
from django.db.models.functions import Abs
from numpy.typing import NDArray

from zubret_core.audio import measure
from zubret_core.audio.alike import beginning, same_audio
from zubret_core.base import ZubretError
from zubret_core.source import Source, same_bytes

from ..games.models import Game
from .models import Figures, Stream, streams_of
from .sound import open_original, original_address, sound_at

MOST_COMPARED, BUDGET = 1000, 1.0
"""Streams that are compared in one answer, and the seconds that it may take."""


def figures_of(row: Stream) -> dict[str, Any]:
    """The figures of a stream, measured once; its guessed kind is kept in its row."""
    digest = row.digest()
    known = Figures.objects.filter(pk=digest).first()
    if known is None:
        sound = sound_at(original_address(row))
        data = measure(sound.decode, sound.format, row.bank.language).as_dict()
        known, _ = Figures.objects.get_or_create(pk=digest, defaults={"data": data})
    if row.kind != known.data["kind"]:
        Stream.objects.filter(pk=row.pk).update(kind=known.data["kind"])
        Game.objects.filter(pk=row.archive.game_id).update(said=F("said") + 1)
    return known.data


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
