"""The proof: a rebuilt file read back from nothing, in a new process, and compared.

`python -m zubret_core.rebuild.prove` reads one JSON object and prints one a line: progress, then the points. It knows
nothing of the process that wrote the files but what the JSON says.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..bank import Bank
from ..base import Format, Progress, ZubretError, silent, to_int16
from ..base.pcm import snr_db
from ..base.wording import spaced
from ..container import Container, DescribedArchive, GameFolder, LaidOver, LooseFile, beside
from ..container.base import label_of, open_entry
from ..layout import load_layout, read_layout, shipped_layouts
from ..layout.checks.sums import rule_of, sum_is, sums_of, verify
from ..locate import Known, kind_of, open_archive, open_bank, open_file
from ..source import FileSource, Source, same_bytes
from ..source.sums import sum_of
from .plan import FilePlan, listed_in


@dataclass(frozen=True)
class ProofPoint:
    """One measured fact: `found` against `expected`, in words and numbers."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool


def expectation(
    game: Path,
    out: Path,
    plans: Sequence[FilePlan],
    layouts: Sequence[str] = (),
    keys: Mapping[str, Mapping[str, str]] | None = None,
    names: Mapping[str, Mapping[str, str]] | None = None,
) -> dict[str, Any]:
    """What the proof has to know, as JSON.

    layouts: the texts of layouts besides the shipped ones; keys: by archive path, the keys (hexadecimal) by their
    names in its layout; names: by archive path, the names of entries by their ids.
    """
    return {
        "game": str(game),
        "out": str(out),
        "layouts": list(layouts),
        "keys": {path: dict(named) for path, named in (keys or {}).items()},
        "names": {path: dict(by_id) for path, by_id in (names or {}).items()},
        "files": [
            {
                "path": p.path,
                "size": p.size,
                "files": [
                    {
                        "inside": [list(step) for step in f.inside],
                        "index": f.index,
                        "path": f.path,
                        "content": str(f.content),
                    }
                    for f in p.files
                ],
                "belongs_to": p.belongs_to,
                "lists": list(p.lists),
                "swaps": [
                    {
                        "entries": [list(step) for step in s.locator.entries],
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
        ],
    }


def prove_in_new_process(expected: dict[str, Any], progress: Progress = silent) -> list[ProofPoint]:
    """Run the proof as a program of its own. What it has to know goes to its input, so that no key touches the disk."""
    root = Path(__file__).resolve().parents[2]
    program = subprocess.Popen(
        [sys.executable, "-m", "zubret_core.rebuild.prove"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        cwd=root,
        text=True,
        encoding="utf-8",
    )
    points: list[ProofPoint] | None = None
    error = ""
    try:
        assert program.stdin and program.stdout and program.stderr
        program.stdin.write(json.dumps(expected))
        program.stdin.close()
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
    keys = {path: {n: bytes.fromhex(k) for n, k in named.items()} for path, named in expected["keys"].items()}
    names: dict[str, dict[str, str]] = expected["names"]
    layouts = [*(load_layout(text) for text in expected["layouts"]), *shipped_layouts()]
    known = Known(layouts, lambda layout, path: keys.get(path, {}), lambda layout, path: names.get(path, {}))
    old, new = GameFolder(Path(expected["game"])), LaidOver(Path(expected["game"]), Path(expected["out"]))
    total = sum(f["size"] for f in expected["files"])
    done = 0
    for file in expected["files"]:

        def step(n: int, _: int, note: str, before: int = done) -> None:
            progress(before + n, total, note)

        try:
            points += _prove_file(file, old, new, known, step)
        except ZubretError as e:
            points.append(ProofPoint(file["path"], "opens", "readable", str(e), False))
        done += file["size"]
    return points


Point = Callable[..., None]


def _prove_file(
    file: dict[str, Any], old_game: GameFolder, new_game: GameFolder, known: Known, progress: Progress
) -> list[ProofPoint]:
    path, points = file["path"], []

    def point(label: str, wanted: object, found: object, ok: bool | None = None) -> None:
        points.append(ProofPoint(path, label, str(wanted), str(found), wanted == found if ok is None else ok))

    with new_game.open(path) as new_file:
        point("file size", f"{spaced(file['size'])} B", f"{spaced(new_file.size)} B")
    if file["lists"]:
        _prove_list(file, new_game, known, point)
        return points
    if file["belongs_to"]:
        return points  # what is in it is proved with the archive that it belongs to
    old, new = open_file(old_game, path, known), open_file(new_game, path, known)
    if old is None or new is None:
        raise ZubretError("The file is no longer recognised as an archive.", file=path)
    _prove_archive(old, new, file["swaps"], file["files"], 0, known, point, progress)
    return points


def _prove_list(file: dict[str, Any], game: GameFolder, known: Known, point: Point) -> None:
    """Every line of a list of sums against the file that it names."""
    with game.open(file["path"]) as source:
        kind = kind_of(source, known)
        if kind is None or kind.layout is None:
            raise ZubretError("The list of sums is no longer recognised.", file=file["path"])
        reading = read_layout(kind.layout, source)
        lines = listed_in(game, file["path"], kind.layout)
        sizes, right = reading.column("size"), 0
        for path, n in lines.items():
            with game.open(path) as listed:
                right += (sizes is None or sizes[n] == listed.size) and all(
                    sum_is(place, tie, n, sum_of(rule_of(how), listed))
                    for place, tie, how in sums_of(reading, ("listed",))
                )
        count = spaced(len(lines))
        point("listed sizes and sums", f"{count} of {count} right", f"{spaced(right)} of {count} right")


def _prove_archive(
    old: Container,
    new: Container,
    swaps: list[dict[str, Any]],
    files: list[dict[str, Any]],
    depth: int,
    known: Known,
    point: Point,
    progress: Progress,
) -> None:
    """Two archives entry by entry; then the banks and archives inside that swaps and entry files touched."""
    here = [f for f in files if len(f["inside"]) == depth]
    added = [f["path"] for f in here if f["index"] is None]
    inside = "" if depth == 0 else f"{new.source.name.rsplit(' › ', 1)[-1]}: "
    count = len(old.entries)
    point(f"{inside}entries", spaced(count + len(added)), spaced(len(new.entries)))
    if count + len(added) != len(new.entries):
        return
    same_names = sum(a.path == b.path and a.method == b.method for a, b in zip(old.entries, new.entries, strict=False))
    point(f"{inside}order, names and methods", f"{spaced(count)} as before", f"{spaced(same_names)} as before")
    if added:
        found = [e.path for e in list(new.entries)[count:]]
        point(f"{inside}added entries", ", ".join(added), ", ".join(found), len(found) == len(added))
    replaced = {f["index"] for f in here if f["index"] is not None}
    further = {f["inside"][depth][1] for f in files if len(f["inside"]) > depth}
    changed = _changed(old, {s["entries"][depth][1] for s in swaps} | further, replaced)
    untouched = [n for n in range(count) if n not in changed]
    identical = _identical(old, new, untouched, progress)
    point(f"{inside}untouched entries", f"{spaced(len(untouched))} identical", f"{spaced(identical)} identical")
    fresh = sorted(changed | set(range(count, len(new.entries))))
    for n in fresh:
        new.check(n)
    if fresh and not isinstance(new, LooseFile):
        point(f"{inside}checksums of changed entries", f"{spaced(len(fresh))} right", f"{spaced(len(fresh))} right")
    new_places = iter(range(count, len(new.entries)))
    for f in here:
        n = next(new_places) if f["index"] is None else f["index"]
        with FileSource(f["content"]) as given:
            equal = same_bytes(given, new.open(n))
        point(f"{inside}{label_of(new, n)}: bytes", "as given", "as given" if equal else "different")
    if isinstance(old, DescribedArchive) and isinstance(new, DescribedArchive):
        verify(new.reading)
        align = new.layout.payload.align
        placed = [e.at for e in new.entries if e.stored]
        on_grid = sum(at % align == 0 for at in placed)
        grid = f"of {spaced(len(placed))} on a grid of {spaced(align)} B"
        point(f"{inside}alignment", f"{spaced(len(placed))} {grid}", f"{spaced(on_grid)} {grid}")
    for index in sorted({s["entries"][depth][1] for s in swaps} | further):
        within = [s for s in swaps if s["entries"][depth][1] == index]
        below = [f for f in files if len(f["inside"]) > depth and f["inside"][depth][1] == index]
        contents = [open_entry(a, index) for a in (old, new)]
        if below or len(within[0]["entries"]) > depth + 1:
            for archive, content in zip((old, new), contents, strict=True):
                content.name = f"{archive.source.name} › {content.name}"
            pair = [open_archive(c, known, beside(a, index)) for a, c in zip((old, new), contents, strict=True)]
            if pair[0] is None or pair[1] is None:
                raise ZubretError("The entry is no longer an archive.", file=old.entries[index].path)
            _prove_archive(pair[0], pair[1], within, below, depth + 1, known, point, progress)
            continue
        banks = [open_bank(c, known, beside(a, index)) for a, c in zip((old, new), contents, strict=True)]
        if banks[0] is None or banks[1] is None:
            raise ZubretError("The entry is no longer a bank.", file=old.entries[index].path)
        _prove_bank(banks[0], banks[1], within, point)


def _changed(old: Container, touched: set[int], replaced: set[int]) -> set[int]:
    """The entries that may be others now: those touched inside with their banks' companions, and those replaced."""
    changed = touched | {n for e in touched for n in old.sharing(e)}
    stems = {label_of(old, n).rpartition(".")[0] for n in changed} - {""}
    changed |= {n for n in range(len(old.entries)) if label_of(old, n).rpartition(".")[0] in stems}
    return changed | replaced | {n for e in replaced for n in old.sharing(e)}


def _identical(old: Container, new: Container, entries: list[int], progress: Progress) -> int:
    """How many entries have the same stored bytes, size and sum in both."""
    count, done = 0, 0
    for n in entries:
        a, b = old.entries[n], new.entries[n]
        same = (a.stored, a.size, a.crc32) == (b.stored, b.size, b.crc32)
        if same:
            same = same_bytes(_stored(old, n), _stored(new, n))
        count += same
        done += a.stored
        progress(done, done, f"comparing {a.path}")
    return count


def _stored(archive: Container, n: int) -> Source:
    if isinstance(archive, DescribedArchive):
        return archive.reading.payload(n)
    return archive.open(n)


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
        old.streams[n].format == new.streams[n].format and same_bytes(old.streams[n].payload, new.streams[n].payload)
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
            equal = same_bytes(payload, stream.payload)
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
    expected = json.load(sys.stdin)
    last = [-1]

    def progress(done: int, total: int, note: str) -> None:
        if total and done * 100 // total != last[0]:
            last[0] = done * 100 // total
            print(json.dumps({"progress": [done, total, note]}), flush=True)

    print(json.dumps({"points": [asdict(p) for p in prove(expected, progress)]}), flush=True)


if __name__ == "__main__":
    main()
