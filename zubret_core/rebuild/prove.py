"""The proof: a rebuilt file read back from nothing, in a new process, and compared.

`python -m zubret_core.rebuild.prove EXPECTED.json` prints one JSON object a line: progress, then
the points. It knows nothing of the process that wrote the file but what the JSON says.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..bank import Bank
from ..base import Format, Progress, ZubretError, silent, to_int16
from ..base.pcm import snr_db
from ..base.wording import spaced
from ..container import Container, DescribedArchive, LooseFile, ZipArchive
from ..layout import Reading
from ..layout.write import region_untied
from ..locate import open_archive, open_bank
from ..source import FileSource, SliceSource, Source
from .plan import FilePlan


@dataclass(frozen=True)
class ProofPoint:
    """One measured fact: `found` against `expected`, in words and numbers."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool


def expectation(game: Path, out: Path, plans: Sequence[FilePlan]) -> dict[str, Any]:
    """What the proof has to know, as JSON."""
    return {
        "files": [
            {
                "path": p.path,
                "original": str(game / p.path),
                "rebuilt": str(out / p.path),
                "size": p.size,
                "swaps": [
                    {
                        "entry": s.locator.entry_index,
                        "ordinal": s.locator.ordinal,
                        "name": str(s.locator),
                        "format": s.format.as_dict(),
                        "payload": str(s.payload),
                        "meant": str(s.meant),
                        "snr_db": s.snr_db,
                    }
                    for s in p.swaps
                ],
            }
            for p in plans
        ]
    }


def prove_in_new_process(expected: dict[str, Any], where: Path, progress: Progress = silent) -> list[ProofPoint]:
    """Run the proof as a program of its own; `where` is the JSON file that tells it what to expect."""
    where.write_text(json.dumps(expected), "utf-8")
    root = Path(__file__).resolve().parents[2]
    program = subprocess.Popen(
        [sys.executable, "-m", "zubret_core.rebuild.prove", str(where)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        cwd=root,
        text=True,
        encoding="utf-8",
    )
    points: list[ProofPoint] | None = None
    try:
        assert program.stdout and program.stderr
        for line in program.stdout:
            message = json.loads(line)
            if "points" in message:
                points = [ProofPoint(**p) for p in message["points"]]
            else:
                progress(*message["progress"])
        error = program.stderr.read()
        program.wait()
    finally:
        if program.poll() is None:
            program.kill()
            program.wait()
    if points is None:
        raise ZubretError(
            "The proof ended before it had an answer.",
            field=error.strip().splitlines()[-1][:200] if error.strip() else None,
            next="Rebuild again; if it happens twice, the machine may be out of memory.",
        )
    return points


def prove(expected: dict[str, Any], progress: Progress = silent) -> list[ProofPoint]:
    """All points of all files; a file that can't be read gives one point that failed."""
    points: list[ProofPoint] = []
    total = sum(f["size"] for f in expected["files"])
    done = 0
    for file in expected["files"]:

        def step(n: int, _: int, note: str, before: int = done) -> None:
            progress(before + n, total, note)

        try:
            points += _prove_file(file, step)
        except ZubretError as e:
            points.append(ProofPoint(file["path"], "opens", "readable", str(e), False))
        done += file["size"]
    return points


def _prove_file(file: dict[str, Any], progress: Progress) -> list[ProofPoint]:
    path, points = file["path"], []

    def point(label: str, wanted: object, found: object, ok: bool | None = None) -> None:
        points.append(ProofPoint(path, label, str(wanted), str(found), wanted == found if ok is None else ok))

    with FileSource(file["original"], path) as old_file, FileSource(file["rebuilt"], path) as new_file:
        old, new = open_archive(old_file), open_archive(new_file)
        if old is None or new is None:
            raise ZubretError("The file is no longer recognised as an archive.", file=path)
        point("file size", f"{spaced(file['size'])} B", f"{spaced(new_file.size)} B")
        point("entries", f"{spaced(len(old.entries))}", f"{spaced(len(new.entries))}")
        if len(old.entries) != len(new.entries):
            return points
        same_names = sum(
            a.path == b.path and a.method == b.method for a, b in zip(old.entries, new.entries, strict=True)
        )
        point("order, names and methods", f"{spaced(len(old.entries))} as before", f"{spaced(same_names)} as before")
        changed = {s["entry"] for s in file["swaps"]}
        changed |= {n for e in changed for n in old.sharing(e)}
        untouched = [n for n in range(len(old.entries)) if n not in changed]
        identical = _identical(old, new, untouched, progress)
        point("untouched entries", f"{spaced(len(untouched))} identical", f"{spaced(identical)} identical")
        for n in sorted(changed):
            new.check(n)
        if changed and not isinstance(new, LooseFile):
            point("checksums of changed entries", f"{spaced(len(changed))} right", f"{spaced(len(changed))} right")
        if isinstance(old, DescribedArchive) and isinstance(new, DescribedArchive):
            point("alignment", f"{spaced(old.layout.payload.align)} B", f"{spaced(new.layout.payload.align)} B")
            point("bytes that no swap touches", "carried over", _carried(old.reading, new.reading))
        for entry in sorted({s["entry"] for s in file["swaps"]}):
            swaps = [s for s in file["swaps"] if s["entry"] == entry]
            old_bank, new_bank = open_bank(old.open(entry)), open_bank(new.open(entry))
            if old_bank is None or new_bank is None:
                raise ZubretError("The entry is no longer a bank.", file=old.entries[entry].path)
            _prove_bank(old_bank, new_bank, swaps, point)
    return points


def _identical(old: Container, new: Container, entries: list[int], progress: Progress) -> int:
    """How many entries have the same stored bytes, size and sum in both."""
    count, done = 0, 0
    for n in entries:
        a, b = old.entries[n], new.entries[n]
        same = (a.stored, a.size, a.crc32) == (b.stored, b.size, b.crc32)
        if same:
            same = _equal(_stored(old, n), _stored(new, n))
        count += same
        done += a.stored
        progress(done, done, f"comparing {a.path}")
    return count


def _stored(archive: Container, n: int) -> Source:
    if isinstance(archive, ZipArchive):
        return archive.open(n)
    entry = archive.entries[n]
    return SliceSource(archive.source, entry.at, entry.stored)


def _equal(a: Source, b: Source) -> bool:
    return a.size == b.size and all(x == y for x, y in zip(a.chunks(), b.chunks(), strict=True))


def _carried(old: Reading, new: Reading) -> str:
    same = all(region_untied(old, r) == region_untied(new, r) for r in old.layout.regions)
    return "carried over" if same else "changed"


def _prove_bank(old: Bank, new: Bank, swaps: list[dict[str, Any]], point) -> None:
    name = old.source.name
    point(f"{name}: streams", f"{spaced(len(old.streams))}", f"{spaced(len(new.streams))}")
    if len(old.streams) != len(new.streams):
        return
    ids = sum(a.id == b.id for a, b in zip(old.streams, new.streams, strict=True))
    point(f"{name}: stream ids in order", f"{spaced(len(old.streams))} as before", f"{spaced(ids)} as before")
    changed = {s["ordinal"] for s in swaps}
    changed |= {n for c in changed for n in old.streams[c].shares}
    untouched = [n for n in range(len(old.streams)) if n not in changed]
    same = sum(
        old.streams[n].format == new.streams[n].format and _equal(old.streams[n].payload, new.streams[n].payload)
        for n in untouched
    )
    if len(old.streams) > 1:
        point(f"{name}: untouched streams", f"{spaced(len(untouched))} identical", f"{spaced(same)} identical")
    for swap in swaps:
        stream, wanted = new.streams[swap["ordinal"]], Format.from_dict(swap["format"])
        found = stream.format
        label = swap["name"].rsplit(" › ", 1)[-1]
        point(f"{label}: length", f"{spaced(wanted.frames)} frames", f"{spaced(found.frames)} frames")
        point(
            f"{label}: rate and channels",
            f"{spaced(wanted.rate)} Hz, {wanted.channels}",
            f"{spaced(found.rate)} Hz, {found.channels}",
        )
        point(
            f"{label}: codec and block",
            f"{wanted.codec}, {spaced(wanted.block_size)} B",
            f"{found.codec}, {spaced(found.block_size)} B",
        )
        point(f"{label}: loop", _loop(wanted), _loop(found))
        with FileSource(swap["payload"]) as payload:
            equal = _equal(payload, stream.payload)
        point(f"{label}: stored bytes", "as prepared", "as prepared" if equal else "different")
        meant = np.fromfile(swap["meant"], "<i2").reshape(-1, wanted.channels)
        heard = to_int16(stream.decode(0, found.frames))
        snr = snr_db(meant, heard) if meant.shape == heard.shape else float("-inf")
        text = "identical" if snr == float("inf") else f"{snr:.1f} dB SNR"
        enough = swap["snr_db"] - 0.05
        meant_text = "identical" if swap["snr_db"] == float("inf") else f"at least {enough:.1f} dB SNR"
        point(f"{label}: decoded against what was meant", meant_text, text, snr >= enough)


def _loop(format: Format) -> str:
    return f"{spaced(format.loop.start)} to {spaced(format.loop.end)}" if format.loop else "none"


def main() -> None:
    """Read the expectation, print progress and points as JSON lines."""
    expected = json.loads(Path(sys.argv[1]).read_text("utf-8"))
    last = [-1]

    def progress(done: int, total: int, note: str) -> None:
        if total and done * 100 // total != last[0]:
            last[0] = done * 100 // total
            print(json.dumps({"progress": [done, total, note]}), flush=True)

    print(json.dumps({"points": [asdict(p) for p in prove(expected, progress)]}), flush=True)


if __name__ == "__main__":
    main()
