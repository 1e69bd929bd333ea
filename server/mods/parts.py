"""What plans and rebuilds are made of, in pages: a mod of thousands of swaps has as many files, points and results.

They stand as lists in JSON columns, and the database takes them apart (SQLite's json_each), so that an answer holds only its page.
"""

from __future__ import annotations

import json
from typing import Any

from django.db import connection

from ..shelf.models import unpack_locator
from .models import Build, Plan

Page = tuple[list[Any], int]
"""Some of a list, and how many there are in all."""


def _rows(sql: str, *args: Any) -> list[tuple[Any, ...]]:
    with connection.cursor() as cursor:
        cursor.execute(sql, args)
        return cursor.fetchall()


def planned_files(plan: Plan, offset: int, limit: int) -> Page:
    """The files of a plan, as the screen shows them."""
    some = _rows(
        "SELECT f.value FROM mods_plan p, json_each(p.files) f WHERE p.id = %s ORDER BY f.key LIMIT %s OFFSET %s",
        plan.pk, limit, offset,
    )  # fmt: skip
    return [json.loads(value) for (value,) in some], plan.count


def totals(build: Build) -> dict[str, int]:
    """How many files and points a rebuild has, and how many of the points fail or should be looked at."""
    ((files, points, failed, doubts),) = _rows(
        "SELECT json_array_length(b.files), count(p.key), coalesce(sum(NOT json_extract(p.value, '$.ok')), 0), "
        "coalesce(sum(json_extract(p.value, '$.doubt')), 0) "
        "FROM mods_build b LEFT JOIN json_each(b.proof) p WHERE b.id = %s",
        build.pk,
    )
    return {"files": files, "points": points, "failed": failed, "doubts": doubts}


def built_files(build: Build, offset: int, limit: int) -> Page:
    """The files of a rebuild with what their points say: first those of which one fails."""
    some = _rows(
        "WITH file AS (SELECT f.key AS number, json_extract(f.value, '$.path') AS path, "
        "json_extract(f.value, '$.size') AS size, coalesce(json_extract(f.value, '$.gone'), 0) AS gone FROM mods_build b, json_each(b.files) f WHERE b.id = %s), "
        "point AS (SELECT json_extract(p.value, '$.file') AS path, count(*) AS points, "
        "sum(NOT json_extract(p.value, '$.ok')) AS failed, sum(json_extract(p.value, '$.doubt')) AS doubts "
        "FROM mods_build b, json_each(b.proof) p WHERE b.id = %s GROUP BY 1) "
        "SELECT number, file.path, size, gone, coalesce(points, 0), coalesce(failed, 0), coalesce(doubts, 0) "
        "FROM file LEFT JOIN point ON point.path = file.path "
        "ORDER BY coalesce(failed, 0) = 0, coalesce(doubts, 0) = 0, number LIMIT %s OFFSET %s",
        build.pk, build.pk, limit, offset,
    )  # fmt: skip
    keys = ("number", "path", "size", "gone", "points", "failed", "doubts")
    return [dict(zip(keys, row, strict=True)) for row in some], totals(build)["files"]


def points_of(build: Build, path: str, offset: int, limit: int) -> Page:
    """The points of the proof of one file: first those that fail."""
    wanted = "FROM mods_build b, json_each(b.proof) p WHERE b.id = %s AND json_extract(p.value, '$.file') = %s"
    some = _rows(
        f"SELECT p.value {wanted} ORDER BY json_extract(p.value, '$.ok'), "
        "json_extract(p.value, '$.doubt') DESC, p.key LIMIT %s OFFSET %s",
        build.pk, path, limit, offset,
    )  # fmt: skip
    ((count,),) = _rows(f"SELECT count(*) {wanted}", build.pk, path)
    return [json.loads(value) for (value,) in some], count


def results_of(build: Build, offset: int, limit: int) -> Page:
    """The swapped streams of a rebuild that has been proved or not, and where each is heard."""
    if build.state not in (Build.PROVED, Build.FAILED):
        return [], 0
    wanted = (
        "FROM mods_build b, json_each(b.made_of) m JOIN mods_swap s ON s.id = CAST(m.key AS integer) "
        "WHERE b.id = %s AND m.key NOT GLOB '*[^0-9]*'"
    )
    some = _rows(f"SELECT s.id, s.locator, m.value {wanted} ORDER BY s.id LIMIT %s OFFSET %s", build.pk, limit, offset)
    ((count,),) = _rows(f"SELECT count(*) {wanted}", build.pk)
    return [
        {"swap_id": pk, "title": str(unpack_locator(locator)), "audio": f"r{pk}.{build.pk}-{digest}"}
        for pk, locator, digest in some
    ], count
