"""How a game finds its files, which of them win, and how it takes changes: a text that `describes: game`."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from .terms import Name, Strict

VALUE = "{value}"
"""Stands in a line for what is read from it."""


def _inside(path: str) -> str:
    """A path below the game's folder, as load rules write it."""
    if path == ".":
        return ""
    steps = path.split("/")
    if "\\" in path or path[1:2] == ":" or path.startswith("/") or "" in steps or ".." in steps or "." in steps:
        raise ValueError(f'"{path}" is no path below the game\'s folder: folders stand between single slashes')
    return path


def _line(text: str) -> str:
    if text.count(VALUE) != 1 or text.strip() == VALUE:
        raise ValueError(f'"{text}" needs {VALUE} once, and something beside it that marks the line')
    return text.strip()


GamePath = Annotated[str, AfterValidator(_inside)]
Pattern = Annotated[str, AfterValidator(_inside)]
"""A path in which * stands for any characters of a name, ? for one, and ** for any folders."""


def matcher(pattern: str, case: str = "exact") -> re.Pattern[str]:
    """What a pattern stands for, as a regular expression that a whole path has to match."""
    signs = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
    parts = re.split(r"(\*\*/|\*\*|\*|\?)", pattern)
    text = "".join(signs.get(part) or re.escape(part) for part in parts)
    return re.compile(text, re.IGNORECASE if case == "any" else 0)


class Line(Strict):
    """A line of one of the game's text files, and where in it a value stands."""

    file: GamePath
    line: Annotated[str, AfterValidator(_line)] = Field(description="such as build={value}")

    def values(self, text: str) -> list[str]:
        """What such lines of a text say, in order."""
        before, after = self.line.split(VALUE)
        lines = (line.strip() for line in text.splitlines())
        found = (x[len(before) : len(x) - len(after)] for x in lines if x.startswith(before) and x.endswith(after))
        return [value.strip() for value in found if value.strip()]

    def said(self, value: str) -> str:
        """The line that says this value."""
        return self.line.replace(VALUE, value)


class Known(Strict):
    """A file that every copy of the game has, and a line that stands in it."""

    file: GamePath
    line: str = Field("", max_length=400)


class Paths(Strict):
    """When two paths are the same to the game."""

    case: Literal["exact", "any"] = Field("exact", description="any: capitals make no difference")
    slashes: Literal["/", "any"] = Field("/", description="any: a backslash stands between folders, too")


class NewPlace(Strict):
    """That, and how, something new may be put where the game reads."""

    file: Pattern | None = Field(None, description="of a new archive; with {number} or {number:02}")
    first: int = Field(1, ge=0, le=9999)
    last: int = Field(99, ge=0, le=9999)
    like: str = Field("", description="a template: zip, tar, or an archive of the game; left out: the changed one")
    largest: int | None = Field(None, ge=1, description="bytes that a new archive may have")
    folder: GamePath | None = Field(None, description="of a new folder that a line is to name")
    under: str = Field("", description="the line behind which the new line goes; left out: at the end")
    by_hand: list[str] = Field([], description="what only a person can do, for this way")

    @model_validator(mode="after")
    def _numbered(self):
        if self.file is not None:
            if not re.fullmatch(r"[^{}]*\{number(:0\d)?\}[^{}]*", self.file):
                raise ValueError("`file` of a new archive needs {number} or {number:02} once")
            if self.last < self.first:
                raise ValueError("`last` is less than `first`")
        return self


class Reads(Strict):
    """Something that the game reads files from: archives, or a folder. What stands further down in the list wins."""

    name: Name
    title: str = Field("", max_length=100)
    archives: Pattern | None = Field(None, description="which files are such archives")
    listed: Line | None = Field(None, description="archives by the lines of a text file, in their order")
    order: Literal["name", "number"] = Field("name", description="of several archives: the last one wins")
    files: GamePath | None = Field(None, description="a folder of loose files; . is the game's own")
    folders: Line | None = Field(None, description="folders of loose files by the lines of a text file")
    only_without: Pattern | None = Field(None, description="it is read only while no such file is there")
    root: GamePath = Field("", description="where in the game's paths its own begin")
    new: NewPlace | None = Field(None, description="changes may be put here")

    @property
    def of_archives(self) -> bool:
        """Whether these are archives, and not folders."""
        return self.archives is not None or self.listed is not None

    @property
    def shown(self) -> str:
        """What people call it."""
        return self.title or self.name


class Beside(Strict):
    """A file that belongs to archives by its name."""

    of: Pattern
    name: str = Field(min_length=1, max_length=200, description="with {name} or {stem} of the archive")
    changed: Literal["stays", "goes"] = Field("stays", description="what becomes of it when the archive changes")
    new: str | None = Field(None, max_length=4096, description="what it holds beside a new archive, as text")

    def of_file(self, path: str) -> str:
        """Its path, beside an archive."""
        folder, slash, name = path.rpartition("/")
        return f"{folder}{slash}{self.name.format(name=name, stem=name.rpartition('.')[0] or name)}"

    @model_validator(mode="after")
    def _named(self):
        if "/" in self.name or "\\" in self.name or re.search(r"[{}]", re.sub(r"\{(stem|name)\}", "", self.name)):
            raise ValueError("a companion's name has no slash, and only {name} or {stem} in braces")
        return self


class LoadRules(Strict):
    """How a kind of game finds and ranks its files, and how it takes changes."""

    zubret: Literal[1]
    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=60)
    title: str = ""
    describes: Literal["game"]
    recognise: list[Known] = Field(min_length=1, max_length=16, description="all of these are there")
    build: Line | None = None
    paths: Paths = Paths()
    reads: list[Reads] = Field(min_length=1, max_length=64, description="from the weakest to the strongest")
    in_place: bool = Field(True, description="whether a changed archive may stand in the place of the old one")
    beside: list[Beside] = Field(default=[], max_length=16)
    by_hand: list[str] = Field(default=[], max_length=16, description="what only a person can do, for every way")

    def named(self, name: str) -> Reads | None:
        """What is read, by its name."""
        return next((one for one in self.reads if one.name == name), None)
