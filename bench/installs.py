"""Installing a large archive and restoring it: bytes that reach the disk against those that have to, time against cp and sync."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from zubret_core.container import GameFolder
from zubret_core.install import Store, Wanted, install, restore

from .pairs import Row, pairs

SIZE, ROUNDS = 2 << 30, 3
"""Bytes of the archive; how often it is installed and restored."""
PIECE = 64 << 20


def noise_file(place: Path, seed: int) -> None:
    """Bytes that no disk packs."""
    rng = np.random.default_rng(seed)
    with open(place, "wb") as out:
        for _ in range(SIZE // PIECE):
            out.write(rng.bytes(PIECE))


def written(act: Callable[[], object]) -> int:
    """Bytes that this process has sent to disks meanwhile (proc_pid_io(5), write_bytes)."""

    def now() -> int:
        lines = Path("/proc/self/io").read_text().splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("write_bytes"))

    before = now()
    act()
    return now() - before


def rows(folder: Path) -> Iterator[Row]:
    """On the same file system: the original is linked, never copied."""
    place, new, copy = folder / "game", folder / "new.crate", folder / "copy.crate"
    place.mkdir()
    noise_file(place / "large.crate", 1)
    noise_file(new, 2)
    subprocess.run(["sync"], check=True)
    game, store = GameFolder(place), Store(folder / "store")
    wanted = {"large.crate": Wanted(new)}
    there, back = [], []
    for _ in range(ROUNDS):
        there.append(written(lambda: install(game, store, wanted)) / SIZE)
        back.append(written(lambda: restore(game, store)) / SIZE)
    yield Row("bytes written to install 2 GB with its backup", "those of the new file", there, 1.1)
    yield Row("bytes written to restore it", "those of the original", back, 1.1)

    def theirs() -> None:
        subprocess.run(["cp", "--reflink=never", new, copy], check=True)
        subprocess.run(["sync", copy], check=True)

    def clear() -> None:
        restore(game, store)
        copy.unlink(missing_ok=True)
        subprocess.run(["sync"], check=True)

    yield pairs(
        "the same in time, digests and reading back included", lambda: install(game, store, wanted),
        "cp --reflink=never, sync FILE", theirs, None, ROUNDS, clear,
    )  # fmt: skip
    clear()
    shutil.rmtree(place)
