"""What load rules must fulfil besides their grammar. Each rule gives the place in the text and one sentence."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from ..language.load_rules import LoadRules, Reads
from .names import Fault, Path


def faults_of_rules(rules: LoadRules) -> Iterator[Fault]:
    """Everything that is wrong with load rules."""
    names = [one.name for one in rules.reads]
    if not rules.in_place and all(one.new is None for one in rules.reads):
        yield ("in_place",), "nothing could be put into this game: allow in_place, or give something that is read `new`"
    for n, one in enumerate(rules.reads):
        where: Path = ("reads", n)
        if names.index(one.name) < n:
            yield (
                where,
                f'"{one.name}" stands twice among what is read (see also {{{("reads", names.index(one.name))}}})',
            )
        kinds = [k for k in ("archives", "listed", "files", "folders") if getattr(one, k) is not None]
        if len(kinds) != 1:
            said = f", not {' and '.join(kinds)}" if kinds else ""
            yield where, f"{one.name} needs exactly one of archives, listed, files and folders{said}"
        if "order" in one.model_fields_set and one.archives is None:
            yield (*where, "order"), "`order` is for several archives; lines and folders have one already"
        if one.new is not None:
            yield from _new(rules, one, (*where, "new"))


def _new(rules: LoadRules, one: Reads, where: Path) -> Iterator[Fault]:
    new = one.new
    assert new is not None
    if one.of_archives and new.file is None:
        yield where, f"{one.name} are archives, so `new` needs `file`, the name of a new one"
    elif not one.of_archives and new.file is not None:
        yield (*where, "file"), f"{one.name} are loose files, so nothing in `new` is an archive"
    if one.listed is not None:
        yield (
            where,
            "an archive that a list has to name can't be put there yet; use a pattern, or a folder that a line names",
        )
    if one.folders is not None and new.folder is None:
        yield where, f"{one.name} are named by lines, so `new` needs `folder`, the name of a new one"
    elif one.folders is None and (new.folder is not None or new.under):
        key = "folder" if new.folder is not None else "under"
        yield (*where, key), f"`{key}` is for folders that a line of a text file names"
    if new.like and new.like not in ("zip", "tar") and "/" not in new.like and "." not in new.like:
        near = difflib.get_close_matches(new.like, ("zip", "tar"), 1)
        hint = f' Did you mean "{near[0]}"?' if near else ""
        yield (*where, "like"), f'"{new.like}" is no template: zip, tar, or the path of an archive of the game.{hint}'
