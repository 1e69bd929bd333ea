"""What a game reads its files from, in which order, and who wins: load rules met with a game's folder.

Every place from which a game reads, an archive or a folder, holds files by paths of its own. Its root in front of them gives the
game's path of a file; of several places that hold the same, the strongest wins.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass

from ..base import Kept, ZubretError
from ..container import GameFolder
from ..layout import LoadRules
from ..layout.language.load_rules import VALUE, Line, Paths, Reads, matcher

LARGEST = 1 << 20
"""Bytes of a text file that load rules may name."""
LAST_NUMBER = re.compile(r"\d+(?=\D*$)")


@dataclass(frozen=True)
class Mount:
    """A place that a game reads from. rank: the higher wins; path: the archive, or the folder of loose files ("" for the game's
    own); rule: the load rules' word on it."""

    rank: int
    path: str
    rule: Reads

    @property
    def archive(self) -> bool:
        """Whether it is an archive, and not a folder."""
        return self.rule.of_archives

    def outer(self, path: str) -> str:
        """The game's path of a file of this place."""
        return f"{self.rule.root}/{path}" if self.rule.root else path


class LoadOrder:
    """All that a game reads from, from the weakest to the strongest, as its files are now."""

    def __init__(self, rules: LoadRules, game: GameFolder, files: Iterable[str] | None = None):
        """files: all files of the game, where they are known already."""
        self.rules, self.game = rules, game
        self._exactly = rules.paths == Paths()
        self.files = found = sorted(file.path for file in game.files()) if files is None else sorted(files)
        self.mounts: list[Mount] = []
        for rule in rules.reads:
            if rule.only_without and any(matcher(rule.only_without, rules.paths.case).fullmatch(f) for f in found):
                continue
            for path in self._places(rule, found):
                self.mounts.append(Mount(len(self.mounts), path, rule))

    def _places(self, rule: Reads, files: Sequence[str]) -> list[str]:
        if rule.files is not None:
            return [rule.files]
        if rule.archives is not None:
            pattern = matcher(rule.archives, self.rules.paths.case)
            return self.sorted((f for f in files if pattern.fullmatch(f)), rule)
        line = rule.listed or rule.folders
        assert line is not None
        folder = line.file.rpartition("/")[0] if rule.listed else ""
        named = (f"{folder}/{value}" if folder else value for value in self.said(line))
        there = set(files)
        return list(dict.fromkeys(n for n in map(self.slashes, named) if rule.folders or n in there))

    def sorted(self, archives: Iterable[str], rule: Reads) -> list[str]:
        """Archives of one kind from the weakest to the strongest."""
        return sorted(archives, key=_numbered if rule.order == "number" else self.same)

    def said(self, line: Line) -> list[str]:
        """The values that lines of one of the game's text files say; none where it is not there."""
        return line.values(text_of(self.game, line.file))

    def slashes(self, path: str) -> str:
        """A path as the game's own files are named: without backslashes, where these stand between folders, too."""
        return (path.replace("\\", "/") if self.rules.paths.slashes == "any" else path).strip("/")

    def same(self, game_path: str) -> str:
        """A text that is equal for all paths that are the same to the game."""
        if self._exactly:
            return game_path
        path = game_path.replace("\\", "/") if self.rules.paths.slashes == "any" else game_path
        return path.casefold() if self.rules.paths.case == "any" else path

    def inner(self, mount: Mount, game_path: str) -> str | None:
        """What a place calls a file that the game knows by this path; None for one that it can't hold."""
        root = mount.outer("")
        return game_path[len(root) :] if self.same(game_path[: len(root)]) == self.same(root) else None

    def meet(self, one: Mount, other: Mount) -> bool:
        """Whether two places may hold files of the same path."""
        roots = [self.same(mount.outer("")) for mount in (one, other)]
        return roots[0].startswith(roots[1]) or roots[1].startswith(roots[0])

    def of(self, path: str) -> Mount | None:
        """The archive at a path of the folder, as the game reads it; None where the load rules know none."""
        return next((m for m in self.mounts if m.archive and m.path == path), None)

    def would_be(self, path: str) -> Mount | None:
        """Where the game would read an archive that is not there, by its path."""
        for rule in self.rules.reads:
            if rule.archives is not None and matcher(rule.archives, self.rules.paths.case).fullmatch(path):
                return Mount(-1, path, rule)
        return None

    def holding(self, path: str) -> Iterator[tuple[Mount, str]]:
        """The folders that hold a file of the game's folder loose, with the path that the game knows it by."""
        for mount in self.mounts:
            below = f"{mount.path}/" if mount.path else ""
            if not mount.archive and path.startswith(below):
                yield mount, mount.outer(path[len(below) :])


def why(winner: Mount, other: Mount) -> str:
    """The rule by which one place wins over another."""
    if winner.rule is not other.rule:
        return f"the game reads {winner.rule.shown} after {other.rule.shown}"
    if winner.rule.archives is not None:
        how = "the highest number" if winner.rule.order == "number" else "the last by name"
        return f"of {winner.rule.shown}, {how} wins"
    return f"of {winner.rule.shown}, the last that a line names wins"


def _numbered(path: str) -> tuple[int, str]:
    number = LAST_NUMBER.search(path.rpartition("/")[2])
    return (int(number[0]) if number else -1), path


_texts: Kept[tuple[str, int, int], str] = Kept(64)
"""Text files of games, by place, size and time: each is asked for by many, and most never change."""


def text_of(game: GameFolder, path: str) -> str:
    """A small text file of a game; "" where it is not there or no text."""
    with suppress(ZubretError, OSError):
        place = game.locate(path)
        stat = place.stat()
        if place.is_file() and stat.st_size <= LARGEST:
            key = str(place), stat.st_size, stat.st_mtime_ns
            return _texts.made(key, lambda: place.read_text("utf-8-sig", "replace"))
    return ""


def recognised(rules: LoadRules, game: GameFolder) -> bool:
    """Whether a folder is that of such a game: all files that its load rules name are there, with their lines."""
    for known in rules.recognise:
        with suppress(ZubretError, OSError):
            if game.locate(known.file).is_file():
                lines = {line.strip() for line in text_of(game, known.file).splitlines()} if known.line else {""}
                if known.line.strip() in lines:
                    continue
        return False
    return True


def build_of(rules: LoadRules, game: GameFolder) -> str:
    """Which build of a game a folder holds, as far as its load rules tell; else nothing."""
    said = rules.build.values(text_of(game, rules.build.file)) if rules.build else []
    return said[0][:60] if said else ""


TELLING = (".ini", ".cfg", ".txt", ".json", ".xml", ".exe", ".sh")
"""Endings of files that often tell a game, the likeliest first; common practice."""
_BUILD = re.compile(r"(?im)^[ \t]*((?:build|version)[ \t]*[=:][ \t]*)(\S+)[ \t]*$")


def drafted(title: str, game: GameFolder, files: Sequence[str], archives: Sequence[str]) -> str:
    """Load rules to begin with, from what is in a folder: a file that tells the game, its build where a line says it, and its archives
    by name; those with numbers behind those without, since such are mostly patches (common practice)."""
    telling = [f for ending in TELLING for f in files if "/" not in f and f.endswith(ending)] or sorted(files)[:1]
    file = telling[0] if telling else "game.ini"
    text = text_of(game, file)
    first = next((line.strip() for line in text.splitlines() if line.strip()), "") if "\0" not in text else ""
    known = f"{{file: {_quoted(file)}" + (f", line: {_quoted(first)}}}" if 0 < len(first) <= 200 else "}")
    slug = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:50] or "game"
    lines = ["zubret: 1", f"id: {slug}", f"title: {_quoted(title)}", "describes: game", f"recognise: [{known}]"]
    if said := _BUILD.search(text):
        lines.append(f"build: {{file: {_quoted(file)}, line: {_quoted(said[1].strip() + VALUE)}}}")
    lines += ["", "# From the weakest to the strongest: what stands further down wins.", "reads:"]
    lines.append("  - {name: folder, title: the game's own folder, files: .}")
    groups: dict[str, list[str]] = {}
    for path in archives:
        groups.setdefault(
            LAST_NUMBER.sub("*", path) if LAST_NUMBER.search(path.rpartition("/")[2]) else path, []
        ).append(path)
    taken = {"folder"}
    for pattern in sorted(groups, key=lambda p: ("*" in p, p)):
        stem = re.sub(r"[^a-z0-9]+", "_", pattern.rpartition("/")[2].rpartition(".")[0].lower()).strip("_")
        stem = stem if stem[:1].isalpha() else f"a_{stem}".rstrip("_")
        name = next(n for n in (stem, *(f"{stem}_{k}" for k in range(2, 1000))) if n not in taken)
        taken.add(name)
        order = ", order: number" if "*" in pattern else ""
        lines.append(f"  - {{name: {name}, archives: {_quoted(pattern)}{order}}}")
    lines += [
        "",
        "# Where changes may go besides the place of the old archives, add to one of these, for example:",
        '#   new: {file: "patch_{number:02}.zip"}    to archives: a new one that wins over the others',
        "#   new: {}                                 to files: loose files",
        "# root: sea   in front of an archive's paths, where loose files of it lie in a folder sea",
    ]
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
