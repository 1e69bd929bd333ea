"""The paths of entries, where a format stores them in pieces."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from ...base import ZubretError
from .instance import Instance
from .shape import Slot

DEEPEST = 32
"""Levels of folders at most."""


class Described(Protocol):
    """What paths are made from; a document is."""

    instances: list[Instance]
    count: int

    def tied(self, what: str) -> Any: ...

    def values(self, instance: Instance, slot: Slot) -> Any: ...

    @property
    def error(self) -> Callable[..., ZubretError]: ...


def paths_of(document: Described) -> list[str]:
    """The path of every entry: as it is stored, from folders and names, or its id."""
    given = document.tied("path")
    names = given if given is not None else document.tied("name")
    if names is None:
        return [str(v) for v in document.tied("id") or []]
    names = names if all(names) else ["" if n is None else n for n in names]
    endings = document.tied("ending")
    if given is None and endings is not None:
        names = [f"{name}.{ending}" if ending else name for name, ending in zip(names, endings, strict=True)]
    folders = document.tied("folder")
    by_range = _folder_ranges(document)
    if folders is None and by_range is None:
        return names
    paths = folder_paths(document)
    out = []
    for n, name in enumerate(names):
        number = folders[n] if folders is not None else (by_range or {}).get(n, -1)
        if number is None:
            number = -1
        folder = number if isinstance(number, str) else paths[number] if 0 <= number < len(paths) else ""
        out.append(f"{folder}/{name}" if folder else name)
    return out


def _found(document: Described, what: str) -> tuple[Instance, Slot] | None:
    """The field that means `folder.<what>`."""
    where = ((i, s) for i in document.instances for s in i.shape.means.get(f"folder.{what}", ()))
    return next(where, None)


def _folder_column(document: Described, what: str) -> list | None:
    """All values of `folder.<what>`."""
    found = _found(document, what)
    return None if found is None else list(document.values(*found))


def _fault(document: Described, what: str, tied: str, folder: int) -> ZubretError:
    found = _found(document, tied)
    assert found is not None
    return document.error(what, found[0], found[1], folder)


def _folder_ranges(document: Described) -> dict[int, int] | None:
    first, counts = _folder_column(document, "first"), _folder_column(document, "count")
    if first is None or counts is None:
        return None
    out: dict[int, int] = {}
    for folder, (start, n) in enumerate(zip(first, counts, strict=True)):
        if not (0 <= start <= document.count and 0 <= n <= document.count - start):
            what = f"Folder {folder} holds entries {start:,} to {start + n:,} of {document.count:,}."
            raise _fault(document, what, "first", folder)
        for item in range(start, start + n):
            out[item] = folder
    return out


def folder_paths(document: Described) -> list[str]:
    """The paths of all folders."""
    names = _folder_column(document, "name") or []
    parents = _folder_column(document, "parent") or [-1] * len(names)
    paths: dict[int, str] = {}

    def path(n: int, depth: int) -> str:
        if n not in paths:
            if depth > DEEPEST:
                raise _fault(document, f"Folder {n} stands inside itself or {DEEPEST} deep.", "parent", n)
            parent = parents[n]
            above = path(parent, depth + 1) if 0 <= parent < len(names) and parent != n else ""
            paths[n] = "/".join(x for x in (above, names[n]) if x)
        return paths[n]

    return [path(n, 0) for n in range(len(names))]
