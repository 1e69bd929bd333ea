"""Looking for sounds in bytes, against a bare copy; drafts of layouts for large files; restoring what packets leave out."""

from __future__ import annotations

import subprocess
import tracemalloc
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np

from zubret_core.locate.drafts import drafts
from zubret_core.sift import sounds_in
from zubret_core.source import FileSource

from .pairs import Row, pairs, seconds

SIZE = 1 << 30


def rows(folder: Path) -> Iterator[Row]:
    """A gigabyte of noise, one of samples, and one of payloads behind a table."""
    noise, samples, large = folder / "noise.bin", folder / "samples.bin", folder / "large.pak"
    rng = np.random.default_rng(1)
    with noise.open("wb") as out:
        for _ in range(SIZE >> 24):
            out.write(rng.bytes(1 << 24))

    quiet = np.cumsum(rng.integers(-9, 10, 1 << 23)) % 400 - 200
    with samples.open("wb") as out:
        for _ in range(SIZE >> 24):
            out.write(quiet.astype("<i2").tobytes())

    def look(place: Path) -> None:
        with FileSource(place) as file:
            assert not list(sounds_in(file))

    def copy(place: Path) -> None:
        subprocess.run(["cp", place, "/dev/null"], check=True)

    for title, place in (("noise", noise), ("quiet samples of 16 bits", samples)):
        ours, theirs = partial(look, place), partial(copy, place)
        row = pairs(f"1 GB of {title} looked through for sounds", ours, "cp to a null device", theirs, 2.0, count=15)
        tracemalloc.start()
        look(place)
        row.note += f"; at most {tracemalloc.get_traced_memory()[1] / 1e6:.1f} MB of Python's memory"
        tracemalloc.stop()
        yield row
    samples.unlink()

    count = 1024
    each = SIZE // count
    with large.open("wb") as out:
        head = b"".join(
            f"deck/{n:05}.dat".encode().ljust(32, b"\0")
            + (65536 + n * each).to_bytes(4, "little")
            + each.to_bytes(4, "little")
            for n in range(count)
        )
        out.write((b"HOLD" + count.to_bytes(4, "little") + head).ljust(65536, b"\0"))
        for _ in range(SIZE >> 24):
            out.write(rng.bytes(1 << 24))
    for title, place in (("with a table", large), ("of noise", noise)):
        with FileSource(place) as file:
            found = drafts(place.name, file)
            took = [seconds(lambda file=file, place=place: drafts(place.name, file)) for _ in range(5)]
        note = f"{found[0].items:,} entries, {found[0].share:.1%} explained" if found else "nothing is drafted"
        yield Row(f"drafts of a layout for 1 GB {title}", "none: seconds", took, 2.0, note, "s")
