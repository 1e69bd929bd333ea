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

# Entries of archives that only one of the two surveys saw in that version; what both share did not change.
_SIDE = """
    SELECT e.path AS path, sf.path AS file, e.at AS at, e.file AS place, e.size AS size, e.crc32 AS crc32,
           e.digest AS digest
    FROM {entry} e JOIN {seen} sf ON sf.archive_id = e.archive_id
    WHERE sf.survey_id = %s AND e.archive_id NOT IN
          (SELECT archive_id FROM {seen} WHERE survey_id = %s AND archive_id IS NOT NULL)
"""
_SAME = """(o.size = n.size AND ((o.digest IS NOT NULL AND o.digest = n.digest)
           OR ((o.digest IS NULL OR n.digest IS NULL) AND o.crc32 IS NOT NULL AND o.crc32 = n.crc32)))"""
_KNOWN = "((o.digest IS NOT NULL AND n.digest IS NOT NULL) OR (o.crc32 IS NOT NULL AND n.crc32 IS NOT NULL))"


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
    names = {
        "entry": connection.ops.quote_name(Entry._meta.db_table),
        "seen": connection.ops.quote_name(SurveyFile._meta.db_table),
        "change": connection.ops.quote_name(Change._meta.db_table),
    }
    a, b = made.old_id, made.new_id
    side = _SIDE.format(**names)
    columns = "comparison_id, kind, file, path, old_path, old_size, new_size, detail"
    joined = f"""
        WITH o AS MATERIALIZED ({side}), n AS MATERIALIZED ({side})
        INSERT INTO {names["change"]} ({columns})
        SELECT %s, CASE WHEN {_SAME} THEN 'moved' WHEN o.size = n.size AND NOT {_KNOWN} THEN 'unsure' ELSE 'changed' END,
               o.file, o.path, '', o.size, n.size,
               CASE WHEN {_SAME} THEN 'byte ' || o.at || ' to ' || n.at ELSE '' END
        FROM o JOIN n ON n.path = o.path AND n.file = o.file
        WHERE NOT ({_SAME} AND o.at = n.at AND o.place = n.place)
        UNION ALL
        SELECT %s, 'removed', o.file, o.path, '', o.size, NULL,
               COALESCE(o.digest, 'c' || o.crc32, '') FROM o
        WHERE NOT EXISTS (SELECT 1 FROM n WHERE n.path = o.path AND n.file = o.file)
        UNION ALL
        SELECT %s, 'added', n.file, n.path, '', NULL, n.size,
               COALESCE(n.digest, 'c' || n.crc32, '') FROM n
        WHERE NOT EXISTS (SELECT 1 FROM o WHERE o.path = n.path AND o.file = n.file)
    """
    with connection.cursor() as cursor:
        cursor.execute(joined, [a, b, b, a, made.pk, made.pk, made.pk])
    _rename(made)
    _files(made)


def _rename(made: Comparison) -> None:
    """A removed and an added entry with the same content are one that was renamed."""
    gone: dict[tuple[int, str], list[Change]] = {}
    for row in made.changes.filter(kind="removed").exclude(detail="").order_by("pk"):
        gone.setdefault((row.old_size or 0, row.detail), []).append(row)
    matched, renamed = [], []
    for row in made.changes.filter(kind="added").exclude(detail="").order_by("pk"):
        before = gone.get((row.new_size or 0, row.detail))
        if before and row.new_size:
            old = before.pop()
            matched.append(old.pk)
            row.kind, row.old_size = "renamed", old.old_size
            row.old_path = old.path if old.file == row.file else f"{old.file} › {old.path}"
            renamed.append(row)
    Change.objects.bulk_update(renamed, ["kind", "old_path", "old_size"], batch_size=500)
    for n in range(0, len(matched), 500):
        Change.objects.filter(pk__in=matched[n : n + 500]).delete()
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
        if (a and a[2]) or (b and b[2]) or (a and b and a[:2] == b[:2]):
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
