"""Payloads in several pieces: which pieces belong to an item, and how a new payload is cut into them.

The pieces are records of regions of their own, whose fields mean piece.*. In a document they are numbered behind the items, and
stand somewhere as the payloads of items do elsewhere; an item's payload is its pieces one behind the other.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ...source import SliceSource, Source
from .instance import Instance
from .shape import Slot

if TYPE_CHECKING:
    from .document import Document, Group


def owners_of(document: Document, group: Group) -> NDArray[np.int64]:
    """(pieces,) The item to which each piece of a group belongs: the one for whose record the pieces stand; the one that each names by
    piece.of; or as many in turn as each says by stream.pieces or entry.pieces. Else all belong to the only one.

    A ZubretError where there is no such item, or too few pieces.
    """
    first, kind = group.instances[0], document.kind
    said = document.tied("pieces")
    counts = np.zeros(0, np.int64) if said is None else np.asarray([n or 0 for n in said], np.int64)
    item = _held_by(document, first)
    if item is not None:
        return np.full(group.count, item, np.int64)
    named = document.slots("piece.of", group)
    if named:
        instance, slot = named[0]
        owners = column_of(document, instance, slot)
        wrong = np.flatnonzero((owners < 0) | (owners >= document.count))
        if len(wrong):
            what = f"This piece belongs to {kind} {owners[wrong[0]]:,}, but there are {document.count:,}."
            raise document.error(what, instance, slot, int(instance.rows[wrong[0]]))
    elif said is not None:
        if (counts < 0).any() or counts.sum() != group.count:
            what = f"{counts.sum():,} pieces are said to be here, but there are {group.count:,}."
            raise document.error(what, first)
        return np.repeat(np.arange(document.count), counts)
    else:
        owners = np.zeros(group.count, np.int64)
    if said is not None and (wrong := np.flatnonzero(np.bincount(owners, minlength=document.count) != counts)).size:
        what = f"{kind.capitalize()} {wrong[0]:,} should have {counts[wrong[0]]:,} pieces, but others belong to it."
        raise document.error(what, first)
    return owners


def column_of(document: Document, instance: Instance, slot: Slot) -> NDArray[np.int64]:
    """(pieces,) What a field of theirs means; a number beyond 63 bits is one below 0, which nothing can be."""
    return np.asarray(document.values(instance, slot)).astype(np.int64, copy=False)[instance.rows]


def _held_by(document: Document, instance: Instance) -> int | None:
    """The item for whose record a region stands, or stands in something that does."""
    holder = instance.holder
    while holder is not None:
        group = document.group_with(holder[0])
        if group is not None and group.owners is None:
            return group.first + int(np.searchsorted(holder[0].rows, holder[1]))
        holder = holder[0].holder
    return None


def check_lengths(document: Document) -> None:
    """ZubretError where an item says another length than its pieces have together."""
    said = document.tied("stored")
    if said is None or not document.in_pieces:
        return
    for item, (stored, found) in enumerate(zip(said, document.column("stored") or [], strict=True)):
        if stored is not None and stored != found:
            instance, slot = document.slots(f"{document.kind}.stored", document.group_of(item))[0]
            what = f"{stored:,} bytes are said to be here, but the pieces have {found:,}."
            raise document.error(what, instance, slot, document.row_of(item, instance))


def cut(document: Document, item: int, payload: Source) -> Iterator[tuple[int, Source]]:
    """A new payload in an item's pieces: each as long as it was, as far as there is something left; the last one has all the rest."""
    lengths = document.spans()[1]
    pieces = [n for n in document.pieces_of(item) if lengths[n]]
    at = 0
    for n in pieces:
        length = payload.size - at
        if n != pieces[-1]:
            length = min(length, int(lengths[n]))
        yield n, SliceSource(payload, at, length, payload.name)
        at += length
