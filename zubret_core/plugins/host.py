"""The process in which one plug-in works: python -m zubret_core.plugins.host GROUP NAME.

It reads requests from its input and answers on its output, each a length of four bytes (little-endian), so many bytes of JSON, and
the bytes that the JSON counts. docs/plug-ins.md says what a plug-in has to have. What it prints goes to its error output.
"""

from __future__ import annotations

import json
import os
import struct
import sys
from importlib.metadata import entry_points
from typing import IO, Any

MEMORY = 4 << 30
"""Bytes of memory that a plug-in may take, where the system can be told."""


def _bounded() -> None:
    try:
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    except (ImportError, OSError, ValueError):
        pass


def read_message(file: IO[bytes]) -> tuple[dict[str, Any], bytes] | None:
    """One message; None at the end of the input."""
    head = file.read(4)
    if len(head) < 4:
        return None
    said = json.loads(file.read(struct.unpack("<I", head)[0]))
    data = file.read(said["bytes"])
    return (said, data) if len(data) == said["bytes"] else None


def write_message(file: IO[bytes], said: dict[str, Any], data: bytes) -> None:
    """Write one message."""
    text = json.dumps({**said, "bytes": len(data)}).encode()
    file.write(struct.pack("<I", len(text)) + text)
    file.write(data)
    file.flush()


def _answered(maker: Any, made: dict[str, Any], said: dict[str, Any], data: bytes) -> bytes:
    key = json.dumps(said["settings"], sort_keys=True)
    if key not in made:
        made[key] = maker(**said["settings"])
    thing, do = made[key], said["do"]
    if do == "has":
        return b"1" if hasattr(thing, said["method"]) else b""
    out = getattr(thing, do)(data, *said["more"])
    if isinstance(out, int):
        out = str(out).encode()
    if not isinstance(out, bytes | bytearray | memoryview):
        raise TypeError(f"{do} gave {type(out).__name__} and no bytes")
    if len(out) > said["most"]:
        raise ValueError(f"{do} gave {len(out):,} bytes, but at most {said['most']:,} are wanted")
    return bytes(out)


def main() -> None:
    group, name = sys.argv[1:3]
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    _bounded()
    maker, made = next(e for e in entry_points(group=group) if e.name == name).load(), dict[str, Any]()
    while (message := read_message(sys.stdin.buffer)) is not None:
        try:
            write_message(answers, {"error": ""}, _answered(maker, made, *message))
        except Exception as e:  # whatever a plug-in raises is told
            write_message(answers, {"error": f"{type(e).__name__}: {e}"[:500]}, b"")


if __name__ == "__main__":
    main()
