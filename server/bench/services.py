"""Keeping layouts: drafts and versions; trying them on files of a game."""

from __future__ import annotations

import hashlib
import json
import re
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

from django.conf import settings

from zubret_core.bank.trial import CheckResult, check
from zubret_core.base import Kept, Progress, ZubretError
from zubret_core.container import Siblings
from zubret_core.layout import (
    Document,
    Layout,
    LoadRules,
    load,
    load_layout,
    read_layout,
    recognises,
    shipped,
    shipped_texts,
)
from zubret_core.layout.checks.extents import segments_of
from zubret_core.layout.trial import explained, regions_of, spans_in, unexplained
from zubret_core.locate import Known, LoadOrder, Spot, kind_of
from zubret_core.locate.drafts import Beside, Draft, drafts
from zubret_core.locate.misses import tried as tried_known
from zubret_core.locate.reads import build_of, drafted, recognised
from zubret_core.locate.spot import IN, split_place
from zubret_core.source import DiskCache, Source

from ..errors import stopped
from ..games.folders import original_folder
from ..games.models import Game, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.known import known_for, newest_texts
from ..layouts.known import others as known_others
from ..layouts.models import LayoutVersion, UserLayout
from ..paging import next_of
from ..shelf.api import ribbon_of
from ..surveys.winning import start_winners

START = """zubret: 1
id: {id}
title: {title}
describes: archive
byte_order: little
recognise: [{{at: 0, bytes: "{mark}"}}]
regions:
  - name: head
    at: 0
    fields:
      - {{name: mark, type: bytes, length: 4}}
      - {{name: count, type: u32, means: entries.count}}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {{name: path, type: text, length: 32, means: entry.path}}
      - {{name: at, type: u32, means: entry.at}}
      - {{name: stored, type: u32, means: entry.stored}}
"""


def shipped_text(slug: str) -> str:
    """The text of a shipped layout."""
    for name, one in shipped().items():
        if one.id == slug:
            return shipped_texts()[name]
    raise stopped(404, f'No layout is named "{slug}".', "Choose one from the list.")


def create(name: str, text: str) -> UserLayout:
    """A new layout of the user's; its id is made free of those that are taken."""
    taken = {one.id for one in shipped().values()} | set(LayoutVersion.objects.values_list("slug", flat=True))
    found = re.search(r"^id:\s*([a-z0-9-]+)", text, re.M)
    if found and found[1] in taken:
        stem, n = re.sub(r"-\d+$", "", found[1]), 2
        while f"{stem}-{n}" in taken:
            n += 1
        text = text[: found.start(1)] + f"{stem}-{n}" + text[found.end(1) :]
    title = re.search(r"^title:\s*(.+)$", text, re.M)
    return UserLayout.objects.create(
        name=(name or (title[1].strip().strip("\"'") if title else "New layout"))[:100], draft=text
    )


def begin(game: Game, path: str) -> UserLayout:
    """A new layout for a file that nothing describes: its first four bytes are its mark, the rest is a first guess."""
    with open_bytes(game, path) as source:
        mark = source.read(0, min(4, source.size)).hex(" ")
    title = title_of(path)
    slug = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:50] or "format"
    return create(title, START.format(id=slug, title=json.dumps(title), mark=mark))


def drafted_for(game: Game, path: str) -> list[Draft]:
    """Layouts for a file from what is seen in it, and in those beside it."""
    source, siblings = open_at(game, path)
    with source:
        return drafts(title_of(path), source, Beside(_near(game, path), siblings))


def _near(game: Game, path: str) -> dict[str, int]:
    """The names of what stands in the same folder, of the game or of an archive, with its bytes."""
    folder = original_folder(game)
    file, names = split_place(folder, path)
    if not names:
        return folder.near(file)
    archive = Spot.place(folder, IN.join([file, *names[:-1]]), known_for(game)).archive
    inside = names[-1].rpartition("/")[0]
    labels = ((archive.label(n), size) for n, size in enumerate(archive.sizes()))
    return {label.rpartition("/")[2]: size for label, size in labels if label.rpartition("/")[0] == inside}


def tried_all(game: Game, path: str) -> list[dict[str, Any]]:
    """Every known layout on a file, the nearest first."""
    known = known_for(game)
    source, beside = open_at(game, path, known)
    with source:
        return [
            {"slug": t.layout.id, "title": t.layout.title, "describes": t.layout.describes, "fits": t.fits, "reads": t.reads,
             "marks_right": t.marks[0], "marks": t.marks[1], "regions_read": t.regions[0], "regions": t.regions[1],
             "share": t.share, "against": t.against, "offset": t.offset}
            for t in tried_known(source, known, beside, path)
        ]  # fmt: skip


def save_version(row: UserLayout) -> LayoutVersion:
    """Keep the draft as a version that is used; an error while it has a fault or its id is another's."""
    layout = load(row.draft, row.name, known_others())
    others = LayoutVersion.objects.exclude(layout=row).filter(slug=layout.id).exists()
    if others or any(one.id == layout.id for one in shipped().values()):
        raise stopped(409, f'Another layout has the id "{layout.id}".', "Give this one another id.", "id")
    newest = row.versions.order_by("-pk").first()
    if newest and newest.text == row.draft:
        return newest
    row.name = (layout.title or layout.id)[:100]
    row.save(update_fields=["name"])
    made = LayoutVersion.objects.create(layout=row, slug=layout.id, text=row.draft)
    if isinstance(layout, LoadRules):
        _find_winners()
    return made


def remove(row: UserLayout) -> None:
    """Forget a layout and its versions."""
    of_game = any(isinstance(one, LoadRules) for version, one in newest_texts() if version.layout_id == row.pk)
    row.delete()
    if of_game:
        _find_winners()


def _find_winners() -> None:
    """Load rules have changed: who wins is found anew in every game."""
    for game in Game.objects.filter(surveys__finished__isnull=False).distinct():
        start_winners(game)


# Trying ------------------------------------------------------------------------------------------


def open_at(game: Game, path: str, known: Known | None = None) -> tuple[Source, Siblings]:
    """A file of a game, or an entry inside one (`file › entry`), for looking at its bytes; and what is beside it."""
    cache = DiskCache(settings.DATA_DIR / "cache", settings.CACHE_BYTES)
    folder, version = original_folder(game), version_at(game, path)
    spot = Spot.place(folder, path, known or known_for(game), cache, version)
    assert spot.siblings is not None
    return spot.source, spot.siblings


def open_bytes(game: Game, path: str) -> Source:
    """The bytes at a path of a game."""
    return open_at(game, path)[0]


def layout_at(game: Game, source: Source) -> str:
    """The id of the layout that recognises these bytes; empty where none does."""
    kind = kind_of(source, known_for(game))
    return kind.layout.id if kind and kind.layout else ""


def title_of(path: str) -> str:
    """The last part of a path."""
    return path.split(IN)[-1].rpartition("/")[2]


def version_at(game: Game, path: str) -> str:
    """A text that changes whenever the file does in which a path begins."""
    folder = original_folder(game)
    file, _ = split_place(folder, path)
    place = folder.locate(file)
    stat = place.stat() if place.exists() else None
    return f"{game.pk}|{file}|{stat and (stat.st_size, stat.st_mtime_ns)}"


_readings: Kept[str, Document] = Kept(4)


def reading_of(game: Game, path: str, text: str) -> Document:
    """What a layout's text reads at a path; the last few are kept, so that scrolling does not read it again."""
    version = f"{version_at(game, path)}|{path}|{text}"
    key = hashlib.blake2b(version.encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()
    if reading := _readings.get(key):
        return reading
    return _readings.put(key, _read(game, load_layout(text, "layout", known_others()), path))


def _read(game: Game, layout: Layout, path: str) -> Document:
    known = known_for(game)
    source, beside = open_at(game, path, known)
    return read_layout(layout, source, beside, known.keys(layout, path))


def tried(game: Game, path: str, text: str) -> dict[str, Any]:
    """What a layout's text says of a file: its fault with the line, or regions, items and the share it explains."""
    out: dict[str, Any] = {"fault": None, "problem": None, "regions": [], "items": 0, "ribbon": None,
                           "explained": 0.0, "unexplained": [], "describes": "", "game": None}  # fmt: skip
    try:
        layout = load(text, "layout", known_others())
    except ZubretError as e:
        line = re.search(r"line (\d+)", e.field or "")
        out["fault"] = {"line": int(line[1]) if line else 1, "what": e.what}
        return out
    out["describes"] = layout.describes
    if isinstance(layout, LoadRules):
        out["game"] = _of_game(game, layout)
        return out
    try:
        reading = reading_of(game, path, text)
        _columns(reading)  # all of them can be read
    except ZubretError as e:
        out["problem"] = {**e.as_dict(), "offset": e.offset}
        return out
    except RecursionError:
        out["problem"] = {"what": "The file is nested too deeply.", "where": path, "next": "", "offset": None}
        return out
    out["regions"] = [asdict(r) for r in regions_of(reading)]
    out["items"] = reading.count
    out["ribbon"] = ribbon_of(segments_of(reading), reading.source.size)
    out["explained"] = explained(reading)
    out["unexplained"] = [{"at": at, "length": n} for at, n in unexplained(reading)]
    return out


def _of_game(game: Game, rules: LoadRules) -> dict[str, Any]:
    """What load rules say of a game: whether they recognise it, its build, and what it reads from, the strongest first."""
    folder = original_folder(game)
    order = LoadOrder(rules, folder, files_of(game))
    places: dict[str, list[str]] = {one.name: [] for one in rules.reads}
    for mount in reversed(order.mounts):
        places[mount.rule.name].append(mount.path)
    return {
        "recognised": recognised(rules, folder),
        "build": build_of(rules, folder),
        "reads": [
            {"name": one.name, "title": one.shown, "archives": one.of_archives, "root": one.root, "takes": one.new is not None,
             "count": len(places[one.name]), "places": places[one.name][:50]}
            for one in reversed(rules.reads)
        ],
    }  # fmt: skip


def files_of(game: Game) -> list[str] | None:
    """The paths of all files of a game, as the newest survey saw them; None where there is none."""
    survey = game.current_survey()
    if survey is None:
        return None
    seen = SurveyFile.objects.filter(survey=survey, inside=False).exclude(what=SurveyFile.FOLDER)
    return list(seen.values_list("path", flat=True))


def begin_rules(game: Game) -> UserLayout:
    """Load rules for a game, begun with what its survey saw: a text file that tells it, and its archives by folder and ending."""
    files = files_of(game)
    if files is None:
        raise stopped(409, "This game was not surveyed yet.", "Survey it first.")
    survey = game.current_survey()
    archives = SurveyFile.objects.filter(survey=survey, inside=False, what__in=(SurveyFile.ARCHIVE, SurveyFile.LOCKED))
    found = sorted(archives.exclude(archive__kind="file").values_list("path", flat=True))
    return create(f"Load rules of {game.name}", drafted(game.name, original_folder(game), files, found))


def _columns(reading: Document) -> tuple[list, list, list, list]:
    """Name, place, stored bytes and what is to be said of every item."""
    names = reading.column("id" if reading.kind == "stream" else "path") or []
    if reading.kind == "listed":
        return names, [0] * len(names), [0] * len(names), [""] * len(names)
    notes = reading.column("codec" if reading.kind == "stream" else "method") or ["plain"] * reading.count
    return names, reading.column("at") or [], reading.column("stored") or [], notes


def items(game: Game, path: str, text: str, offset: int, limit: int) -> dict[str, Any]:
    """Some of the entries or streams that a layout's text finds in a file."""
    columns = _columns(reading_of(game, path, text))
    some = zip(*(column[offset : offset + limit] for column in columns), strict=False)
    rows = [
        {"id": offset + n, "name": str(name), "at": at, "stored": stored, "note": str(note)}
        for n, (name, at, stored, note) in enumerate(some)
    ]
    return {"total": len(columns[0]), "rows": rows}


def next_item(game: Game, path: str, text: str, begins: str, first: int) -> int:
    """The place of the next of them, from one place on and then from the start, whose name begins with a text; -1 where there is
    none."""
    names, begins = _columns(reading_of(game, path, text))[0], begins.lower()
    return next_of([n for n, name in enumerate(names) if str(name).lower().startswith(begins)], first)


def spans(game: Game, path: str, text: str, start: int, end: int) -> list[dict[str, Any]]:
    """The fields that stand in a part of a file."""
    return [s._asdict() for s in spans_in(reading_of(game, path, text), start, end)]


def start_check(game: Game, path: str, text: str) -> Job:
    """Check a layout on a file, or with no path on every file of the game that it recognises."""
    load_layout(text, "layout", known_others())
    return start(CheckOrder(path, text), f"Checking a layout on {path or game.name}", game)


@dataclass(frozen=True)
class CheckOrder(Order):
    """Check a layout's text on a file of the job's game, or on all that it recognises."""

    kind: ClassVar[str] = "check"
    path: str
    text: str


@dataclass(frozen=True)
class CheckedFile(CheckResult):
    """What checking a layout on a file gave."""

    path: str = ""


@dataclass(frozen=True)
class Checked:
    """File by file."""

    files: list[CheckedFile]


@work("quick")
def check_layout(job: Job, order: CheckOrder, progress: Progress) -> Checked:
    """Read all, rebuild unchanged, compare byte for byte: file by file."""
    game, text = job.game, order.text
    assert game is not None
    layout, folder = load_layout(text, "layout", known_others()), original_folder(game)
    paths = [order.path] if order.path else [f.path for f in folder.files()]
    out = []
    for path in paths:
        try:
            if not order.path and not recognises(layout, open_bytes(game, path)):
                continue
            known = known_for(game)
            with_companions = open_at(game, path, known)
            found = check(layout, *with_companions, known.keys(layout, path), progress)
            out.append(CheckedFile(**vars(found), path=path))
            with_companions[0].close()
        except ZubretError as e:
            out.append(CheckedFile(False, 0, 0, 0, 0.0, False, e.as_dict(), path))
    return Checked(out)
