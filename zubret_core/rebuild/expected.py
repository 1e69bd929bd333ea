"""What a proof has to know, as JSON, and the new process that gets it."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from ..base import Progress, ZubretError, silent
from ..container import GameFolder, SetBack
from ..locate.spot import Step
from ..source import BytesSource, FileSource
from .account import Account, AccountTold
from .planned import FilePlan
from .suspects import Suspect


@dataclass(frozen=True)
class ProofPoint:
    """One measured fact: `found` against `expected`, in words and numbers. doubt: it holds, but should be looked at."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool
    doubt: bool = False


@dataclass(frozen=True)
class ExpectedEntry:
    """An entry that was given as a file. inside: the entries on the way to its archive; index: which it replaces, None for
    one that was added; content: the path of the given file."""

    inside: tuple[Step, ...]
    index: int | None
    path: str
    content: str


@dataclass(frozen=True)
class ExpectedSwap:
    """A stream that was swapped. format: as `Format.as_dict` gives it; payload: the path of the prepared file."""

    entries: tuple[Step, ...]
    ordinal: int
    name: str
    format: dict[str, Any]
    payload: str
    snr_db: float


@dataclass(frozen=True)
class ExpectedFile:
    """A file that was written; see `FilePlan`."""

    path: str
    size: int
    files: list[ExpectedEntry]
    belongs_to: str
    lists: list[str]
    accounts: list[AccountTold]
    suspects: list[Suspect]
    swaps: list[ExpectedSwap]
    of: str = ""
    only: list[int] | None = None
    entry: Step | None = None
    base_path: str = ""


@dataclass(frozen=True)
class Expectation:
    """What a proof has to know: the game's folder and that of the rebuilt files.

    changed, originals: files of the game that an install has changed, and the folder in which they are as they were; layouts: the texts of layouts besides the shipped ones; keys: by archive path, the keys (hexadecimal) by their
    names in its layout; names: by archive path, the names of entries by their ids; pins: the layouts that were chosen, by path; deep: decode what nobody touched,
    too, in every bank that was rebuilt.
    """

    game: str
    changed: list[str]
    originals: str
    out: str
    deep: bool
    layouts: list[str]
    keys: dict[str, dict[str, str]]
    names: dict[str, dict[str, str]]
    files: list[ExpectedFile]
    pins: dict[str, str] = field(default_factory=dict)

    def folder(self) -> GameFolder:
        """The game as it is without anything installed."""
        return (
            SetBack(Path(self.game), Path(self.originals), self.changed)
            if self.changed
            else GameFolder(Path(self.game))
        )

    def as_json(self) -> str:
        """For the process that proves."""
        return json.dumps(asdict(self))

    @classmethod
    def from_json(cls, text: str) -> Expectation:
        """The inverse of `as_json`."""
        return TypeAdapter(cls).validate_python(json.loads(text))


def expectation(
    game: GameFolder,
    out: Path,
    plans: Sequence[FilePlan],
    layouts: Sequence[str] = (),
    keys: Mapping[str, Mapping[str, str]] | None = None,
    names: Mapping[str, Mapping[str, str]] | None = None,
    deep: bool = False,
    pins: Mapping[str, str] | None = None,
) -> Expectation:
    """What the proof of these plans has to know."""
    changed = game if isinstance(game, SetBack) else None
    return Expectation(
        str(game.folder),
        sorted(changed.changed) if changed else [],
        str(changed.originals) if changed else "",
        str(out),
        deep,
        list(layouts),
        {path: dict(named) for path, named in (keys or {}).items()},
        {path: dict(by_id) for path, by_id in (names or {}).items()},
        [_expected(game, p) for p in plans if not p.gone],
        dict(pins or {}),
    )


def _expected(game: GameFolder, plan: FilePlan) -> ExpectedFile:
    base = plan.base
    if base is None:
        place = game.locate(plan.path)
        base = FileSource(place, plan.path) if place.is_file() else BytesSource(b"", plan.path)
    return ExpectedFile(
        path=plan.path,
        size=plan.size,
        files=[ExpectedEntry(tuple(f.inside), f.index, f.path, str(f.content)) for f in plan.files],
        belongs_to=plan.belongs_to,
        lists=list(plan.lists),
        accounts=[a.told() for a in (Account(plan.built.source, base), *plan.accounts)],
        suspects=list(plan.suspects),
        swaps=[
            ExpectedSwap(
                s.locator.entries, s.locator.ordinal, str(s.locator), s.format.as_dict(), str(s.payload), s.snr_db
            )
            for s in plan.swaps
        ],
        of=plan.of,
        only=None if plan.only is None else list(plan.only),
        entry=plan.entry,
        base_path=plan.base_path,
    )


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

    def prove(self, expected: Expectation, progress: Progress = silent) -> list[ProofPoint]:
        """The points of the proof; once for each process."""
        program = self._program
        assert program.stdin and program.stdout and program.stderr
        with suppress(BrokenPipeError):  # it has ended; its last line says why
            program.stdin.write(expected.as_json())
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


def prove_in_new_process(expected: Expectation, progress: Progress = silent) -> list[ProofPoint]:
    """Run the proof as a program of its own."""
    with Prover() as prover:
        return prover.prove(expected, progress)
