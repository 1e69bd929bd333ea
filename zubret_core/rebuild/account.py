"""Accounting for every byte of a rebuilt file, without reading what any layout says.

The plan gives an edit list (`source.edits`): which spans of the old file stand where in the new one, which bytes are a
new payload, a field or a sum that had to change (by name), or fill. `Account` puts it into JSON for the process that
proves; `Ledger` compares the two files through it, all of both, and counts the bytes by class. A byte that is in no class,
or that is not what its class says, is a fault with its place and its name.
"""

from __future__ import annotations

import base64
import zlib
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np
import xxhash
from numpy.typing import NDArray

from ..base import Progress, silent
from ..base.wording import spaced
from ..locate.spot import Step
from ..source import Edit, Source, edits_of
from ..source.base import CHUNK
from ..source.edits import FIELD, FILL, KEPT, NEW, SUM

SHOWN = 4
"""Kinds of changed fields that are named in a point."""
_CODES = {KEPT: "k", NEW: "n", FIELD: "f", SUM: "s", FILL: "l"}
_KINDS = {code: kind for kind, code in _CODES.items()}


@dataclass
class Account:
    """One level of a rebuilt file: the file itself, an entry inside it, or a packed part of one of them.

    inside: the entries on the way to it; part: the packed region whose unpacked bytes these are, "*" for a file that is
    packed as a whole, "" for the bytes themselves; read: whether its bytes have to be looked at, since no level further
    out sees them as they are.
    """

    new: Source
    base: Source
    inside: tuple[Step, ...] = ()
    part: str = ""
    read: bool = True

    def told(self) -> AccountTold:
        """Every edit, with the bytes of fields and the digests of payloads."""
        edits = edits_of(self.new, self.base)
        fields = b"".join(_bytes_of(e) for e in edits if e.kind in (FIELD, SUM))
        return AccountTold(
            inside=self.inside,
            part=self.part,
            read=self.read,
            size=self.new.size,
            kinds="".join(_CODES[e.kind] for e in edits),
            lengths=_packed(e.length for e in edits),
            olds=_packed(e.old for e in edits),
            fields=base64.b64encode(zlib.compress(fields)).decode(),
            digests=[_digest(e) for e in edits if e.kind == NEW],
            fills=_bytes_of_fills(edits).hex(),
            labels=[e.label for e in edits if e.kind != KEPT],
        )


@dataclass(frozen=True)
class AccountTold:
    """An account for JSON. size: of the new file; kinds: a letter an edit; lengths, olds: int64 of all edits, compressed with
    zlib, as base64; fields: the bytes of fields and sums, likewise; digests: xxh3-128 of every payload; fills: the byte of
    every fill; labels: of all that is not kept."""

    inside: tuple[Step, ...]
    part: str
    read: bool
    size: int
    kinds: str
    lengths: str
    olds: str
    fields: str
    digests: list[str]
    fills: str
    labels: list[str]


def _packed(numbers: Iterable[int]) -> str:
    return base64.b64encode(zlib.compress(np.array(list(numbers), "<i8").tobytes())).decode()


def _numbers(text: str) -> NDArray[np.int64]:
    return np.frombuffer(zlib.decompress(base64.b64decode(text)), "<i8")


def _bytes_of(edit: Edit) -> bytes:
    assert edit.source is not None
    return edit.source.read(edit.place, edit.length)


def _bytes_of_fills(edits: Sequence[Edit]) -> bytes:
    return b"".join(_bytes_of(e)[:1] for e in edits if e.kind == FILL)


def _digest(edit: Edit) -> str:
    """xxh3-128 of a new payload."""
    assert edit.source is not None
    return digest_of(edit.source, edit.place, edit.length)


def digest_of(source: Source, at: int, length: int) -> str:
    """xxh3-128 of a span, as hexadecimal digits."""
    value = xxhash.xxh3_128()
    for piece in source.chunks(at, length):
        value.update(piece)
    return value.hexdigest()


@dataclass
class Ledger:
    """An account as the proof has it. at, end, old: (edits,) places in the new file and, of what is kept, in the old."""

    data: AccountTold
    counts: Counter[str] = field(default_factory=Counter)
    names: Counter[str] = field(default_factory=Counter)
    fault: str = ""

    def __post_init__(self) -> None:
        lengths = _numbers(self.data.lengths)
        self.end = np.cumsum(lengths)
        self.at = self.end - lengths
        self.old = _numbers(self.data.olds)
        self.kinds: str = self.data.kinds

    def same(self, new: NDArray[np.int64], old: NDArray[np.int64], length: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Whether spans of the new file are wholly bytes that stood at `old` in the old file."""
        if not len(self.at):
            return length == 0
        n = np.clip(np.searchsorted(self.at, new, "right") - 1, 0, len(self.at) - 1)
        within = (new + length <= self.end[n]) & (self.old[n] >= 0) & (self.old[n] + new - self.at[n] == old)
        return within | (length == 0)

    def compare(self, old: Source, new: Source, progress: Progress = silent) -> Ledger:
        """Look at every byte of the new file; `fault` says in words what is wrong first, `counts` the bytes by class."""
        if new.size != self.data.size:
            self.fault = f"{spaced(new.size)} B instead of {spaced(self.data.size)}"
            return self
        if (int(self.end[-1]) if len(self.end) else 0) != new.size:
            self.fault = "the plan does not reach to the end of the file"
            return self
        labels, digests = iter(self.data.labels), iter(self.data.digests)
        fields, fills = zlib.decompress(base64.b64decode(self.data.fields)), iter(bytes.fromhex(self.data.fills))
        taken = 0
        columns = zip(self.kinds, self.at.tolist(), self.end.tolist(), self.old.tolist(), strict=True)
        for code, at, end, stood in columns:
            kind, length = _KINDS[code], end - at
            label = "" if kind == KEPT else next(labels)
            if kind == KEPT:
                self.counts[KEPT if stood == at else "moved"] += length
                wrong = _first_difference(old, stood, new, at, length, progress)
                what = f"it differs from byte {spaced(stood + max(wrong, 0))} of the old file"
            else:
                self.counts[kind] += length
                self.names[_kind_of(label)] += kind in (FIELD, SUM)
                if kind == NEW:
                    wrong = -1 if digest_of(new, at, length) == next(digests) else 0
                    what = f"the new payload of {spaced(length)} B from here is not as it was planned ({label})"
                elif kind == FILL:
                    wrong = _first_other(new, at, length, next(fills))
                    what = "something stands where there should be fill"
                else:
                    wanted = fields[taken : taken + length]
                    taken += length
                    found = new.read(at, length)
                    wrong = next((n for n in range(length) if found[n] != wanted[n]), -1)
                    what = f"{label} is not as it was planned"
            if wrong >= 0:
                self.fault = f"byte {spaced(at + wrong)}: {what}"
                return self
        return self

    def told(self) -> str:
        """The bytes by class, in words."""
        words = {KEPT: "kept", "moved": "moved", NEW: "new payload", FIELD: "in fields", SUM: "in sums", FILL: "fill"}
        return ", ".join(f"{spaced(self.counts[k])} {word}" for k, word in words.items() if self.counts[k]) or "empty"

    def changed_fields(self) -> str:
        """Which fields changed, and how often, in words."""
        named = [f"{name} ({spaced(n)})" if n > 1 else name for name, n in self.names.most_common(SHOWN) if n]
        more = len([n for n in self.names.values() if n]) - len(named)
        return ", ".join(named) + (f" and {more} more" if more > 0 else "") or "none"


def _kind_of(label: str) -> str:
    """A field's name without its record."""
    return label.split(" of record ")[0]


def _first_difference(old: Source, stood: int, new: Source, at: int, length: int, progress: Progress) -> int:
    """Where two spans differ first; -1 where they do not, 0 where the old one leaves its file."""
    if stood + length > old.size:
        return 0
    for n in range(0, length, CHUNK):
        step = min(CHUNK, length - n)
        a, b = old.read(stood + n, step), new.read(at + n, step)
        progress(at + n + step, new.size, f"comparing {new.name}")
        if a != b:
            return n + next(k for k, (x, y) in enumerate(zip(a, b, strict=True)) if x != y)
    return -1


def _first_other(new: Source, at: int, length: int, fill: int) -> int:
    """The first byte of a span that is not fill; -1 where all are."""
    done = 0
    for piece in new.chunks(at, length):
        if piece.strip(bytes([fill])):
            return done + next(n for n, b in enumerate(piece) if b != fill)
        done += len(piece)
    return -1
