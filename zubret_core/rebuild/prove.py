"""The proof: a rebuilt file read back from nothing, in a new process, and compared.

It has two parts. Accounting (`account.py`) answers for every byte by the plan's edit list, without reading what a layout
means. Reading back compares every meaning: of what was changed, and of all that nobody touched.

`python -m zubret_core.rebuild.prove` reads one JSON object and prints one a line: progress, then the points. It knows
nothing of the process that wrote the files but what the JSON says.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..audio.files import DecodeRange
from ..bank import Bank
from ..base import Cancelled, Format, Progress, ZubretError, in_words, silent, told_to
from ..base.wording import spaced
from ..codec import codec_of
from ..container import Container, GameFolder, LaidOver
from ..layout import load_layout, read_layout, shipped_layouts
from ..layout.checks.sums import sum_is, sums_of
from ..layout.checks.told import is_given
from ..layout.loading.reuse import others_among
from ..layout.writing.points import points_by_rule, stored_points
from ..locate import Known, Spot, kind_of
from ..locate.spot import IN
from ..source import BytesSource, FileSource, Source, same_bytes
from ..source.sums import sum_of
from .account import Ledger
from .expected import Expectation, ExpectedEntry, ExpectedFile, ExpectedSwap, ProofPoint
from .plan import listed_in

DECODED = 1 << 16
"""Frames that are decoded at once where a proof goes deeper."""
SAY = 0.25
"""Seconds at least between two words of how far it is."""


def prove(expected: Expectation, progress: Progress = silent) -> list[ProofPoint]:
    """All points of all files; a file that can't be read gives one point that failed."""
    keys = {path: {n: bytes.fromhex(k) for n, k in named.items()} for path, named in expected.keys.items()}
    names = expected.names
    others = others_among(expected.layouts)
    layouts = [*(load_layout(text, others=others) for text in expected.layouts), *shipped_layouts()]
    known = Known(
        layouts, lambda layout, path: keys.get(path, {}), lambda layout, path: names.get(path, {}), expected.pins
    )
    old = expected.folder()
    new = LaidOver(old, Path(expected.out))
    ledgers = {f.path: [Ledger(a) for a in f.accounts] for f in expected.files}
    points: list[ProofPoint] = []
    opened: dict[str, Spot] = {}
    total, done, far = sum(f.size for f in expected.files), 0, 0

    def inside(n: int, of: int, note: str) -> None:
        progress(far, total, in_words(n, of, note))

    for file in expected.files:

        def step(n: int, _: int, note: str, before: int = done) -> None:
            nonlocal far
            far = max(far, before + n)
            progress(far, total, note)

        proof = _FileProof(file, old, new, known, ledgers, step, expected.deep, opened)
        try:
            with told_to(inside):
                proof.run()
        except ZubretError as e:
            proof.point("opens", "readable", str(e), False)
        except Cancelled:
            raise
        except Exception as e:  # whatever a damaged file makes a reader stumble over, it is not proved
            proof.point("opens", "readable", f"a reader stumbled over it ({type(e).__name__}: {e})", False)
        points += proof.points
        done += file.size
    return points


Steps = tuple[tuple[str, int], ...]


class _FileProof:
    """The proof of one file: the account of every byte, then the archive entry by entry, then banks and archives inside."""

    def __init__(
        self,
        file: ExpectedFile,
        old_game: GameFolder,
        new_game: GameFolder,
        known: Known,
        ledgers: Mapping[str, list[Ledger]],
        progress: Progress,
        deep: bool,
        opened: dict[str, Spot],
    ):
        """opened: archives of the old game that many files come from."""
        self.opened = opened
        self.file, self.path, self.known, self.progress, self.deep = file, file.path, known, progress, deep
        self.old_game, self.new_game, self.ledgers = old_game, new_game, ledgers
        self.points: list[ProofPoint] = []

    def point(self, label: str, wanted: object, found: object, ok: bool | None = None) -> None:
        good = wanted == found if ok is None else ok
        self.points.append(ProofPoint(self.path, label, str(wanted), str(found), good))

    def _given(self, label: str, words: str, given: Source, found: Source, is_filled: Callable[[int], bool]) -> None:
        """A point on what was given: it is there as it was, maybe filled up to a size that can be told."""
        equal, more = is_given(given, found, is_filled), found.size - given.size
        told = f"{words}, and {spaced(more)} B that fill it up" if more > 0 else words
        self.point(label, words, told if equal else "different", equal)

    def run(self) -> None:
        with self.new_game.open(self.path) as new:
            self.point("file size", f"{spaced(self.file.size)} B", f"{spaced(new.size)} B")
            old = self._old_file()
            self._account(self.ledgers[self.path][0], old, new, "")
        if self.file.lists:
            self._list()
        if self.file.lists or self.file.belongs_to:
            return  # what is in it is proved with the archive that it belongs to
        old_spot = self._origin() if self.file.of else Spot.file(self.old_game, self.path, self.known)
        new_spot = Spot.file(self.new_game, self.path, self.known)
        if self.file.entry is not None:
            self._loose(old_spot.step(self.file.entry, self.path), new_spot, self.file.entry)
        else:
            self._archive(old_spot, new_spot, self.file.swaps, self.file.files, (), self.file.only)
        for suspect in self.file.suspects:
            wanted, found = (
                "all that depends on places or on a sound follows it",
                f"{suspect.place}: {suspect.evidence}",
            )
            self.points.append(ProofPoint(self.path, f"may not fit what is written in {suspect.file}", wanted,
                                          found + (f". In the layout: {suspect.line}" if suspect.line else ""), True, doubt=True))  # fmt: skip

    def _old_file(self) -> Source:
        """What the account compares the file with: the old file; for one that was not there the entry that it is, or the archive
        that it is made like."""
        if self.file.entry is not None:
            return self._origin().step(self.file.entry, self.path).source
        if self.file.base_path:
            return self.old_game.open(self.file.base_path)
        if self.old_game.locate(self.path).is_file():
            return self.old_game.open(self.path)
        return BytesSource(b"", self.path)

    def _origin(self) -> Spot:
        """The archive whose entries the file holds."""
        if self.file.of not in self.opened:
            self.opened[self.file.of] = Spot.file(self.old_game, self.file.of, self.known)
        return self.opened[self.file.of]

    def _account(self, ledger: Ledger, old: Source, new: Source, inside: str) -> None:
        """Every byte of a level against what the plan says of it."""
        ledger.compare(old, new, self.progress)
        wanted = f"all {spaced(ledger.data.size)} B"
        self.point(f"{inside}every byte", wanted, ledger.fault or f"{wanted}: {ledger.told()}", not ledger.fault)
        if not ledger.fault:
            self.point(f"{inside}fields that had to change", "named by the plan", ledger.changed_fields(), True)

    def _list(self) -> None:
        """Every line of a list of sums against the file that it names."""
        with self.new_game.open(self.path) as source:
            kind = kind_of(source, self.known)
            if kind is None or kind.layout is None:
                raise ZubretError("The list of sums is no longer recognised.", file=self.path)
            reading = read_layout(kind.layout, source)
            lines = listed_in(self.new_game, self.path, kind.layout)
            sizes, right = reading.column("size"), 0
            for path, n in lines.items():
                with self.new_game.open(path) as listed:
                    right += (sizes is None or sizes[n] == listed.size) and all(
                        sum_is(instance, slot, n, sum_of(how.rule, listed))
                        for instance, slot, how in sums_of(reading, ("listed",))
                    )
            count = spaced(len(lines))
            self.point("listed sizes and sums", f"{count} of {count} right", f"{spaced(right)} of {count} right")

    def _loose(self, old: Spot, new: Spot, step: tuple[str, int]) -> None:
        """An entry that became a file by itself."""
        swaps, files = self.file.swaps, self.file.files
        further = [f for f in files if f.inside]
        if further or any(len(s.entries) > 1 for s in swaps):
            self._archive(old, new, swaps, further, (step,))
        elif swaps:
            self._bank(old, new, swaps, (step,))
        for given in (f for f in files if not f.inside):
            with FileSource(given.content) as content:
                equal = same_bytes(content, new.source)
            self.point("bytes", "as given", "as given" if equal else "different")

    # Levels -----------------------------------------------------------------------------------------

    def _ledger(self, inside: Steps, part: str = "") -> Ledger | None:
        for ledger in self.ledgers[self.path]:
            if ledger.data.inside == inside and ledger.data.part == part:
                return ledger
        return None

    def _level(self, old: Spot, new: Spot, inside: Steps) -> None:
        """Accounts of what no level further out sees as it is: a packed entry, and packed parts."""
        name = f"{_last(new.name)}: "
        ledger = self._ledger(inside)
        if inside and ledger is not None and ledger.data.read:
            self._account(ledger, old.source, new.source, name)
        for ledger in self.ledgers[self.path]:
            part = ledger.data.part
            if part and ledger.data.inside == inside:
                a, b = (spot.reader.unpacked(part) for spot in (old, new))
                self._account(ledger, a, b, f"{name if inside else ''}{'unpacked' if part == '*' else part}: ")

    def _kept(self, folder: str, name: str, inside: Steps) -> Ledger | None:
        """The ledger of a file at a level, or of one beside it."""
        if not name:
            return self._ledger(inside)
        path = f"{folder}/{name}" if folder else name
        if inside:
            return None
        return self.ledgers[path][0] if path in self.ledgers else None

    def _same_spans(
        self, old: Sequence[tuple[str, int, int]], new: Sequence[tuple[str, int, int]], inside: Steps, items: list[int]
    ) -> NDArray[np.bool_] | None:
        """Which items' stored bytes are bytes that the account has compared, from their old places; None where they have
        to be looked at by themselves."""
        folder = self.path.rpartition("/")[0]
        files = [old[n][0] for n in items]
        if [new[n][0] for n in items] != files:
            return None
        out = np.ones(len(items), bool)
        a = np.array([old[n][1:] for n in items], np.int64).reshape(-1, 2)
        b = np.array([new[n][1:] for n in items], np.int64).reshape(-1, 2)
        for name in set(files):
            here = np.array([f == name for f in files])
            ledger = self._kept(folder, name, inside)
            if ledger is not None:
                out[here] = ledger.same(b[here, 0], a[here, 0], a[here, 1]) & (a[here, 1] == b[here, 1])
            elif name and not inside and f"{folder}/{name}".lstrip("/") not in self.ledgers:
                out[here] = (a[here] == b[here]).all(axis=1)  # a volume that was not written anew
            else:
                return None
        return out

    def _archive(
        self,
        old: Spot,
        new: Spot,
        swaps: list[ExpectedSwap],
        files: list[ExpectedEntry],
        inside: Steps,
        only: list[int] | None = None,
    ) -> None:
        """Two archives entry by entry; then the banks and archives inside that swaps and entry files touched. only: the entries of
        the old one that the new one has, in its order."""
        self._level(old, new, inside)
        depth, a, b = len(inside), old.archive, new.archive
        prefix = f"{_last(new.name)}: " if depth else ""
        here = [f for f in files if len(f.inside) == depth]
        added = [f.path for f in here if f.index is None]
        kept = list(range(len(a.entries))) if only is None else only
        count, place = len(kept), {n: k for k, n in enumerate(kept)}
        self.point(f"{prefix}entries", spaced(count + len(added)), spaced(len(b.entries)))
        if count + len(added) != len(b.entries):
            return
        replaced = {f.index for f in here if f.index is not None}
        further = {f.inside[depth][1] for f in files if len(f.inside) > depth}
        touched = {s.entries[depth][1] for s in swaps} | further
        changed = self._changed(a, touched, replaced, inside)
        if added:
            changed |= self._filled(a, b, [n for n in kept if n not in changed], place)
        self._names(a, b, kept, added, changed, prefix)
        if only is None:
            self._untouched(a, b, [n for n in kept if n not in changed], inside, prefix)
        fresh = sorted({place[n] for n in changed if n in place} | set(range(count, len(b.entries))))
        for n in fresh:
            b.check(n)
        if fresh and b.kind != "file":
            right = f"{spaced(len(fresh))} right"
            self.point(f"{prefix}checksums of changed entries", right, right)
        new_places = iter(range(count, len(b.entries)))
        for f in here:
            n = next(new_places) if f.index is None else place[f.index]
            with FileSource(f.content) as given:
                self._given(f"{prefix}{b.label(n)}: bytes", "as given", given, b.open(n), partial(b.is_filled, n))
        b.verify()
        for index in sorted(touched):
            within = [s for s in swaps if s.entries[depth][1] == index]
            below = [f for f in files if len(f.inside) > depth and f.inside[depth][1] == index]
            step = (a.entries[index].path, index)
            pair = old.entry(index), new.entry(place[index])
            if below or len(within[0].entries) > depth + 1:
                self._archive(*pair, within, below, (*inside, step))
            else:
                self._bank(*pair, within, (*inside, step))

    def _changed(self, old: Container, touched: set[int], replaced: set[int], inside: Steps) -> set[int]:
        """The entries that may be others now: those touched inside, the companions that the plan accounts for, those
        replaced, and all that share their bytes."""
        planned = {
            ledger.data.inside[len(inside)][1]
            for ledger in self.ledgers[self.path]
            if len(ledger.data.inside) > len(inside) and ledger.data.inside[: len(inside)] == inside
        }
        changed = touched | replaced | planned
        return changed | {n for e in changed for n in old.sharing(e)}

    def _filled(self, a: Container, b: Container, entries: list[int], place: Mapping[int, int]) -> set[int]:
        """Entries that nobody touched, and that are filled up since an added one stands behind them now: where only that says how long
        they are."""
        old, new = a.spans(), b.spans()
        if old is None or new is None:
            return set()
        longer = [n for n in entries if old[n][2] < new[place[n]][2]]
        return {
            n for n in longer if is_given(a.stored(n), b.stored(place[n]), partial(b.is_filled, place[n], stored=True))
        }

    def _names(
        self, a: Container, b: Container, kept: list[int], added: list[str], changed: set[int], prefix: str
    ) -> None:
        """Order, names, methods, and of what nobody touched sizes and sums. Of a new archive of another kind, the names alone."""
        count, like, same = len(kept), a.layout_id == b.layout_id, 0
        for k, n in enumerate(kept):
            x, y = a.entries[n], b.entries[k]
            alike = (x.path, x.method) == (y.path, y.method) if like else a.label(n) == y.path
            same += alike and (n in changed or (x.stored, x.size, x.crc32) == (y.stored, y.size, y.crc32))
        what = "order, names, methods and sizes" if like else "names"
        self.point(f"{prefix}{what}", f"{spaced(count)} as before", f"{spaced(same)} as before")
        if added:
            found = [e.path for e in list(b.entries)[count:]]
            self.point(f"{prefix}added entries", ", ".join(added), ", ".join(found), len(found) == len(added))

    def _untouched(self, a: Container, b: Container, entries: list[int], inside: Steps, prefix: str) -> None:
        wanted = f"{spaced(len(entries))} identical"
        spans = a.spans(), b.spans()
        same = None
        if spans[0] is not None and spans[1] is not None:
            same = self._same_spans(spans[0], spans[1], inside, entries)
        if same is None:
            same = np.zeros(len(entries), bool)
            for k, n in enumerate(entries):
                same[k] = same_bytes(a.stored(n), b.stored(n))
                self.progress(0, 0, f"comparing {a.label(n)}")
        elif a.document and b.document:
            heads = a.document.column("head"), b.document.column("head")
            if heads[0] is not None and heads[1] is not None:
                same &= np.array([heads[0][n] == heads[1][n] for n in entries], bool)
        self.point(f"{prefix}untouched entries", wanted, f"{spaced(int(same.sum()))} identical")

    # Banks ------------------------------------------------------------------------------------------

    def _bank(self, old: Spot, new: Spot, swaps: list[ExpectedSwap], inside: Steps) -> None:
        self._level(old, new, inside)
        a, b, name = old.bank, new.bank, _last(new.name)
        count = spaced(len(a.streams))
        self.point(f"{name}: streams", count, spaced(len(b.streams)))
        if len(a.streams) != len(b.streams):
            return
        pairs = list(zip(a.streams, b.streams, strict=True))
        said = lambda s: (s.id, s.name, s.keeps, s.language, s.said)  # noqa: E731
        ids = sum(said(x) == said(y) for x, y in pairs)
        self.point(f"{name}: stream ids and names in order", f"{count} as before", f"{spaced(ids)} as before")
        before, after = (", ".join(x for x in (bank.name, bank.language) if x) or "none" for bank in (a, b))
        self.point(f"{name}: name and language of the bank", before, after)
        changed = {s.ordinal for s in swaps}
        changed |= {n for c in changed for n in a.streams[c].shares}
        untouched = [n for n in range(len(pairs)) if n not in changed]
        if untouched:
            self._other_streams(a, b, untouched, inside, name)
        for swap in swaps:
            self._swapped(b, swap)
        self._tables(old, new, untouched, swaps, name)

    def _tables(self, old: Spot, new: Spot, untouched: list[int], swaps: list[ExpectedSwap], name: str) -> None:
        """Tables that follow the sound: of what nobody touched they say the same as before, of what is new what their rule gives."""
        a, b = old.reader.document, new.reader.document
        if a is None or b is None or not any(r.follows for r in b.layout.regions):
            return
        pairs = [p for n in untouched for p in zip(a.followers(n), b.followers(n), strict=True)]
        same = sum(stored_points(a, x) == stored_points(b, y) for x, y in pairs)
        count = spaced(len(pairs))
        self.point(f"{name}: tables of untouched streams", f"{count} as before", f"{spaced(same)} as before")
        for swap in swaps:
            stream = new.bank.streams[swap.ordinal]
            for table in b.followers(swap.ordinal):
                if table.region.follows and table.region.follows.every is None:
                    continue  # marks in time follow from nothing
                points = points_by_rule(b, table, stream.payload, stream.format, stream.format.rate)
                equal = points == stored_points(b, table)
                wanted = "as its rule gives it"
                self.point(f"{_last(swap.name)}: table {table.name}", wanted, wanted if equal else "different")

    def _other_streams(self, a: Bank, b: Bank, untouched: list[int], inside: Steps, name: str) -> None:
        """What nobody touched: the same bytes, format and loop, and where a proof goes deeper the same sound."""
        spans = a.spans(), b.spans()
        same = None if spans[0] is None or spans[1] is None else self._same_spans(spans[0], spans[1], inside, untouched)
        if same is None:
            same = np.array([same_bytes(a.streams[n].payload, b.streams[n].payload) for n in untouched], bool)
        count = spaced(len(untouched))
        self.point(f"{name}: bytes of untouched streams", f"{count} identical", f"{spaced(int(same.sum()))} identical")
        wrong = [n for n in untouched if a.streams[n].format != b.streams[n].format]
        found = f"{spaced(len(untouched) - len(wrong))} as before"
        if wrong:
            x, y = (bank.streams[wrong[0]].format for bank in (a, b))
            found += f"; stream {a.streams[wrong[0]].id or wrong[0]} was {_shown(x)}, and is {_shown(y)}"
        self.point(f"{name}: formats and loops of untouched streams", f"{count} as before", found, not wrong)
        if self.deep:
            alike = sum(self._sounds_alike(a, b, n) for n in untouched)
            self.point(f"{name}: sound of untouched streams", f"{count} identical", f"{spaced(alike)} identical")

    def _sounds_alike(self, a: Bank, b: Bank, n: int) -> bool:
        x, y = a.streams[n], b.streams[n]
        self.progress(0, 0, f"decoding {x.payload.name}")
        return x.format == y.format and _alike(x.decode, y.decode, x.format.frames)

    def _swapped(self, bank: Bank, swap: ExpectedSwap) -> None:
        stream, wanted = bank.streams[swap.ordinal], Format.from_dict(swap.format)
        found, label = stream.format, _last(swap.name)
        self.point(f"{label}: length", f"{spaced(wanted.frames)} frames", f"{spaced(found.frames)} frames")
        for what, shown in (
            ("rate and channels", lambda f: f"{spaced(f.rate)} Hz, {f.channels}"),
            ("codec and block", lambda f: f.codec + (f", {spaced(f.block_size)} B" if f.block_size else ", no blocks")),
            ("loop", _loop),
        ):
            self.point(f"{label}: {what}", shown(wanted), shown(found))
        with FileSource(swap.payload) as payload:
            is_filled = partial(bank.is_filled, swap.ordinal)
            self._given(f"{label}: stored bytes", "as prepared", payload, stream.payload, is_filled)
            prepared = partial(codec_of(wanted).decode, payload, wanted)
            alike = found.frames == wanted.frames and _alike(prepared, stream.decode, found.frames)
        ratio = "no loss" if swap.snr_db == float("inf") else f"{swap.snr_db:.1f} dB SNR"
        self.point(f"{label}: decoded ({ratio})", "as prepared", "as prepared" if alike else "different")


def _alike(one: DecodeRange, other: DecodeRange, frames: int) -> bool:
    """Whether two streams decode to the same samples."""
    spans = ((at, min(DECODED, frames - at)) for at in range(0, frames, DECODED))
    return all(np.array_equal(one(*span), other(*span)) for span in spans)


def _last(name: str) -> str:
    return name.rsplit(IN, 1)[-1]


def _shown(format: Format) -> str:
    return f"{spaced(format.frames)} frames, {format.codec}, {spaced(format.rate)} Hz, loop {_loop(format)}"


def _loop(format: Format) -> str:
    return f"{spaced(format.loop.start)} to {spaced(format.loop.end)}" if format.loop else "none"


def main() -> None:
    """Read the expectation, print progress and points as JSON lines."""
    shipped_layouts()  # loaded while the files are still being written
    expected = Expectation.from_json(sys.stdin.read())
    last = 0.0

    def progress(done: int, total: int, note: str) -> None:
        nonlocal last
        if (now := time.monotonic()) - last > SAY:
            last = now
            print(json.dumps({"progress": [done, total, note]}), flush=True)

    print(json.dumps({"points": [asdict(p) for p in prove(expected, progress)]}), flush=True)


if __name__ == "__main__":
    main()
