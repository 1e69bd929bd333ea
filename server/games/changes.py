"""What changed between two surveys: one SQL join, kept as rows that can be filtered and paged."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import Any

from django.db import connection, transaction
from django.db.models import Count, Q, QuerySet

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

_SAME = """(o.size = n.size AND ((o.digest IS NOT NULL AND o.digest = n.digest)
           OR ((o.digest IS NULL OR n.digest IS NULL) AND o.crc32 IS NOT NULL AND o.crc32 = n.crc32)))"""
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
    """One join each way over the index of (archive, path). The content of what is alone goes into `detail` for now."""
    entry = connection.ops.quote_name(Entry._meta.db_table)
    change = connection.ops.quote_name(Change._meta.db_table)
    # Both sides in the order of the index: neighbours are looked up behind each other.
    by_path = connection.ops.quote_name(next(i.name for i in Entry._meta.indexes if i.fields == ["archive", "path"]))
    alone = "COALESCE({0}.digest, 'c' || {0}.crc32, '')"
    with connection.cursor() as cursor:
        if old is not None:
            cursor.execute(
                f"""
                INSERT INTO {change} ({_COLUMNS})
                SELECT %s, CASE WHEN n.id IS NULL THEN 'removed' WHEN {_SAME} THEN 'moved'
                                WHEN o.size = n.size AND NOT {_KNOWN} THEN 'unsure' ELSE 'changed' END,
                       %s, o.path, '', o.size, n.size,
                       CASE WHEN n.id IS NULL THEN {alone.format("o")}
                            WHEN {_SAME} THEN 'byte ' || o.at || ' to ' || n.at ELSE '' END
                FROM {entry} o INDEXED BY {by_path} LEFT JOIN {entry} n ON n.archive_id = %s AND n.path = o.path
                WHERE o.archive_id = %s AND (n.id IS NULL OR NOT ({_SAME} AND o.at = n.at AND o.file = n.file))
                """,
                [made.pk, path, new, old],
            )
        if new is not None:
            cursor.execute(
                f"""
                INSERT INTO {change} ({_COLUMNS})
                SELECT %s, 'added', %s, n.path, '', NULL, n.size, {alone.format("n")} FROM {entry} n INDEXED BY {by_path}
                WHERE n.archive_id = %s
                      AND NOT EXISTS (SELECT 1 FROM {entry} o WHERE o.archive_id = %s AND o.path = n.path)
                """,
                [made.pk, path, new, old],
            )


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
