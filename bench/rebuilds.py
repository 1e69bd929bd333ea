"""Rebuilding an archive of 2 GB with one changed entry, against cp and sync of the same file."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from time import sleep

import numpy as np

from standin.formats import Sound, bell
from zubret_core.base import Format
from zubret_core.codec import CODECS
from zubret_core.container import GameFolder
from zubret_core.locate import Locator
from zubret_core.rebuild import Prover, StreamSwap, expectation, plan_rebuild, write_plan

from .pairs import Row, pairs

SIZE = 2_000_000_000
ZIP_MEMBERS = 200_000


def noise(frames: int, channels: int, seed: int = 1) -> np.ndarray:
    """int16 (frames, channels)."""
    return np.random.default_rng(seed).integers(-8000, 8000, (frames, channels)).astype(np.int16)


def large_archive(place: Path, least: int = SIZE) -> None:
    """A bank, then fillers of random bytes, each of at most 2 GB or so; real bytes, no holes."""
    bank = bell("first", [Sound(1, noise(20_000, 2), 48000, block=2048)])
    body = bank + bytes(-len(bank) % 2048)
    records = struct.pack("<56sIIIHHI", b"first.bell", 1, len(bank), len(bank), 0, 0, zlib.crc32(bank))
    rng, count, written = np.random.default_rng(1), 1, 0
    with open(place, "wb") as out:
        out.write(bytes(2048) + body)
        while written < least:
            begin, crc, size = out.tell() // 2048, 0, 0
            while size < SIZE and written < least:
                piece = rng.bytes(1 << 24)
                crc = zlib.crc32(piece, crc)
                out.write(piece)
                size += len(piece)
                written += len(piece)
            records += struct.pack("<56sIIIHHI", b"filler %d" % count, begin, size, size, 0, 0, crc)
            count += 1
        sector = out.tell() // 2048
        out.write(records + bytes(-len(records) % 2048))
        sectors = out.tell() // 2048
        out.seek(0)
        out.write(struct.pack("<4sHHIIII24s", b"SFCR", 3, 0, count, sector, zlib.crc32(records), sectors, b"bench"))


def large_zip(place: Path) -> None:
    """A ZIP file with as many members of the same names."""
    with zipfile.ZipFile(place, "w") as pack:
        for n in range(ZIP_MEMBERS):
            pack.writestr(f"sound/bank_{n // 500:03}/cue_{n:06}.bin", b"x")


def prepared(folder: Path) -> StreamSwap:
    """A longer stream for the bank, so that everything behind it moves."""
    format = Format("ima-adpcm", 48000, 2, 60_000, None, 2048)
    pcm = noise(60_000, 2, seed=9)
    (folder / "new.payload").write_bytes(CODECS["ima-adpcm"].encode(pcm, format))
    locator = Locator("large.crate", (("first.bell", 0),), "0001", 0)
    return StreamSwap(locator, folder / "new.payload", format, 0.0)


def rows(folder: Path) -> Iterator[Row]:
    """Time in interleaved pairs, fsync included; then memory above an idle, warmed process."""
    game = folder / "game"
    game.mkdir()
    place = game / "large.crate"
    large_archive(place)
    swap = prepared(folder)
    out, copy = folder / "out", folder / "copy.crate"

    def ours() -> None:
        write_plan(plan_rebuild(GameFolder(game), [swap]), out)

    def theirs() -> None:
        subprocess.run(["cp", "--reflink=never", place, copy], check=True)
        subprocess.run(["sync", copy], check=True)

    def clear() -> None:
        (out / "large.crate").unlink(missing_ok=True)
        copy.unlink(missing_ok=True)
        subprocess.run(["sync"], check=True)

    yield pairs(
        "rebuild of 2 GB, one entry changed, all moved", ours, "cp --reflink=never, sync FILE", theirs, 1.2, 5, clear
    )
    clear()
    plans = plan_rebuild(GameFolder(game), [swap])
    write_plan(plans, out)
    subprocess.run(["cp", place, copy], check=True)
    expected = expectation(GameFolder(game), out, plans)

    waiting: list[Prover] = []

    def start() -> None:
        while waiting:
            waiting.pop().__exit__()
        waiting.append(Prover())
        sleep(3)  # as long as it takes to start while the files are written

    def proof() -> None:
        bad = [p for p in waiting[0].prove(expected) if not p.ok]
        assert not bad, bad

    yield pairs(
        "its proof, by a process started while it was written", proof, "cmp of two files of 2 GB",
        lambda: subprocess.run(["cmp", place, copy], check=True), 1.6, 5, start,
    )  # fmt: skip
    waiting.pop().__exit__()
    clear()
    done = subprocess.run(
        [sys.executable, "-m", "bench.rebuilds", folder], check=True, capture_output=True, text=True, cwd=Path.cwd()
    )
    grown = json.loads(done.stdout)["grown"]
    yield Row("memory of that rebuild above the warmed idle process", "none: MB", [grown / 1e6], 64, unit="MB")


def status(key: str) -> int:
    """A figure of /proc/self/status in bytes."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith(key))


def main() -> None:
    """In a process of its own: warm, note the memory, rebuild, print by how much the peak has grown."""
    import os

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from zubret_core.compiled import load

    load()
    folder = Path(sys.argv[1])
    Path("/proc/self/clear_refs").write_text("5")  # begin the high-water mark anew
    idle = status("VmRSS")
    write_plan(plan_rebuild(GameFolder(folder / "game"), [prepared(folder)]), folder / "out")
    print(json.dumps({"grown": status("VmHWM") - idle}))


if __name__ == "__main__":
    main()
