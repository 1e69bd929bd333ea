"""What a rebuild is asked for, and what it will write."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..base import Format
from ..locate import Locator
from ..locate.spot import IN, Step
from ..source import Built, Segment, Source
from .account import Account
from .suspects import Suspect


@dataclass(frozen=True)
class StreamSwap:
    """A prepared replacement: where it goes, its payload on disk, its format, and how well it was encoded."""

    locator: Locator
    payload: Path
    format: Format
    snr_db: float


@dataclass(frozen=True)
class EntryFile:
    """A file that becomes an entry as it is: in the place of entry number `index`, or as a new one (None).

    inside: the entries on the way to the archive that holds it, none for the file `archive` itself. path: what the
    archive calls the entry.
    """

    archive: str
    path: str
    index: int | None
    content: Path
    inside: tuple[Step, ...] = ()

    def __str__(self) -> str:
        return IN.join([self.archive, *(path for path, _ in self.inside), self.path])


@dataclass
class FilePlan:
    """One file of the game that will be written anew; belongs_to names the archive, or the way, that it goes with.

    A file that is not there yet: of names the archive whose entries it holds, only are their numbers in its order, entry is
    the one that it is by itself, base is what its bytes are compared with. gone: it is set aside, and nothing is written.
    """

    path: str
    before: list[Segment]
    built: Built
    swaps: list[StreamSwap]
    size_before: int
    entries: int
    files: Sequence[EntryFile] = ()
    belongs_to: str = ""
    lists: tuple[str, ...] = ()
    """Files whose lines change here."""
    accounts: Sequence[Account] = ()
    """Of what is inside it and can't be seen in its own bytes, or whose parts have to be found in them."""
    suspects: Sequence[Suspect] = ()
    """Numbers that no tie explains but that say where something stood that moves."""
    of: str = ""
    only: Sequence[int] | None = None
    entry: Step | None = None
    base: Source | None = None
    base_path: str = ""
    """Where the base is, if that is a file of the game other than this one."""
    gone: bool = False
    note: str = ""
    """What it is there for, in words, where neither a stream nor an entry says so."""
    way: str = ""
    """By which of the game's ways it is taken, in words; "" for the place of the old file."""
    finish: Callable[[Path], Source] | None = None
    """Gives the file's bytes once the others stand in an output folder, where it depends on them."""

    @property
    def size(self) -> int:
        """Bytes of the new file."""
        return self.built.source.size
