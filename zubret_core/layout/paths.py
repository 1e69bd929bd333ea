"""The paths of entries, where a format stores them in pieces."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .model import ties_of

if TYPE_CHECKING:
    from .read import Reading

DEEPEST = 32
"""Levels of folders at most."""


def paths_of(reading: Reading) -> list[str]:
    """The path of every entry: as it is stored, from folders and names, or its id."""
    given = reading.tied("path")
    names = given if given is not None else reading.tied("name")
    if names is None:
        return [str(v) for v in reading.tied("id") or []]
    folders = reading.tied("folder")
    by_range = _folder_ranges(reading)
    if folders is None and by_range is None:
        return names
    paths = folder_paths(reading)
    out = []
    for n, name in enumerate(names):
        number = folders[n] if folders is not None else (by_range or {}).get(n, -1)
        folder = number if isinstance(number, str) else paths[number] if 0 <= number < len(paths) else ""
        out.append(f"{folder}/{name}" if folder else name)
    return out


def _folder_column(reading: Reading, what: str) -> list | None:
    """All values of `folder.<what>`."""
    for place in reading.places:
        for tie in ties_of(place.region):
            if tie.means == f"folder.{what}":
                return reading.meanings.of(place, tie)
    return None


def _folder_ranges(reading: Reading) -> dict[int, int] | None:
    first, counts = _folder_column(reading, "first"), _folder_column(reading, "count")
    if first is None or counts is None:
        return None
    out: dict[int, int] = {}
    for folder, (start, n) in enumerate(zip(first, counts, strict=True)):
        if not (0 <= start <= reading.count and 0 <= n <= reading.count - start):
            place = next(p for p in reading.places if any(t.means == "folder.first" for t in ties_of(p.region)))
            tie = next(t for t in ties_of(place.region) if t.means == "folder.first")
            raise reading.error(
                f"Folder {folder} holds entries {start:,} to {start + n:,} of {reading.count:,}.", place, tie, folder
            )
        for item in range(start, start + n):
            out[item] = folder
    return out


def folder_paths(reading: Reading) -> list[str]:
    """The paths of all folders."""
    names = _folder_column(reading, "name") or []
    parents = _folder_column(reading, "parent") or [-1] * len(names)
    paths: dict[int, str] = {}

    def path(n: int, depth: int) -> str:
        if n not in paths:
            if depth > DEEPEST:
                place = next(p for p in reading.places if any(t.means == "folder.parent" for t in ties_of(p.region)))
                tie = next(t for t in ties_of(place.region) if t.means == "folder.parent")
                raise reading.error(f"Folder {n} stands inside itself or {DEEPEST} deep.", place, tie, n)
            parent = parents[n]
            above = path(parent, depth + 1) if 0 <= parent < len(names) and parent != n else ""
            paths[n] = "/".join(x for x in (above, names[n]) if x)
        return paths[n]

    return [path(n, 0) for n in range(len(names))]
