"""The paths of entries, where a format stores them in pieces."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

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
    folders, ranges = document.tied("folder"), _ranges(document)
    if folders is None and ranges is not None:
        inside, entries = ranges
        folders = inside[entries].tolist()
    if folders is None:
        return names
    paths = folder_paths(document)
    out = []
    for name, number in zip(names, folders, strict=True):
        number = -1 if number is None else number
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


def _ranges(document: Described) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """By `folder.first` and `folder.count`: the innermost folder of each entry, -1 for none, and the numbers of the entries; where entries
    and folders are records of one table, of each record, and which of them are entries."""
    found = _found(document, "first"), _found(document, "count")
    if found[0] is None or found[1] is None:
        return None
    table, both = found[0][0], _in_one_table(document)
    total = table.records.count if both else document.count
    begins, sizes = (np.array([v or 0 for v in document.values(*f)], np.int64) for f in found if f is not None)
    wrong = (begins < 0) | (sizes < 0) | (begins > total) | (sizes > total - begins)
    if wrong.any():
        n = int(np.argmax(wrong))
        what = f"Folder {n} holds entries {begins[n]:,} to {begins[n] + sizes[n]:,} of {total:,}."
        raise _fault(document, what, "first", n)
    inside, ends = np.full(total, -1, np.int64), begins + sizes
    around: list[int] = []
    for n in np.lexsort((-sizes, begins)).tolist():  # the outer one first
        while around and ends[around[-1]] <= begins[n]:
            around.pop()
        if not sizes[n]:
            continue
        if around and ends[n] > ends[around[-1]]:
            raise _fault(document, f"Folder {n} holds only a part of what folder {around[-1]} holds.", "first", n)
        around.append(n)
        if len(around) > DEEPEST:
            raise _fault(document, f"Folder {n} stands more than {DEEPEST} deep.", "first", n)
        inside[begins[n] : ends[n]] = n
    return inside, table.rows if both else np.arange(total)


def _in_one_table(document: Described) -> bool:
    """Whether some records of a table are entries and others are folders."""
    found = _found(document, "name")
    return found is not None and found[0].region.items is not None


def folder_paths(document: Described) -> list[str]:
    """The paths of all folders."""
    names, parents = _folder_column(document, "name") or [], _folder_column(document, "parent")
    if parents is None and _in_one_table(document) and (ranges := _ranges(document)) is not None:
        parents = ranges[0].tolist()
    parents = [-1] * len(names) if parents is None else [-1 if n is None else n for n in parents]
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
