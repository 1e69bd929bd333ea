"""Audio that nothing describes: what its bytes could be, hearing it, and a layout from it."""

from __future__ import annotations

import hashlib
from typing import Any

from zubret_core.base import Kept, ZubretError
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of
from zubret_core.locate.draft_texts import draft
from zubret_core.locate.tables import HEAD, find_table
from zubret_core.locate.turns import MOST_CHANNELS, turns_of, verdict
from zubret_core.locate.unknown import RATES, Candidate, likely_start, rank

from ..errors import stopped
from ..games.models import Game
from ..layouts.models import UserLayout
from ..shelf.sound import Sound, opens
from .services import create, open_bytes, title_of

MOST_SPANS = 500

_heard: Kept[str, tuple[int, str, int, int, Candidate, int]] = Kept(400)
"""Readings of bytes that can be heard again."""


def looked_at(game: Game, path: str) -> dict[str, Any]:
    """A file's size and the payloads that a table in it points to, or all of it."""
    with open_bytes(game, path) as source:
        table = find_table(source)
        spans = [{"at": at, "length": length} for at, length in table.spans[:MOST_SPANS]] if table else []
        start = 0 if spans else likely_start(source)
        return {
            "size": source.size,
            "spans": spans or [{"at": start, "length": source.size - start}],
            "table_at": table.at if table else None,
            "records": table.count if table else 0,
            "rate": table.rate if table else 0,
            "rates": RATES,
            "most_channels": MOST_CHANNELS,
        }


def ranked(game: Game, path: str, start: int, end: int, rate: int) -> dict[str, Any]:
    """The likeliest readings of [start, end), each with an address at which it is heard."""
    with open_bytes(game, path) as source:
        if not 0 <= start < end <= source.size:
            raise stopped(
                422,
                f"The part from {start:,} to {end:,} is not inside the file.",
                f"It has {source.size:,} bytes.",
                path,
            )
        found = rank(source, start, end)
    best = found.candidates[0].score if found.candidates else 0.0
    readings = [{**heard(game, path, start, end, c, rate), "verdict": verdict(c.score, best)} for c in found.candidates]
    return {"note": found.note, "candidates": readings, "rate": found.rate, "why": found.why}


def candidate_of(data: dict[str, Any]) -> Candidate:
    """A reading by a request; ZubretError where its codec can't be so."""
    candidate = Candidate(
        data["codec"],
        max(1, min(MOST_CHANNELS, data["channels"])),
        data.get("score", 0.0),
        max(0, data["block_size"]),
        max(0, data["skip"]),
        frozen(data["parameters"]),
        tuple(data.get("reasons", ())),
    )
    codec_of(candidate.format(44_100, 1 << 12))
    return candidate


def heard(game: Game, path: str, start: int, end: int, candidate: Candidate, rate: int) -> dict[str, Any]:
    """Make a reading one that can be heard: its facts and its address."""
    if not 1 <= rate <= 4_000_000:
        raise stopped(422, f"A rate of {rate:,} Hz is not possible.", "Choose 1 to 4,000,000 Hz.", "rate")
    with open_bytes(game, path) as source:
        format = candidate.read(source, start, end, rate)[1]
    if not format.frames:
        raise ZubretError(
            "These bytes are too few for one block of this reading.", file=path, next="Choose a longer part."
        )
    text = repr((game.pk, path, start, end, candidate, rate))
    key = hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=10).hexdigest()
    _heard.put(key, (game.pk, path, start, end, candidate, rate))
    return {
        "label": candidate.label,
        "codec": candidate.codec,
        "channels": candidate.channels,
        "block_size": candidate.block_size,
        "skip": candidate.skip,
        "parameters": dict(candidate.parameters),
        "score": candidate.score,
        "reasons": list(candidate.reasons),
        "rate": format.rate,
        "fixed_rate": codec_of(format).tells,
        "frames": format.frames,
        "audio": f"b{game.pk}.{key}",
        "turns": [turn._asdict() for turn in turns_of(candidate.codec)],
    }


@opens("b")
def _unknown(game_pk: int, digest: str) -> Sound | None:
    found = _heard.get(digest)
    if found is None or found[0] != game_pk:
        return None
    pk, path, start, end, candidate, rate = found
    game = Game.objects.get(pk=pk)
    payload, format = candidate.read(open_bytes(game, path), start, end, rate)

    def decode(at: int, frames: int):
        return codec_of(format).decode(payload, format, at, frames)

    return Sound(title_of(path), format, decode, digest)


def drafted(game: Game, path: str, start: int, candidate: Candidate, rate: int) -> UserLayout:
    """A new layout for a file from the reading that sounded right."""
    with open_bytes(game, path) as source:
        data = source.read(0, min(HEAD, source.size))
        text = draft(title_of(path), data, candidate, rate, start, find_table(source))
    return create("", text)
