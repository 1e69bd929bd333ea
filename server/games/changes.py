"""What changed between two surveys: one SQL join, kept as rows that can be filtered and paged."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np
from django.db import connection, transaction
from django.db.models import Count, Q, QuerySet
from numpy.typing import NDArray

from ..shelf.models import Archive, Entry
from .models import Change, Comparison, Survey, SurveyFile

WORDS = {
    "added": "added",
    "removed": "removed",
    "changed": "changed",
    "moved": "moved",
    "renamed": "renamed",
    "unsure": "not yet compared",
}
"""Kinds of change, as people read them."""

_SAME = """(o.size = n.size AND ((o.digest IS NOT NULL AND o.digest IS n.digest)
           OR ((o.digest IS NULL OR n.digest IS NULL) AND o.crc32 IS NOT NULL AND o.crc32 IS n.crc32)))"""
_KNOWN = "((o.digest IS NOT NULL AND n.digest IS NOT NULL) OR (o.crc32 IS NOT NULL AND n.crc32 IS NOT NULL))"
SHUT = (SurveyFile.LOCKED, SurveyFile.UNREADABLE)
"""What a file may be whose entries are not known."""
_COLUMNS = "comparison_id, kind, file, path, old_path, old_size, new_size, detail"


def compare(old: Survey, new: Survey) -> Comparison:
    """The changes from one survey to another; worked out again once more contents are known."""
    known = Archive.objects.filter(seen_in__survey__in=(old, new), digested=True).values("pk").distinct().count()
    found = Comparison.objects.filter(old=old, new=new).first()
    if found and found.digested == known:
        return found
    with transaction.atomic():
        Comparison.objects.filter(old=old, new=new).delete()
        made = Comparison.objects.create(old=old, new=new, digested=known)
        _insert(made)
    return made


def _insert(made: Comparison) -> None:
    """The changes of every file; archives that both surveys saw in the same version are passed over."""
    rows = [
        {path: (archive, what) for path, archive, what in survey.seen.values_list("path", "archive", "what") if archive}
        for survey in (made.old, made.new)
    ]
    closed: list[str] = []
    for path in sorted(rows[0].keys() | rows[1].keys()):
        old, new = (side.get(path, (None, "")) for side in rows)
        if old[0] == new[0] or any(path.startswith(f"{outer} › ") for outer in closed):
            continue
        shut = [
            f"{what} in the {when} survey" for (_, what), when in ((old, "earlier"), (new, "later")) if what in SHUT
        ]
        if shut and old[0] and new[0]:  # nothing is known of what is inside, so nothing is said of it
            closed.append(path)
            Change.objects.create(comparison=made, kind="unsure", file=path, path="", detail=", ".join(shut))
        else:
            _compare_archives(made, path, old[0], new[0])
    _rename(made)
    _files(made)


def _compare_archives(made: Comparison, path: str, old: int | None, new: int | None) -> None:
    """One join each way over the index of (archive, path), of what does not stand in step with its like.

    The content of what is alone goes into `detail` for now.
    """
    entry = connection.ops.quote_name(Entry._meta.db_table)
    change = connection.ops.quote_name(Change._meta.db_table)
    alone = "COALESCE({0}.digest, 'c' || {0}.crc32, '')"
    with connection.cursor() as cursor, _out_of_step(cursor, old, new) as (ours, theirs):
        if old is not None:
            cursor.execute(
                f"""
                INSERT INTO {change} ({_COLUMNS})
                SELECT %s, CASE WHEN n.id IS NULL THEN 'removed' WHEN {_SAME} THEN 'moved'
                                WHEN o.size = n.size AND NOT {_KNOWN} THEN 'unsure' ELSE 'changed' END,
                       %s, o.path, '', o.size, n.size,
                       CASE WHEN n.id IS NULL THEN {alone.format("o")}
                            WHEN {_SAME} THEN 'byte ' || o.at || ' to ' || n.at ELSE '' END
                FROM {ours} s CROSS JOIN {entry} o ON o.id = s.id
                     LEFT JOIN {entry} n ON n.archive_id = %s AND n.path = o.path
                WHERE n.id IS NULL OR NOT ({_SAME} AND o.at = n.at AND o.file = n.file)
                """,
                [made.pk, path, new],
            )
        if new is not None:
            cursor.execute(
                f"""
                INSERT INTO {change} ({_COLUMNS})
                SELECT %s, 'added', %s, n.path, '', NULL, n.size, {alone.format("n")}
                FROM {theirs} s CROSS JOIN {entry} n ON n.id = s.id
                WHERE NOT EXISTS (SELECT 1 FROM {entry} o WHERE o.archive_id = %s AND o.path = n.path)
                """,
                [made.pk, path, old],
            )


RUN = 1024
"""Entries that are compared in step with each other at once."""


@contextmanager
def _out_of_step(cursor: Any, old: int | None, new: int | None) -> Iterator[tuple[str, str]]:
    """Two tables of the ids of what the joins have to look at, of the earlier and of the later archive.

    Most entries of a patched archive follow each other as before, and neighbours have neighbouring ids. So runs of
    them are laid beside each other from a path that both have, which is much cheaper than to look each path up.
    """
    sides = _ids(cursor, old), _ids(cursor, new)
    left = [np.ones(len(ids), bool) for ids in sides]
    if isinstance(sides[0], range) and isinstance(sides[1], range):
        _step(cursor, sides[0], sides[1], new, left)
    names = "temp.earlier_ids", "temp.later_ids"
    for name, ids, mine in zip(names, sides, left, strict=True):
        cursor.execute(f"CREATE TABLE {name} (id INTEGER PRIMARY KEY)")
        cursor.executemany(f"INSERT INTO {name} VALUES (%s)", [(ids[n],) for n in np.flatnonzero(mine).tolist()])
    try:
        yield names
    finally:
        for name in names:
            cursor.execute(f"DROP TABLE {name}")


def _ids(cursor: Any, archive: int | None) -> Sequence[int]:
    """The ids of an archive's entries, as a range where no other rows stand between them."""
    entry = connection.ops.quote_name(Entry._meta.db_table)
    cursor.execute(f"SELECT MIN(id), MAX(id), COUNT(*) FROM {entry} WHERE archive_id = %s", [archive])
    first, last, count = cursor.fetchone()
    if not count or last - first + 1 == count:
        return range(first, last + 1) if count else range(0)
    cursor.execute(f"SELECT id FROM {entry} WHERE archive_id = %s ORDER BY id", [archive])
    return [row[0] for row in cursor]


def _step(cursor: Any, earlier: range, later: range, new: int | None, left: list[NDArray[np.bool_]]) -> None:
    """Clear what is the same in both, run by run, from the flags in `left`."""
    entry = connection.ops.quote_name(Entry._meta.db_table)
    shift = None
    for start in earlier[::RUN]:
        cursor.execute(
            f"SELECT n.id FROM {entry} o JOIN {entry} n ON n.archive_id = %s AND n.path = o.path WHERE o.id = %s",
            [new, start],
        )
        found = cursor.fetchone()
        shift = found[0] - start if found else shift
        if shift is None:
            continue
        a = max(start, later.start - shift)
        b = min(start + RUN, earlier.stop, later.stop - shift)
        if a >= b:
            continue
        cursor.execute(
            f"""SELECT o.id FROM {entry} o CROSS JOIN {entry} n ON n.id = o.id + %s WHERE o.id >= %s AND o.id < %s
                AND NOT (o.path = n.path AND o.at = n.at AND o.file = n.file AND {_SAME})""",
            [shift, a, b],
        )
        same = np.ones(b - a, bool)
        same[[row[0] - a for row in cursor]] = False
        left[0][a - earlier.start : b - earlier.start] &= ~same
        left[1][a + shift - later.start : b + shift - later.start] &= ~same


def _rename(made: Comparison) -> None:
    """A removed and an added entry with the same content are one that was renamed."""
    columns = ("pk", "file", "path", "detail", "old_size", "new_size")
    alone = made.changes.exclude(detail="").order_by("pk")
    gone: dict[tuple[int, str], list[tuple[int, str, str]]] = {}
    for pk, file, path, content, size, _ in alone.filter(kind="removed").values_list(*columns):
        gone.setdefault((size, content), []).append((pk, file, path))
    matched, renamed = [], []
    for pk, file, _, content, _, size in alone.filter(kind="added").values_list(*columns):
        before = gone.get((size, content))
        if before and size:
            old_pk, old_file, old_path = before.pop()
            matched.append((old_pk,))
            renamed.append((old_path if old_file == file else f"{old_file} › {old_path}", size, pk))
    table = connection.ops.quote_name(Change._meta.db_table)
    with connection.cursor() as cursor:
        cursor.executemany(f"UPDATE {table} SET kind = 'renamed', old_path = %s, old_size = %s WHERE id = %s", renamed)
        cursor.executemany(f"DELETE FROM {table} WHERE id = %s", matched)
    made.changes.filter(kind__in=("added", "removed", "renamed")).update(detail="")


def _files(made: Comparison) -> None:
    """Files that hold no entries: added, removed, or of another size or time."""
    sides = []
    for survey in (made.old, made.new):
        rows = survey.seen.filter(inside=False).values_list("path", "size", "mtime_ns", "archive__entry_count")
        sides.append({path: (size, mtime, entries) for path, size, mtime, entries in rows})
    out = []
    for path in sorted(sides[0].keys() | sides[1].keys()):
        a, b = sides[0].get(path), sides[1].get(path)
        if (a and a[2] is not None) or (b and b[2] is not None) or (a and b and a[:2] == b[:2]):
            continue
        kind = "added" if a is None else "removed" if b is None else "changed" if a[0] != b[0] else "unsure"
        detail = "same size, another time" if kind == "unsure" else ""
        sizes = {"old_size": a[0] if a else None, "new_size": b[0] if b else None}
        out.append(Change(comparison=made, kind=kind, file=path, path="", detail=detail, **sizes))
    Change.objects.bulk_create(out, batch_size=500)


def filtered(made: Comparison, kind: str, q: str) -> QuerySet[Change]:
    """Changes of a kind, with all words of `q` in their path."""
    rows = made.changes.order_by("file", "path", "pk")
    if kind:
        rows = rows.filter(kind=kind)
    for word in q.split():
        rows = rows.filter(Q(path__icontains=word) | Q(file__icontains=word))
    return rows


def counts(made: Comparison) -> dict[str, int]:
    """How many changes there are of each kind."""
    found = dict(made.changes.order_by().values_list("kind").annotate(n=Count("pk")))
    return {kind: found.get(kind, 0) for kind in WORDS}


class _Echo:
    @staticmethod
    def write(text: str) -> str:
        return text


def as_csv(rows: QuerySet[Change]) -> Iterator[str]:
    """The changes as lines of a CSV file (RFC 4180)."""
    writer: Any = csv.writer(_Echo())
    yield writer.writerow(["change", "file", "entry", "was called", "bytes before", "bytes after", "detail"])
    for row in rows.iterator():
        kind = WORDS[row.kind]
        yield writer.writerow([kind, row.file, row.path, row.old_path, row.old_size, row.new_size, row.detail])
