"""What a proof has to know, as JSON, and the new process that gets it."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from ..base import Progress, ZubretError, silent
from ..source import BytesSource, FileSource, Source
from .account import Account
from .plan import FilePlan


@dataclass(frozen=True)
class ProofPoint:
    """One measured fact: `found` against `expected`, in words and numbers. doubt: it holds, but should be looked at."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool
    doubt: bool = False


def expectation(
    game: Path,
    out: Path,
    plans: Sequence[FilePlan],
    layouts: Sequence[str] = (),
    keys: Mapping[str, Mapping[str, str]] | None = None,
    names: Mapping[str, Mapping[str, str]] | None = None,
    deep: bool = False,
) -> dict[str, Any]:
    """What the proof has to know, as JSON.

    layouts: the texts of layouts besides the shipped ones; keys: by archive path, the keys (hexadecimal) by their
    names in its layout; names: by archive path, the names of entries by their ids; deep: decode what nobody touched,
    too, in every bank that was rebuilt.
    """
    return {
        "game": str(game),
        "out": str(out),
        "deep": deep,
        "layouts": list(layouts),
        "keys": {path: dict(named) for path, named in (keys or {}).items()},
        "names": {path: dict(by_id) for path, by_id in (names or {}).items()},
        "files": [_expected(Path(game), p) for p in plans],
    }


def _expected(game: Path, plan: FilePlan) -> dict[str, Any]:
    place = game / plan.path
    base: Source = FileSource(place, plan.path) if place.is_file() else BytesSource(b"", plan.path)
    return {
        "path": plan.path,
        "size": plan.size,
        "files": [
            {"inside": [list(s) for s in f.inside], "index": f.index, "path": f.path, "content": str(f.content)}
            for f in plan.files
        ],
        "belongs_to": plan.belongs_to,
        "lists": list(plan.lists),
        "accounts": [a.as_dict() for a in (Account(plan.built.source, base), *plan.accounts)],
        "suspects": [asdict(s) for s in plan.suspects],
        "swaps": [
            {
                "entries": [list(step) for step in s.locator.entries],
                "ordinal": s.locator.ordinal,
                "name": str(s.locator),
                "format": s.format.as_dict(),
                "payload": str(s.payload),
                "snr_db": s.snr_db,
            }
            for s in plan.swaps
        ],
    }


class Prover:
    """A new process that proves what was rebuilt; it may start while the files are still being written.

    What it has to know goes to its input, so that no key touches the disk; until then it reads no file of a game.
    """

    def __init__(self) -> None:
        self._program = subprocess.Popen(
            [sys.executable, "-m", "zubret_core.rebuild.prove"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            cwd=Path(__file__).resolve().parents[2],
            text=True,
            encoding="utf-8",
        )

    def __enter__(self) -> Prover:
        return self

    def __exit__(self, *of: object) -> None:
        program = self._program
        if program.poll() is None:
            program.kill()
        program.wait()
        for pipe in (program.stdin, program.stdout, program.stderr):
            if pipe:
                with suppress(OSError):  # what it was not told any more
                    pipe.close()

    def prove(self, expected: dict[str, Any], progress: Progress = silent) -> list[ProofPoint]:
        """The points of the proof; once for each process."""
        program = self._program
        assert program.stdin and program.stdout and program.stderr
        with suppress(BrokenPipeError):  # it has ended; its last line says why
            program.stdin.write(json.dumps(expected))
            program.stdin.close()
        for line in program.stdout:
            message = json.loads(line)
            if "points" in message:
                return [ProofPoint(**p) for p in message["points"]]
            progress(*message["progress"])
        error = program.stderr.read().strip()
        raise ZubretError(
            "The proof ended before it had an answer.",
            field=error.splitlines()[-1][:200] if error else None,
            next="Rebuild again; if it happens twice, the machine may be out of memory.",
        )


def prove_in_new_process(expected: dict[str, Any], progress: Progress = silent) -> list[ProofPoint]:
    """Run the proof as a program of its own."""
    with Prover() as prover:
        return prover.prove(expected, progress)
