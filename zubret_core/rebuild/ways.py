"""The ways in which a game takes changes other than in the place of its own archives, by its load rules: a new archive that wins
over the others, loose files for which archives are set aside, and a folder that a line of a text file names."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import partial

from ..base import ZubretError, once
from ..container import Container, NewEntry, TarArchive, ZipArchive
from ..layout.language.load_rules import NewPlace, matcher
from ..locate import Holders, Known, LoadOrder, Mount, Spot
from ..locate.reads import LARGEST
from ..source import Built, BytesSource, ChainSource, DiskCache, Later, Part, Segment
from .planned import EntryFile, FilePlan, StreamSwap
from .rebuilder import Changes, Rebuilder

EMPTY = {"zip": b"PK\5\6" + bytes(18), "tar": bytes(10240)}
"""Archives without an entry: the end record of PKWARE's APPNOTE 4.3.16, and two blocks of zeros in a record of 20 (POSIX ustar)."""


@dataclass
class _Taken:
    """An archive whose changes go another way, and where the game reads it."""

    path: str
    mount: Mount
    spot: Spot
    changes: Changes
    work: Rebuilder
    swaps: list[StreamSwap]
    files: list[EntryFile]

    def of_entry(self, index: int) -> tuple[list[StreamSwap], list[EntryFile]]:
        """What was asked for of one entry."""
        swaps = [s for s in self.swaps if s.locator.entries[0][1] == index]
        files = [f for f in self.files if (f.inside[0][1] if f.inside else f.index) == index]
        return swaps, files


class Ways:
    """The changes of a rebuild, as one of the game's ways takes them."""

    def __init__(self, order: LoadOrder, way: str, known: Known, cache: DiskCache | None):
        rule = order.rules.named(way)
        if rule is None or rule.new is None:
            raise ZubretError(
                f'The load rules of this game have no way "{way}".',
                field=way,
                next="Choose another way, under Rebuild.",
            )
        self.order, self.rule, self.known, self.cache = order, rule, known, cache
        self.holders = Holders(order, known, cache)
        self._taken: list[_Taken] = []

    # Whether it can be taken ------------------------------------------------------------------------

    def takes(self, path: str, archive: Container) -> bool:
        """Whether changes of a file of the game can go this way."""
        mount = self._mount(path, archive)
        return (
            mount is not None
            and self.order.same(self.rule.root) in ("", self.order.same(mount.rule.root))
            and not (self.rule.of_archives and archive.kind == "file")
        )

    def _mount(self, path: str, archive: Container) -> Mount | None:
        if archive.kind != "file":
            return self.order.of(path)
        return next((mount for mount, _ in self.order.holding(path)), None)

    def refused(self) -> str:
        """Why a file is changed in its own place all the same."""
        return f"{self.rule.shown} can't take it: in the place of the old file"

    def take(
        self, path: str, spot: Spot, changes: Changes, work: Rebuilder, swaps: list[StreamSwap], files: list[EntryFile]
    ) -> None:
        """Put the changes of a file aside until all are known."""
        mount = self._mount(path, spot.archive)
        assert mount is not None
        self._taken.append(_Taken(path, mount, spot, changes, work, swaps, files))

    def plans(self) -> list[FilePlan]:
        """All files that come of it."""
        if not self._taken:
            return []
        self._taken.sort(key=lambda one: one.mount.rank)
        return self._archives() if self.rule.of_archives else self._folder()

    # Names ------------------------------------------------------------------------------------------

    def _label(self, one: _Taken, index: int) -> str:
        if one.spot.archive.kind == "file":
            return one.path[len(one.mount.path) + 1 :] if one.mount.path else one.path
        return _named(one.path, one.spot.archive, index)

    def _beaten(self, game_paths: list[str], aside: Sequence[Mount] = ()) -> str:
        """A sentence where something else, stronger than this way and not set aside, holds one of the files."""
        for mount in self.order.mounts:
            for path in game_paths if mount.rank > self._last_rank and mount not in aside else ():
                if self.holders.holds(mount, path):
                    return f"the game will not read {path} here: {mount.path or 'its own folder'} wins"
        return ""

    @once
    def _last_rank(self) -> int:
        """The rank up to which this way wins."""
        rules = self.order.rules.reads
        return max((m.rank for m in self.order.mounts if rules.index(m.rule) <= rules.index(self.rule)), default=-1)

    # A new archive ----------------------------------------------------------------------------------

    def _archives(self) -> list[FilePlan]:
        new, out = self.rule.new, list[FilePlan]()
        assert new is not None and new.file is not None
        if new.like:
            return [self._by_template(new, self._names_of_new(new))]
        names = self._names_of_new(new)
        for one in self._taken:
            archive, only = one.spot.archive, sorted(one.changes.entries)
            built = archive.rebuild(one.changes.entries, added=one.changes.added, only=only)
            plan = self._new_archive(next(names), one, built, new)
            plan.only, plan.base_path, plan.base = only, one.path, archive.source
            one.work.note_parts((), built)
            plan.accounts = one.work.accounts
            out.append(plan)
        return out

    def _by_template(self, new: NewPlace, names: Iterator[str]) -> FilePlan:
        """One archive with all changes, made like another one or from nothing."""
        if len(self._taken) > 1 or self._taken[0].changes.added:
            paths = ", ".join(one.path for one in self._taken)
            raise ZubretError(
                f"{self.rule.shown} can take the changed entries of one archive at a time, and none that are new.",
                file=paths, next="Rebuild these mods one by one, or choose another way.",
            )  # fmt: skip
        one = self._taken[0]
        if new.like in EMPTY:
            template: Container = (ZipArchive if new.like == "zip" else TarArchive)(
                BytesSource(EMPTY[new.like], new.like)
            )
        else:
            template = Spot.file(self.order.game, new.like, self.known, self.cache).archive
        only = sorted(one.changes.entries)
        added = [NewEntry(self._label(one, n), one.changes.entries[n]) for n in only]
        plan = self._new_archive(next(names), one, template.rebuild({}, added=added, only=()), new)
        plan.only, plan.base = only, template.source
        plan.base_path = "" if new.like in EMPTY else new.like
        return plan

    def _new_archive(self, path: str, one: _Taken, built: Built, new: NewPlace) -> FilePlan:
        if built.others:
            raise ZubretError("The new archive would need files beside it.", file=path, next="Choose another way.")
        if new.largest is not None and built.source.size > new.largest:
            raise ZubretError(
                f"The new archive would have {built.source.size:,} bytes, but the game takes {new.largest:,} at most.",
                file=path, next="Choose another way, or shorten what is swapped.",
            )  # fmt: skip
        count = len(one.changes.entries) + len(one.changes.added)
        plan = FilePlan(path, [], built, one.swaps, 0, count, one.files, of=one.path, way=self.rule.shown)
        plan.accounts = one.work.accounts
        wanted = [one.mount.outer(self._label(one, n)) for n in one.changes.entries]
        plan.note = self._beaten(wanted)
        return plan

    def _names_of_new(self, new: NewPlace) -> Iterator[str]:
        """Names of new archives that win over those of the same kind that are there."""
        assert new.file is not None
        there = [m.path for m in self.order.mounts if m.rule is self.rule]
        taken = {self.order.same(path) for path in self.order.files}
        for number in range(new.first, new.last + 1):
            path = new.file.format(number=number)
            ranked = self.order.sorted([*there, path], self.rule)
            if self.order.same(path) not in taken and ranked[-1] == path:
                there.append(path)
                yield path
        raise ZubretError(
            f"No number up to {new.last} is left for a new archive that wins over those that are there.",
            file=there[-1] if there else new.file,
            next="Remove an archive that nobody needs, raise `last` in the load rules, or choose another way.",
        )

    # Loose files ------------------------------------------------------------------------------------

    def _folder(self) -> list[FilePlan]:
        new = self.rule.new
        assert new is not None
        folder = self._new_folder(new) if self.rule.folders is not None else self.rule.files or ""
        out: dict[str, FilePlan] = {}
        changed: dict[str, str] = {}
        for one in self._taken:
            for index in sorted(one.changes.entries):
                game_path = one.mount.outer(self._label(one, index))
                plan = self._loose(folder, game_path, one, index)
                out[self.order.same(game_path)] = plan
                changed[self.order.same(game_path)] = game_path
            for entry in one.changes.added:
                game_path = one.mount.outer(entry.path)
                built = Built(entry.content, [Segment("new", 0, entry.content.size)], True, 0)
                files = [f for f in one.files if f.index is None and not f.inside and f.path == entry.path]
                plan = self._plan_of(folder, game_path, built, [], files)
                plan.belongs_to = one.path
                out[self.order.same(game_path)], changed[self.order.same(game_path)] = plan, game_path
        aside = self._set_aside(changed)
        for mount in aside:
            self._unpack(folder, mount, out, changed)
        for key, game_path in changed.items():
            out[key].note = self._beaten([game_path], aside)
        plans = list(out.values())
        plans += [self._gone(mount.path) for mount in aside]
        for mount in aside:
            beside = mount.path.rpartition("/")[0]
            for name in self.holders.spot(mount).archive.companions():
                plans.append(self._gone(f"{beside}/{name}" if beside else name))
        return plans + ([self._line(folder)] if self.rule.folders is not None else [])

    def _new_folder(self, new: NewPlace) -> str:
        """The name of a folder that is not there yet."""
        assert new.folder is not None
        names = (new.folder if n == 1 else f"{new.folder}-{n}" for n in range(1, 1000))
        return next(name for name in names if not any(f.startswith(f"{name}/") for f in self.order.files))

    def _loose(self, folder: str, game_path: str, one: _Taken, index: int) -> FilePlan:
        content, archive = one.changes.entries[index], one.spot.archive
        swaps, files = one.of_entry(index)
        built = one.changes.loose or Built(content, [Segment("new", 0, content.size)], True, 0)
        plan = self._plan_of(folder, game_path, built, swaps, files)
        step = (archive.entries[index].path, index)
        plan.of, plan.entry, plan.base = one.path, step, one.changes.bases[index]
        plan.accounts = [a for a in one.work.accounts if a.inside[:1] == (step,)]
        return plan

    def _plan_of(
        self, folder: str, game_path: str, built: Built, swaps: list[StreamSwap], files: list[EntryFile]
    ) -> FilePlan:
        root = f"{self.rule.root}/" if self.rule.root else ""
        inner = self.order.slashes(game_path[len(root) :])
        if {"", ".", ".."} & set(inner.split("/")):
            raise ZubretError(
                "A file of this path can't lie in a folder.",
                file=game_path,
                next="Choose another way of putting it into the game.",
            )
        path = f"{folder}/{inner}" if folder else inner
        return FilePlan(path, [], built, swaps, 0, 0, files, way=self.rule.shown)

    def _set_aside(self, changed: dict[str, str]) -> list[Mount]:
        """The archives that would win over the loose files, from the weakest: those that hold a changed file; and those over which
        one of these has won, since they would win now."""
        rank, pattern = self._last_rank, self.rule.only_without
        stronger = [m for m in self.order.mounts if m.archive and m.rank > rank]
        if pattern:
            shut = matcher(pattern, self.order.rules.paths.case)
            stronger += [m for m in self.order.mounts if m.archive and m.rank <= rank and shut.fullmatch(m.path)]
        out = [
            m
            for m in stronger
            if any(key in self.holders.names(m) for key in changed) or (pattern and shut.fullmatch(m.path))
        ]
        while more := [
            m for m in stronger
            if m not in out
            and any(m.rank < a.rank and self.order.meet(m, a) and self.holders.names(m).keys() & self.holders.names(a).keys() for a in out)
        ]:  # fmt: skip
            out += more
        return sorted(out, key=lambda m: m.rank)

    def _unpack(self, folder: str, mount: Mount, out: dict[str, FilePlan], changed: Collection[str]) -> None:
        """All files of an archive that is set aside, loose, but for those that change."""
        spot = self.holders.spot(mount)
        archive = spot.archive
        for key, index in self.holders.names(mount).items():
            if key in changed:
                continue
            content = Later(
                archive.path(index),
                archive.entries[index].size,
                partial(archive.open, index, self.cache, f"{spot.key}/{index}"),
            )
            built = Built(content, [Segment("payload", 0, content.size)], True, 0)
            plan = self._plan_of(folder, mount.outer(_named(mount.path, archive, index)), built, [], [])
            plan.of, plan.entry, plan.base = mount.path, (archive.entries[index].path, index), content
            plan.note = f"unpacked, since {mount.path} is set aside"
            out[key] = plan

    def _gone(self, path: str) -> FilePlan:
        plan = gone(self.order, path)
        plan.note, plan.way = "set aside: the game reads it before loose files", self.rule.shown
        return plan

    # A line in a text file --------------------------------------------------------------------------

    def _line(self, folder: str) -> FilePlan:
        """The text file with the line that names the new folder: behind the last such line, behind the line that the load rules
        say, or at its end."""
        line, new = self.rule.folders, self.rule.new
        assert line is not None and new is not None
        source = self.order.game.open(line.file)
        data = source.read(0, source.size) if source.size <= LARGEST else b"\0"
        if b"\0" in data:
            raise ZubretError(
                "A line can only be added to a text file in UTF-8, or in an encoding of single bytes.", file=line.file,
                next="Choose another way, or add the line by hand.",
            )  # fmt: skip
        text = data.decode("utf-8", "surrogateescape")
        at = _place_of(text, [line.said(value) for value in line.values(text)], new.under, line.file)
        newline = "\r\n" if "\r\n" in text else "\n"
        begins = at == 0 or text[:at].endswith("\n")
        said = ("" if begins else newline) + line.said(folder) + newline
        where = len(text[:at].encode("utf-8", "surrogateescape"))
        parts = [
            Part(source, 0, where),
            Part(BytesSource(said.encode(), "the new line"), 0, len(said.encode())),
            Part(source, where, source.size - where),
        ]
        built = Built(ChainSource(parts, line.file), [Segment("new", 0, source.size + len(said.encode()))], False, 0)
        note = f'the line "{line.said(folder)}" is added'
        before = [Segment("payload", 0, source.size)]
        return FilePlan(line.file, before, built, [], source.size, 0, belongs_to=folder, note=note, way=self.rule.shown)


def _named(path: str, archive: Container, index: int) -> str:
    """What the game calls an entry; an error for one of which only the hash of a name is known."""
    label = archive.label(index)
    if archive.hashed and label == archive.entries[index].path:
        raise ZubretError(
            "This entry has only the hash of a name, so it can't be put anywhere else by name.",
            file=path, field=label, next="Give its archive a name list, or change it in its own place.",
        )  # fmt: skip
    return label


MARK = "\ufeff"
"""What stands before the first line of some text files (Unicode 23.8, byte order mark)."""


def _place_of(text: str, such: list[str], under: str, file: str) -> int:
    """The character behind the last of some lines, or behind the line `under`; the end where neither is asked for."""
    lines, at, found, below = text.splitlines(keepends=True), 0, -1, -1
    for line in lines:
        at += len(line)
        bare = line.lstrip(MARK).strip()
        if bare in such:
            found = at
        if below < 0 and under and bare == under.strip():
            below = at
    if found >= 0:
        return found
    if under and below < 0:
        raise ZubretError(
            f'The line "{under}" is not there, behind which a new one is to go.',
            file=file,
            next="Correct `under` in the load rules.",
        )
    return below if under else at


def gone(order: LoadOrder, path: str) -> FilePlan:
    """A file of the game that is set aside."""
    size = order.game.locate(path).stat().st_size
    nothing = Built(BytesSource(b"", path), [], True, 0)
    return FilePlan(path, [Segment("payload", 0, size)], nothing, [], size, 0, gone=True)


def companions_of(order: LoadOrder, plans: Sequence[FilePlan]) -> list[FilePlan]:
    """What load rules say of files beside archives: those that go when one changes, and those that a new one needs."""
    out: dict[str, FilePlan] = {}
    there = {plan.path for plan in plans}
    for rule in order.rules.beside:
        pattern = matcher(rule.of, order.rules.paths.case)
        for plan in plans:
            path = rule.of_file(plan.path)
            if not pattern.fullmatch(plan.path) or path in there:
                continue
            if plan.size_before or plan.gone:
                if rule.changed == "goes" and order.game.locate(path).is_file():
                    out[path] = gone(order, path)
                    out[path].note = f"set aside: it belongs to {plan.path} as it was"
            elif rule.new is not None:
                data = BytesSource(rule.new.encode(), path)
                built = Built(data, [Segment("new", 0, data.size)], True, 0)
                note = f"belongs to {plan.path}"
                out[path] = FilePlan(path, [], built, [], 0, 0, belongs_to=plan.path, note=note, way=plan.way)
    return list(out.values())
