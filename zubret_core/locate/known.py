"""What a game is read with: layouts, and the keys of its key ring."""

from __future__ import annotations

import base64
import binascii
import itertools
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

from ..base import ZubretError, once
from ..container import DescribedArchive, Siblings
from ..layout import Layout, shipped_layouts
from ..layout.checks.sums import check_item, sums_of
from ..layout.document.chains import Keys, Locked
from ..layout.language.schema import Mark, NumberAt
from ..layout.language.steps import Locks, all_steps
from ..source import Source

HEAD = 512
"""Bytes at the beginning of a file that are enough to recognise most kinds."""
MOST_TRIES = 4096
"""Combinations of keys that are tried on one archive at most."""
TESTED = 3
"""Entries whose sums or packing are tested, where nothing in the index is evidence."""
PLAUSIBLE = 4
"""Entries that must all lie inside the file, apart from each other, for a table to count as evidence by itself."""


@dataclass(frozen=True)
class Kind:
    """What a file is: zip, tar, iso, audio, or layout; and by which evidence, in words."""

    name: str
    evidence: str
    layout: Layout | None = None

    @property
    def is_list(self) -> bool:
        """Whether it lists something, as files with their sums or what is spoken, and holds nothing itself."""
        return self.layout is not None and not self.layout.has_payloads

    @property
    def is_archive(self) -> bool:
        """Whether it holds entries."""
        return self.name in ("zip", "tar", "iso") or (self.layout is not None and self.layout.describes == "archive")


def kind_by(layout: Layout) -> Kind:
    """What a file is that a layout recognises."""
    key = ("kind",)
    if key not in layout.memory:
        shown = ", ".join(map(_shown, layout.recognise))
        ending = f"the name ends in {' or '.join(layout.names)}" if layout.names else ""
        path = f"the path is like {' or '.join(layout.paths)}" if layout.paths else ""
        inside = f"it stands in {' or '.join(layout.inside)}" if layout.inside else ""
        whole = "all of it can be read so" if layout.whole else ""
        evidence = " and ".join(x for x in (shown and f"mark {shown}", ending, path, inside, whole) if x)
        layout.memory[key] = Kind("layout", evidence, layout)
    return layout.memory[key]


def _shown(mark: Mark) -> str:
    """A mark in words."""
    if mark.any:
        return " or ".join(map(_shown, mark.any))
    place = (
        f"where the {mark.at.type} at byte {mark.at.at} says" if isinstance(mark.at, NumberAt) else f"at byte {mark.at}"
    )
    return f"{(mark.bytes or b'').hex(' ')} {place}"


def no_keys(layout: Layout, path: str) -> Keys:
    """The key ring of those who have none."""
    return {}


def no_names(layout: Layout, path: str) -> Mapping[str, str]:
    """The names of those who have no name list."""
    return {}


@dataclass(frozen=True)
class Known:
    """layouts, in the order in which they are tried; keys, and names of entries by their ids, for a layout and a path; pins: by the path of
    a file, of a folder ("data/") or of the game (""), the id of the layout that comes before all others that fit."""

    layouts: Sequence[Layout] = field(default_factory=shipped_layouts)
    keys: Callable[[Layout, str], Keys] = no_keys
    names: Callable[[Layout, str], Mapping[str, str]] = no_names
    pins: Mapping[str, str] = field(default_factory=dict)

    def order(self, path: str) -> list[tuple[Layout, list[tuple[int, bytes]]]]:
        """The layouts in the order in which a file is tried by them: first the one that was chosen for it, for the nearest folder
        around it, or for the game."""
        chosen = self.pinned(path)
        if not chosen:
            return self.beginnings
        return [b for b in self.beginnings if b[0].id == chosen] + [b for b in self.beginnings if b[0].id != chosen]

    def pinned(self, path: str) -> str:
        """The id of the layout that was chosen for a file or for what is around it; empty where none was."""
        if not self.pins:
            return ""
        places = [path, *(path[: n + 1] for n in range(len(path) - 1, -1, -1) if path[n] == "/"), ""]
        return next((self.pins[place] for place in places if place in self.pins), "")

    @once
    def beginnings(self) -> list[tuple[Layout, list[tuple[int, bytes]]]]:
        """Every layout with those of its marks that stand in a file's first bytes; the one with most evidence first."""
        ranked = sorted(self.layouts, key=lambda lo: -lo.evidence)
        return [(lo, [m for mark in lo.recognise if (m := _at_the_beginning(mark)) is not None]) for lo in ranked]

    @once
    def plain_kinds(self) -> list[tuple[Kind, list[tuple[int, bytes]]]]:
        """The first layouts, as long as each is recognised by marks in a file's first bytes alone."""
        out: list[tuple[Kind, list[tuple[int, bytes]]]] = []
        for layout, marks in self.beginnings if not self.pins else ():
            by_marks = len(marks) == len(layout.recognise) > 0
            if not by_marks or layout.evidence > sum(m.weight for m in layout.recognise):
                break
            out.append((kind_by(layout), marks))
        return out

    @once
    def leaves_wav(self) -> bool:
        """Whether no layout can recognise a RIFF/WAVE file: each wants another byte somewhere in its beginning."""
        return all(any(_contradicts(at, mark) for at, mark in marks) for _, marks in self.beginnings)

    def layout_named(self, id: str) -> Layout | None:
        """The layout with this id."""
        return next((lo for lo in self.layouts if lo.id == id), None)


def _at_the_beginning(mark: Mark) -> tuple[int, bytes] | None:
    """Place and bytes of a mark that stands in a file's first bytes."""
    if isinstance(mark.at, int) and mark.bytes and 0 <= mark.at <= HEAD - len(mark.bytes):
        return mark.at, mark.bytes
    return None


def _contradicts(at: int, mark: bytes) -> bool:
    """Whether no file that begins as RIFF/WAVE does, with its format first, can have this mark at this byte."""
    beginning = b"RIFF????WAVEfmt "
    return any(x != y for x, y in zip(beginning[at:], mark, strict=False) if x != ord("?"))


def key_bytes(text: str) -> bytes:
    """A key in any usual spelling: hexadecimal (with or without 0x, spaces, commas, colons, quotes, braces), or base64.

    Text that can be read both ways counts as hexadecimal. ZubretError where it is neither.
    """
    bare = re.sub(r"0[xX]|\\x", " ", text.strip().strip("\"'{}[]()`"))
    digits = re.sub(r"[\s,:;_\-\"'{}\[\]]", "", bare)
    if digits and re.fullmatch(r"[0-9a-fA-F]+", digits):
        if len(digits) % 2 == 0:
            return bytes.fromhex(digits)
        raise ZubretError(
            f"The key has {len(digits)} hexadecimal digits; two make a byte.",
            field="key",
            next="Copy it again: a digit is missing or too many.",
        )
    packed = re.sub(r"[\s\"'`]", "", text).replace("-", "+").replace("_", "/")
    try:
        if not packed or text.strip()[:2].lower() in ("0x", "\\x"):
            raise ValueError
        return base64.b64decode(packed + "=" * (-len(packed) % 4), validate=True)
    except (binascii.Error, ValueError):
        raise ZubretError(
            "This is neither hexadecimal nor base64.",
            field="key",
            next="Give the key as bytes, such as 0x1f2e... or 1f 2e ..., or in base64.",
        ) from None


@dataclass(frozen=True)
class KeyTrial:
    """What trying keys on one archive gave: the key (a number in the ring) for each name, the evidence, or why not."""

    opens: bool
    chosen: dict[str, int]
    evidence: str
    why: str = ""


def try_keys(layout: Layout, source: Source, siblings: Siblings | None, ring: Sequence[bytes]) -> KeyTrial:
    """Which keys of a ring open a locked archive, by evidence: constants, sums, a plausible table.

    That nothing fails is no evidence: a key counts only if something that it unlocks proves it right.
    """
    names = list(layout.keys)
    candidates = [[n for n, key in enumerate(ring) if len(key) in layout.keys[name].length] for name in names]
    for name, fitting in zip(names, candidates, strict=True):
        if not fitting:
            sizes = " or ".join(map(str, layout.keys[name].length))
            return KeyTrial(False, {}, "", f"No key of the ring has the {sizes} bytes that {name} needs.")
    closest = ""
    for choice in itertools.islice(itertools.product(*candidates), MOST_TRIES):
        keys = {name: ring[n] for name, n in zip(names, choice, strict=True)}
        try:
            proof = evidence(DescribedArchive(layout, source, siblings, keys))
        except ZubretError as e:
            closest = closest or e.what
            continue
        if proof:
            return KeyTrial(True, dict(zip(names, choice, strict=True)), proof)
        closest = "A key gives a table, but nothing in it proves the key right."
    return KeyTrial(False, {}, "", f"None of the keys opens it. With the first: {closest}")


def evidence(archive: DescribedArchive) -> str:
    """What proves that an archive was opened with the right keys, in words; empty where nothing does."""
    reading, found = archive.document, []
    for place in reading.instances:
        if not _uses_key(place.region.packed) and not _uses_key(reading.layout.packed):
            continue
        constants = [f for f in place.region.fields if f.equals is not None or f.one_of is not None]
        if constants and place.records.count:
            found.append(f"{', '.join(f.name for f in constants)} of {place.region.name} as expected")
        if any(how.of == place.region.name for _, _, how in sums_of(reading)):
            found.append(f"the checksum of {place.region.name} is right")
        if any(place is i for group in reading.groups for i in group.instances) and len(archive.entries) >= PLAUSIBLE:
            found.append(f"{len(archive.entries):,} entries lie inside the file, apart from each other")
    chains = [reading.layout.payload.packed, *reading.layout.methods.values()]
    if not found and any(_uses_key(steps) for steps in chains):
        found += _tested(archive)
    return "; ".join(found)


def _tested(archive: DescribedArchive) -> list[str]:
    """Evidence from payloads: their sums, or that they unpack."""
    reading = archive.document
    summed = any(sums_of(reading, ("unpacked",)))
    sizes = sorted((e.size, n) for n, e in enumerate(archive.entries) if e.size and _uses_key(reading.steps(n)))
    done = 0
    for _, n in sizes[:TESTED]:
        packed = any(not isinstance(s, Locks) for s in reading.steps(n))
        if not summed and not packed:
            continue
        content = archive.open(n)
        content.read(0, content.size)
        if summed:
            check_item(reading, n, partial(_itself, content))
        done += 1
    return [f"{done} of {done} tested entries unpack as their records say"] if done else []


def _itself(source: Source) -> Source:
    return source


def _uses_key(steps: Iterable) -> bool:
    return any(getattr(s, "key", None) is not None for s in all_steps(steps))


def chosen_keys(trial: KeyTrial, ring: Sequence[bytes]) -> Mapping[str, bytes]:
    """The keys that a trial found, by their names in the layout."""
    return {name: ring[n] for name, n in trial.chosen.items()}


__all__ = ["KeyTrial", "Known", "Locked", "chosen_keys", "evidence", "key_bytes", "try_keys"]
