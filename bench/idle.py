"""What Zubret takes while nobody uses it: all its processes together."""

from __future__ import annotations

import os
import re
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

from .pairs import Row
from .program import free_port, is_up, launched, until

SECONDS = 30.0


def processes(folder: Path) -> list[Path]:
    """The processes that work in a data folder (Linux's /proc)."""
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            if str(folder).encode() in (entry / "environ").read_bytes():
                found.append(entry)
        except OSError:
            continue
    return found


def _processor(folder: Path) -> float:
    """Seconds of processor that they have taken so far."""
    ticks = 0
    for entry in processes(folder):
        fields = (entry / "stat").read_text().rpartition(") ")[2].split()
        ticks += int(fields[11]) + int(fields[12])
    return ticks / os.sysconf("SC_CLK_TCK")


def _memory(folder: Path) -> float:
    """Megabytes; what several share is counted once (proportional set size)."""
    sizes = (re.search(r"^Pss:\s+(\d+)", (p / "smaps_rollup").read_text(), re.M) for p in processes(folder))
    return sum(int(found[1]) for found in sizes if found) / 1024


def rows(folder: Path) -> Iterator[Row]:
    """Started as a person starts it, then left alone."""
    port = free_port()
    program = launched(folder, port, subprocess.DEVNULL)
    try:
        until(lambda: is_up(f"http://127.0.0.1:{port}"), 120, "the launcher")
        time.sleep(5)
        before = _processor(folder)
        time.sleep(SECONDS)
        share = 100 * (_processor(folder) - before) / SECONDS
        yield Row("memory of all processes, idle", "none", [_memory(folder)], 400, unit="MB")
        yield Row("processor of all processes, idle", "one core", [share], 1, unit="%")
    finally:
        program.terminate()
        program.wait(30)
