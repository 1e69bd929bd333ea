"""Many streams as spoken lines: what of each a mod has, and files that are matched with them."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, Q

from zubret_core.swap import Level
from zubret_core.swap.matching import Place, match_files

from ..errors import stopped
from ..shelf import query
from ..shelf.models import Stream, numbered, seen_by
from .models import Mod, Swap

MOST = 5_000
"""Streams and files that are matched at once."""
SHOWN = 100
"""Files and streams without a match that are listed."""


def page_of(mod: Mod, asked: query.Question, offset: int, limit: int, totals: bool) -> dict[str, Any]:
    """One page of streams, each with the chosen take that a mod has of it."""
    page = query.page_of(asked, offset, limit, totals)
    numbers = [row["id"] for row in page["rows"]]
    locators = dict(Stream.objects.filter(pk__in=numbers).values_list("pk", "locator"))
    takes = {swap.locator: swap for swap in mod.live_swaps().filter(locator__in=locators.values())}
    rows = [{"stream": row, "take": take_out(takes.get(locators.get(row["id"], "")))} for row in page["rows"]]
    return {**page, "rows": rows}


def take_out(swap: Swap | None) -> dict[str, Any] | None:
    """What a line shows of a take."""
    if swap is None:
        return None
    prepared, report = swap.prepared or {}, swap.report or {}
    new = {k: prepared["format"][k] for k in ("rate", "channels", "frames", "loop")} if prepared else None
    return {
        "id": swap.pk,
        "state": swap.state,
        "verdict": report.get("verdict", ""),
        "source_name": swap.source_name,
        "new": new and {**new, "audio": f"n{swap.pk}.{prepared['digest']}"},
        **_levels(prepared.get("level"), swap.original_level),
        "error": swap.error,
    }


def _levels(new: dict[str, Any] | None, original: dict[str, Any] | None) -> dict[str, float | None]:
    """The loudness of both as they are compared: without gates, where one is short."""
    levels = {"level": Level(**new) if new else None, "original_level": Level(**original) if original else None}
    short = any(level and level.short for level in levels.values())
    return {name: level.loudness(short) if level else None for name, level in levels.items()}


def progress_of(mod: Mod, asked: query.Question) -> list[dict[str, Any]]:
    """How far the lines of each language are, of those that a filter leaves: how many there are, are spoken of, have a take, fit,
    are done."""
    rows = query.described(asked.streams(), asked.game).order_by().select_related(None)
    own = mod.live_swaps()
    taken, fit = own.values("locator"), own.filter(state=Swap.READY).values("locator")
    counts = rows.values("language").annotate(
        lines=Count("pk"),
        spoken=Count("pk", filter=Q(given_text__gt="")),
        taken=Count("pk", filter=Q(locator__in=taken)),
        fit=Count("pk", filter=Q(locator__in=fit)),
        done=Count("pk", filter=Q(given_done=True)),
    )
    return list(counts.order_by("language"))


def completeness(mod: Mod) -> list[dict[str, Any]]:
    """Of each bank of spoken lines, those that have a language, of which the mod has a take: its lines, and how many fit."""
    own = mod.live_swaps()
    survey = mod.game.current_survey()
    rows = Stream.objects.filter(seen_by(survey), locator__in=own.values("locator"), language__gt="")
    fit = Count("pk", filter=Q(locator__in=own.filter(state=Swap.READY).values("locator")))
    banks = list(rows.values("bank", "bank__name", "language").annotate(fit=fit).order_by("language", "bank"))
    all_lines = (
        Stream.objects.filter(bank__in=[row["bank"] for row in banks])
        .values("bank", "language")
        .annotate(lines=Count("pk"))
    )
    lines = {(row["bank"], row["language"]): row["lines"] for row in all_lines}
    return [
        {"bank": b["bank__name"], "language": b["language"], "lines": lines[b["bank"], b["language"]], "fit": b["fit"]}
        for b in banks
    ]


def matched(mod: Mod, chosen: list[int], paths: list[str], template: str, by_order: bool) -> dict[str, Any]:
    """Files of a folder, by their paths in it, and the streams that they are meant for, in the order of `chosen`."""
    if max(len(chosen), len(paths)) > MOST:
        raise stopped(422, f"More than {MOST:,} are matched at once.", "Narrow the list, or drop the folder by parts.")
    rows = numbered(Stream.objects.all(), chosen, mod.game.current_survey())
    values = ("pk", "stream_id", "name", "bank__name", "language")
    known = {row[0]: Place(*row) for row in rows.values_list(*values)}
    found = match_files(paths, [known[number] for number in chosen if number in known], template, by_order)

    taken = rows.filter(locator__in=mod.live_swaps().values("locator")).values_list("pk", flat=True)
    has = set(taken)
    doubts = [([paths[n]], [known[s] for s in streams]) for n, streams in found.doubtful.items()]
    doubts += [([paths[n] for n in files], [known[stream]]) for stream, files in found.doubled.items()]
    return {
        "found": [_match_out(paths[n], known[stream], how, stream in has) for n, (stream, how) in found.found.items()],
        "doubts": [{"files": files, "streams": [_read(place) for place in places]} for files, places in doubts],
        "left": [paths[n] for n in found.left[:SHOWN]],
        "lefts": len(found.left),
        "without": [_read(known[number]) for number in found.without[:SHOWN]],
        "withouts": len(found.without),
    }


def _match_out(path: str, place: Place, how: str, taken: bool) -> dict[str, Any]:
    facts = {"stream_id": place.id or place.name, "language": place.language, "bank": place.bank}
    return {"path": path, "stream": place.number, "how": how, "taken": taken, **facts}


def _read(place: Place) -> str:
    """A stream as people read it."""
    return " ".join(text for text in (place.bank, place.id or place.name) if text)
