"""A Range request in the middle of a long stream against one in a short stream, over HTTP."""

from __future__ import annotations

import http.client
import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from standin.formats import ADPCM, Sound, crate
from standin.formats import bell as make_bell

from .pairs import Row, pairs

RATE, BLOCK = 24000, 512
PIECE = 1 << 16


class _Ready(Sound):
    """A stream whose payload is given as it is: an hour of noise need not be encoded."""

    def payload(self) -> bytes:
        blocks = -(-len(self.pcm) // 1017)
        data = np.random.default_rng(self.id).integers(0, 256, (blocks, BLOCK)).astype(np.uint8)
        data[:, 2:4] = 0
        return data.tobytes()


def rows(folder: Path) -> Iterator[Row]:
    """64 KiB from the middle, at a new place each time."""
    game = folder / "game"
    game.mkdir()
    lengths = {1: 60, 2: 3600}
    sounds = [_Ready(i, np.zeros((s * RATE, 1), np.int16), RATE, None, ADPCM, BLOCK) for i, s in lengths.items()]
    (game / "long.crate").write_bytes(crate("x", [("long.bell", make_bell("long", sounds), False)]))
    with served(folder, game) as connection:
        streams = get(connection, "/api/games/1/streams?sort=length")
        addresses = [r["audio"] for r in json.loads(streams)["rows"]]
        sizes = [44 + s * RATE * 2 for s in lengths.values()]
        shift = 0

        def ask(which: int) -> None:
            nonlocal shift
            shift += 4096
            for n in range(20):
                at = sizes[which] // 2 + (shift + n * 1777) % (sizes[which] // 4)
                data = get(connection, f"/api/audio/{addresses[which]}/wav", f"bytes={at}-{at + PIECE - 1}")
                assert len(data) == PIECE

        what = "Range request, middle of a 60-minute stream"
        yield pairs(what, lambda: ask(1), "the same of a 1-minute stream", lambda: ask(0), 1.5, 9)


@contextmanager
def served(folder: Path, game: Path) -> Iterator[http.client.HTTPConnection]:
    """A server of its own with a surveyed game, and a connection to it."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    env = {
        **os.environ,
        "ZUBRET_DATA_DIR": str(folder / "data"),
        "ZUBRET_LIBRARY_ROOTS": str(folder),
        "ZUBRET_PORT": str(port),
    }
    for arguments in (["prepare"], ["register_game", str(game)]):
        subprocess.run([sys.executable, "manage.py", *arguments], env=env, check=True)
    server = subprocess.Popen([sys.executable, "-m", "server.serve"], env=env)
    try:
        yield _connect(port)
    finally:
        server.terminate()
        server.wait()


def _connect(port: int) -> http.client.HTTPConnection:
    for _ in range(200):
        connection = http.client.HTTPConnection("127.0.0.1", port)
        try:
            connection.connect()
            return connection
        except OSError:
            time.sleep(0.1)
    raise SystemExit("the server did not start")


def get(connection: http.client.HTTPConnection, path: str, part: str = "") -> bytes:
    """The body of a GET, or of one part of it."""
    connection.request("GET", path, headers={"Range": part} if part else {})
    return connection.getresponse().read()
