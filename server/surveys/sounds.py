"""The rows of loose sounds: one row each is handed over, and the database makes of it all that a survey keeps of a sound.

A game may have tens of thousands of them. What `Rows` writes for a file that was opened as an archive of one entry, these
statements write for some thousand files together; a test holds both equal.
"""

from __future__ import annotations

from posixpath import splitext
from typing import Any

from django.db import connection

from zubret_core.audio.measure import likely_kind
from zubret_core.container import GameFile
from zubret_core.container.index import EDGE
from zubret_core.locate.recognise import AUDIO
from zubret_core.locate.sounds import PlainSound

from ..bulk import insert_from
from ..games.models import SurveyFile
from ..shelf.models import Archive, Bank, Entry, Stream, pack_locator

_TABLE = "loose_sound"
_COLUMNS = (
    "path", "within", "name", "stem", "size", "mtime_ns", "changed_ns", "sum", "variant", "rate",
    "channels", "frames", "loop_start", "loop_end", "spans", "locator", "kind",
)  # fmt: skip
_ZERO, _NULL, _EMPTY, _LIST = "0", "NULL", "''", "'[]'"
_ARCHIVE_ID, _BANK_ID = "%(archive)s + rowid", "%(bank)s + rowid"
_SECONDS = "CAST(frames AS REAL) / rate"
_FILE = {
    "survey": "%(survey)s", "path": "path", "within": "within", "size": "size", "mtime_ns": "mtime_ns",
    "changed_ns": "changed_ns", "inside": _ZERO, "what": "%(what)s", "evidence": "%(evidence)s", "belongs_to": _EMPTY,
    "archive": _ARCHIVE_ID, "streams": "1", "held": "1", "count": _ZERO,
}  # fmt: skip
_ARCHIVE = {
    "id": _ARCHIVE_ID, "game": "%(game)s", "path": "path", "size": "size", "mtime_ns": "mtime_ns", "kind": "'file'",
    "layout": _EMPTY, "entry_count": "1", "unpacked": "size", "stream_count": "1", "seconds": _SECONDS,
    "stream_bytes": "size", "evidence": "%(evidence)s", "chain": _LIST, "outer": _NULL, "companions": _LIST,
    "index_spans": "spans", "index_sum": "sum", "opened_with": _EMPTY, "error": _NULL, "complete": "1", "digested": _ZERO,
}  # fmt: skip
_ENTRY = {
    "archive": _ARCHIVE_ID, "ordinal": _ZERO, "path": "name", "path_raw": _NULL, "at": _ZERO, "stored": "size", "size": "size",
    "method": "'plain'", "crc32": _NULL, "file": _EMPTY, "digest": _NULL,
}  # fmt: skip
_BANK = {
    "id": _BANK_ID, "archive": _ARCHIVE_ID, "entry_index": _ZERO, "entry_path": "name", "name": "name", "layout": _EMPTY,
    "language": _EMPTY, "error": _NULL,
}  # fmt: skip
_STREAM = {
    "archive": _ARCHIVE_ID, "bank": _BANK_ID, "locator": "locator", "ordinal": _ZERO, "stream_id": _EMPTY, "name": "stem",
    "codec": "'file'", "variant": "variant", "rate": "rate", "channels": "channels", "frames": "frames",
    "seconds": _SECONDS, "loop_start": "loop_start", "loop_end": "loop_end", "block_size": _ZERO, "parameters": "'{}'",
    "at": _ZERO, "stored": "size", "shared": _ZERO, "keeps": "'rate,channels,codec'", "kind": "kind",
    "language": _EMPTY, "said": "'{}'",
}  # fmt: skip


def row_of(file: GameFile, sound: PlainSound) -> tuple[Any, ...]:
    """What is handed over of a sound."""
    path, f = file.path, sound.format
    within, _, name = path.rpartition("/")
    loop = (f.loop.start, f.loop.end) if f.loop else (None, None)
    edge = min(file.size, EDGE)
    spans = f"[[0,{edge}],[{file.size - edge},{edge}]]"  # what `index_spans` gives for a loose file
    locator = pack_locator(path, ((name, 0),), "", 0)
    return (
        path, within, name, splitext(name)[0], file.size, file.mtime_ns, file.changed_ns, sound.sum, f.variant, f.rate,
        f.channels, f.frames, *loop, spans, locator, likely_kind(f, path=path),
    )  # fmt: skip


def hand_over(rows: list[tuple[Any, ...]]) -> None:
    """Hand these sounds, in place of those before, to the database, which numbers them from 1."""
    with connection.cursor() as cursor:
        cursor.execute(f"CREATE TEMP TABLE IF NOT EXISTS {_TABLE} ({', '.join(_COLUMNS)})")
        cursor.execute(f"DELETE FROM {_TABLE}")
        cursor.executemany(f"INSERT INTO {_TABLE} VALUES ({', '.join(['%s'] * len(_COLUMNS))})", rows)


def insert_sounds(survey: int, game: int, archive: int, bank: int) -> None:
    """Write all rows of the sounds that were handed over but their words, within the caller's transaction. archive, bank: the
    numbers after which theirs follow."""
    known = {"survey": survey, "game": game, "archive": archive, "bank": bank, "evidence": AUDIO.evidence,
             "what": SurveyFile.SOUND}  # fmt: skip
    for model, values in ((Archive, _ARCHIVE), (SurveyFile, _FILE), (Entry, _ENTRY), (Bank, _BANK), (Stream, _STREAM)):
        insert_from(_TABLE, model, values, known)
