"""Variable tables, taking out, chunks, split archives and bytes on screen, against general tools."""

from __future__ import annotations

import json
import shutil
import struct
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import zstandard

from standin.formats import PCM, Sound, bell, crate
from zubret_core.container import DescribedArchive, GameFolder
from zubret_core.extract import Item, extract
from zubret_core.layout import load_layout
from zubret_core.locate import BankRecord, Known, Spot
from zubret_core.locate.survey import contents, look_at
from zubret_core.source import BytesSource, FileSource, write_file
from zubret_core.source.steps import Chain, Chunked, Packed

from .pairs import Row, pairs
from .rebuilds import large_zip, status

COUNT = 200_000
INLINE = """
zubret: 1
id: bench-inline
describes: archive
recognise: [{at: 0, bytes: "49 4e"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u32, means: entries.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, counted: u16, means: entry.path}
      - {name: at, type: u64, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""
SPLIT = """
zubret: 1
id: bench-split
describes: archive
recognise: [{at: 0, bytes: "53 50"}]
files: {part: {name: "{stem}.{volume:02}"}}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u32, means: entries.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, length: 16, means: entry.path}
      - {name: volume, type: u16, means: entry.volume}
      - {name: at, type: u64, means: entry.at}
      - {name: stored, type: u64, means: entry.stored}
payload: {file: part, align: 16}
"""


POOLED = """
zubret: 1
id: bench-pool
describes: archive
recognise: [{at: 0, bytes: "50 4f"}]
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 2}
      - {name: count, type: u32}
      - {name: names, type: u32}
  - {name: names, after: head, size: head.names, pool: {ends: "00"}}
  - name: table
    after: names
    repeat: head.count
    fields:
      - {name: name, type: u32, means: entry.path, pool: names}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""


def rows(folder: Path) -> Iterator[Row]:
    """All rows of this part; each cleans up behind itself."""
    yield from _inline(folder)
    yield from _small_entries(folder)
    yield from _stored_gigabytes(folder)
    yield _chunks()
    yield from _split(folder)
    yield from _looking(folder)
    yield _banks(folder)


def _banks(folder: Path) -> Row:
    """An archive of 7,000 banks of one stream each: all that a survey's walk gives, against a loop that reads the table and
    the heads with struct."""
    rng, place = np.random.default_rng(3), folder / "banks" / "banks.crate"
    place.parent.mkdir()
    files = []
    for n in range(7_000):
        pcm = rng.integers(-3000, 3000, (int(rng.integers(1_000, 10_000)), 1)).astype(np.int16)
        files.append((f"bank/{n:05}.bell", bell(f"b{n}", [Sound(n + 1, pcm, 22050, codec=PCM)]), False))
    place.write_bytes(crate("bench", files))
    folder_, known = GameFolder(place.parent), Known()
    record, head, stream = struct.Struct("<56sIIIHHI"), struct.Struct("<4sBBH24sIIII"), struct.Struct("<IIIIIIIHH")

    def ours() -> int:
        file = next(iter(folder_.files()))
        with look_at(folder_, file, known) as seen:
            assert seen.kind is not None and seen.spot is not None
            return sum(len(r.streams) for r in contents(seen.spot, seen.kind) if isinstance(r, BankRecord))

    def theirs() -> int:
        out = []
        with open(place, "rb") as file:
            fields = struct.unpack("<4sHHIIII24s", file.read(48))
            file.seek(fields[4] * 2048)
            for path, at, *_ in record.iter_unpack(file.read(fields[3] * record.size)):
                file.seek(at * 2048)
                bank = head.unpack(file.read(head.size))
                for _ in range(bank[5]):
                    out.append((path.rstrip(b"\0").decode(), bank[4], stream.unpack(file.read(stream.size))))
        return len(out)

    assert ours() == theirs() == 7_000
    row = pairs(
        "a survey's walk over 7,000 banks of one stream", ours, "a loop with struct over table and heads", theirs, 6
    )
    shutil.rmtree(place.parent)
    return row


def _inline(folder: Path) -> Iterator[Row]:
    names = [f"sound/bank_{n // 500:03}/cue_{n:06}.bin".encode() for n in range(COUNT)]
    start = 6 + sum(len(n) + 14 for n in names)
    table = b"".join(struct.pack("<H", len(n)) + n + struct.pack("<QI", start + i, 1) for i, n in enumerate(names))
    source = BytesSource(struct.pack("<2sI", b"IN", COUNT) + table + bytes(COUNT))
    layout, pack = load_layout(INLINE), folder / "large.zip"
    large_zip(pack)
    yield pairs(
        "200,000 records with names inline, into plain tuples",
        lambda: DescribedArchive(layout, source).table.tuples(),
        "zipfile opening as many members",
        lambda: zipfile.ZipFile(pack).close(),
        0.25,
    )
    yield _pooled(names)


def _pooled(names: list[bytes]) -> Row:
    """The same names in a pool, against the same table with the offsets as bare numbers, whose ids name the entries."""
    places, at = [], 0
    for name in names:
        places.append(at)
        at += len(name) + 1
    table = np.zeros(COUNT, [("name", "<u4"), ("at", "<u4"), ("stored", "<u4")])
    table["name"], table["at"], table["stored"] = places, np.arange(COUNT) + 10 + at + 12 * COUNT, 1
    data = struct.pack("<2sII", b"PO", COUNT, at) + b"\0".join([*names, b""]) + table.tobytes() + bytes(COUNT)
    pooled, bare = load_layout(POOLED), load_layout(POOLED.replace("means: entry.path, pool: names", "means: entry.id"))

    def read(layout) -> list:
        return DescribedArchive(layout, BytesSource(data)).table.tuples()

    return pairs("200,000 names in a pool", lambda: read(pooled), "the table without them", lambda: read(bare), 1.5)


def _fresh(folder: Path, *names: str):
    """Gives a function that empties some folders and waits for the disk."""

    def clear() -> None:
        for name in names:
            shutil.rmtree(folder / name, ignore_errors=True)
            (folder / name).mkdir()
        subprocess.run(["sync"], check=True)

    return clear


def _small_entries(folder: Path) -> Iterator[Row]:
    files = [(f"s/{n // 500:02}/f{n:05}.txt", f"line {n} of the log ".encode() * 20, True) for n in range(20_000)]
    game, pack = folder / "game", folder / "many.zip"
    game.mkdir()
    (game / "many.crate").write_bytes(crate("x", files))
    with zipfile.ZipFile(pack, "w", zipfile.ZIP_DEFLATED) as out:
        for path, data, _ in files:
            out.writestr(path, data)
    items = [Item("many.crate", (n,), len(data), path) for n, (path, data, _) in enumerate(files)]
    yield pairs(
        "taking out 20,000 small zlib entries",
        lambda: extract(GameFolder(game), items, folder / "ours"),
        "unzip",
        lambda: subprocess.run(["unzip", "-q", "-o", pack, "-d", folder / "theirs"], check=True),
        1.5,
        7,
        _fresh(folder, "ours", "theirs"),
    )
    _fresh(folder, "ours", "theirs", "game")()


def _stored_gigabytes(folder: Path) -> Iterator[Row]:
    game, rng = folder / "stored", np.random.default_rng(2)
    game.mkdir()
    size, pieces = 1 << 28, 4
    with open(game / "big.split", "wb") as out:
        out.write(struct.pack("<2sI", b"SP", pieces))
        for n in range(pieces):
            out.write(struct.pack("<16sHQQ", f"p{n}".encode(), 0, n * size, size))
    with open(game / "big.00", "wb") as out:
        for _ in range(pieces * size >> 24):
            out.write(rng.bytes(1 << 24))
    known = Known([load_layout(SPLIT)])
    items = [Item("big.split", (n,), size, f"p{n}") for n in range(pieces)]
    yield pairs(
        "taking out a stored gigabyte",
        lambda: extract(GameFolder(game), items, folder / "ours", known),
        "cp --reflink=never",
        lambda: subprocess.run(["cp", "--reflink=never", game / "big.00", folder / "theirs"], check=True),
        1.5,
        5,
        _fresh(folder, "ours", "theirs"),
    )
    _fresh(folder, "ours", "theirs", "stored")()


def _chunks() -> Row:
    rng = np.random.default_rng(3)
    text = b"".join(f"{n} {rng.integers(1 << 30)} the ferry\n".encode() for n in range(2_000_000))[: 64 << 20]
    step = Chunked(1 << 16, Chain([Packed("zstd")]))
    stored = step.packed(BytesSource(text))
    whole = zstandard.compress(text, 3)
    source = BytesSource(stored.read(0, stored.size))

    def ours() -> None:
        for _ in Chain([step]).unpacked(source, len(text)).chunks():
            pass

    def theirs() -> None:
        subprocess.run(["zstd", "-dc"], input=whole, stdout=subprocess.DEVNULL, check=True)

    return pairs("64 MB in Zstandard chunks of 64 KiB, unpacked", ours, "zstd -dc of one stream", theirs, 1.5)


def _split(folder: Path) -> Iterator[Row]:
    """4 GB in four volumes of real bytes; one entry of the first becomes longer."""
    game, rng, volume = folder / "split", np.random.default_rng(4), 1_000_000_000
    game.mkdir()
    table = [("first", 0, 0, 1 << 20)] + [("rest", 0, 1 << 20, volume - (1 << 20))]
    table += [(f"v{n}", n, 0, volume) for n in range(1, 4)]
    records = b"".join(struct.pack("<16sHQQ", p.encode(), v, a, s) for p, v, a, s in table)
    (game / "x.split").write_bytes(struct.pack("<2sI", b"SP", len(table)) + records)
    for n in range(4):
        with open(game / f"x.{n:02}", "wb") as out:
            for _ in range(volume // 20_000_000):
                out.write(rng.bytes(20_000_000))
    known, copy, out = Known([load_layout(SPLIT)]), folder / "copy", folder / "out"
    new = BytesSource(rng.bytes(2 << 20))
    written = 0

    def ours() -> None:
        nonlocal written
        archive = Spot.file(GameFolder(game), "x.split", known).opened
        assert archive is not None
        built = archive.rebuild({0: new})
        written = built.source.size + sum(b.source.size for b in built.others.values())
        write_file(built.source, out / "x.split")
        for name, other in built.others.items():
            write_file(other.source, out / name)

    def theirs() -> None:
        subprocess.run(["cp", "--reflink=never", game / "x.00", copy / "x.00"], check=True)
        subprocess.run(["sync", copy / "x.00"], check=True)

    row = pairs(
        "rebuild of 4 GB in four volumes, one entry of the first",
        ours,
        "cp and sync of that volume",
        theirs,
        1.5,
        5,
        _fresh(folder, "copy", "out"),
    )
    row.note += f"; {written / 1e9:.3f} of 4 GB written"
    yield row
    done = subprocess.run(
        [sys.executable, "-m", "bench.archives", game, out], check=True, capture_output=True, text=True
    )
    grown = json.loads(done.stdout)["grown"]
    yield Row("memory of that rebuild above the warmed idle process", "none: MB", [grown / 1e6], 64, unit="MB")
    _fresh(folder, "copy", "out", "split")()


def _looking(folder: Path) -> Iterator[Row]:
    """A page of bytes anywhere in 4 GB against one at the beginning."""
    place = folder / "huge.bin"
    with open(place, "wb") as out:
        out.truncate(4 << 30)
    with FileSource(place) as source:
        shift = 0

        def read(start: int) -> None:
            nonlocal shift
            for n in range(400):
                shift = (shift + 4096) % (1 << 28)
                source.read(start + shift + n * 4096, 4096)

        before = status("VmRSS")
        yield pairs(
            "bytes on screen: jumps in the last part of 4 GB", lambda: read(3 << 30), "jumps near", lambda: read(0), 1.5
        )
        grown = max(0.0, (status("VmRSS") - before) / 1e6)
    yield Row("memory that these jumps take", "none: MB", [grown], 16, unit="MB")
    place.unlink()


def main() -> None:
    """In a process of its own: rebuild the split archive, print by how much the peak memory has grown."""
    import os

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from zubret_core.compiled import load

    load()
    game, out = Path(sys.argv[1]), Path(sys.argv[2])
    known = Known([load_layout(SPLIT)])
    Path("/proc/self/clear_refs").write_text("5")
    idle = status("VmRSS")
    archive = Spot.file(GameFolder(game), "x.split", known).opened
    assert archive is not None
    built = archive.rebuild({0: BytesSource(bytes(2 << 20))})
    for name, other in built.others.items():
        write_file(other.source, out / name)
    print(json.dumps({"grown": status("VmHWM") - idle}))


if __name__ == "__main__":
    main()
