"""Layouts, and the bench on which they are written, in the API."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models import Count, OuterRef, Subquery
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from zubret_core.layout import Layout, LoadRules
from zubret_core.layout import shipped as all_shipped
from zubret_core.plugins import CODECS, STEPS, installed
from zubret_core.source.look import entropy, find_number, record_distance, strings

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut
from ..layouts.known import newest_texts, others, pin, pins_of, why_not
from ..layouts.models import LayoutVersion, UserLayout
from ..paging import MOST, Limit, Offset
from ..shelf.api import Ribbon
from . import services

router = Router()
MOST_BYTES = 1 << 18
"""Bytes in one answer at most."""


class LayoutLine(Schema):
    """A layout in the list; id is 0 for one that ships with Zubret. used: surveys recognise files by it; problem: why one that was
    saved no longer loads."""

    id: int
    slug: str
    title: str
    describes: str
    used: bool
    versions: int
    changed: datetime | None
    problem: str = ""


class PlugInOut(Schema):
    """An installed plug-in. kind: step or codec; package, version: the Python package that brings it."""

    kind: str
    name: str
    package: str
    version: str


class VersionOut(Schema):
    """A saved version."""

    id: int
    slug: str
    saved: datetime


class LayoutText(Schema):
    """A layout's text, as it stands in the editor; saved tells whether the newest version is the same."""

    id: int
    name: str
    text: str
    saved: bool
    versions: list[VersionOut]


class TextIn(Schema):
    """A text."""

    text: str
    name: str = ""


class TryIn(Schema):
    """A layout's text and a file of a game."""

    path: str
    text: str = ""
    at: int = 0
    length: int = 4096


class Fault(Schema):
    """What is wrong in a layout, and in which line."""

    line: int
    what: str


class FileProblem(Schema):
    """What is wrong when a layout meets a file."""

    what: str
    where: str
    next: str
    offset: int | None


class FieldView(Schema):
    """A field of a region."""

    name: str
    type: str
    means: str


class RegionOut(Schema):
    """A region: where it stands, and its fields."""

    name: str
    file: str
    at: int
    length: int
    records: int
    packed: bool
    fields: list[FieldView]


class ItemOut(Schema):
    """An entry or stream that the layout finds; id: its place among them."""

    id: int
    name: str
    at: int
    stored: int
    note: str


class ItemPage(Schema):
    """Some of the entries or streams that a layout finds."""

    total: int
    rows: list[ItemOut]


class Gap(Schema):
    """Bytes that the layout does not explain."""

    at: int
    length: int


class ReadFrom(Schema):
    """Something that a game reads files from, as load rules say. takes: changes may be put there; places: the archives or folders that
    there are of it now, of `count` the first 50, the strongest first."""

    name: str
    title: str
    archives: bool
    root: str
    takes: bool
    count: int
    places: list[str]


class OfGame(Schema):
    """What load rules say of a game: whether they recognise it, which build it is, and what it reads from, the strongest first."""

    recognised: bool
    build: str
    reads: list[ReadFrom]


class Tried(Schema):
    """What a layout says of a file: its own fault, the file's problem, or what it finds."""

    fault: Fault | None
    problem: FileProblem | None
    describes: str
    regions: list[RegionOut]
    items: int
    ribbon: Ribbon | None
    explained: float
    unexplained: list[Gap]
    game: OfGame | None


class SpanOut(Schema):
    """A field of a record where it stands; record is -1 in a region that stands once."""

    at: int
    length: int
    region: str
    record: int
    field: str
    value: str
    means: str


class HitOut(Schema):
    """A place that holds a number."""

    at: int
    type: str
    order: str


class Hits(Schema):
    """Where a number stands; searched: up to which byte that was looked for."""

    hits: list[HitOut]
    searched: int


class TextRun(Schema):
    """Printable characters."""

    at: int
    text: str


class DistanceOut(Schema):
    """A distance at which bytes repeat."""

    bytes: int
    score: float


class FileLook(Schema):
    """A file's size, the layout that recognises it, if any, and its entropy in bits a byte along it."""

    size: int
    layout: str
    entropy: list[float]


@router.get("/plug-ins", response=list[PlugInOut])
def plug_ins(request: HttpRequest):
    """The steps and codecs that installed plug-ins bring to layouts."""
    kinds = {STEPS: "step", CODECS: "codec"}
    return [{"kind": kinds[p.group], "name": p.name, "package": p.package, "version": p.version} for p in installed()]


@router.get("/layouts", response=list[LayoutLine])
def list_layouts(request: HttpRequest, offset: Offset = 0, limit: Limit = MOST):
    """The user's layouts, then those that ship."""
    newest = LayoutVersion.objects.filter(layout=OuterRef("pk")).order_by("-pk")
    slug, text = (Subquery(newest.values(what)[:1]) for what in ("slug", "text"))
    own = UserLayout.objects.annotate(slug=slug, text=text, saved=Count("versions")).order_by("-changed", "-pk")
    loads, among = {version.layout_id for version, _ in newest_texts()}, others()
    out = [
        {"id": row.pk, "slug": row.slug or "", "title": row.name, "describes": "", "used": row.pk in loads,
         "versions": row.saved, "changed": row.changed,
         "problem": why_not(row.text, among) if row.saved and row.pk not in loads else ""}
        for row in own[offset : offset + limit]
    ]  # fmt: skip
    passed = max(0, offset - own.count())
    out += [
        {"id": 0, "slug": lo.id, "title": lo.title or lo.id, "describes": lo.describes, "used": True, "versions": 1,
         "changed": None}
        for lo in list(all_shipped().values())[passed : passed + limit - len(out)]
    ]  # fmt: skip
    return out


@router.get("/layouts/schema")
def schema(request: HttpRequest) -> dict[str, Any]:
    """The JSON Schemas of the language: of layouts, and of load rules."""
    return {"anyOf": [Layout.model_json_schema(), LoadRules.model_json_schema()]}


@router.get("/layouts/shipped/{slug}", response=LayoutText)
def shipped(request: HttpRequest, slug: str):
    """The text of a layout that ships: it can be copied, not changed."""
    return {"id": 0, "name": slug, "text": services.shipped_text(slug), "saved": True, "versions": []}


@router.post("/layouts", response=LayoutText)
def create(request: HttpRequest, data: TextIn):
    """A new layout from a text: a copy, or one that somebody shared."""
    return text_out(services.create(data.name, data.text))


def text_out(row: UserLayout) -> dict[str, Any]:
    """A layout as the editor wants it."""
    newest = row.versions.order_by("-pk").first()
    return {
        "id": row.pk,
        "name": row.name,
        "text": row.draft,
        "saved": newest is not None and newest.text == row.draft,
        "versions": list(row.versions.order_by("-pk")),
    }


@router.get("/layouts/{int:layout_id}", response=LayoutText)
def get_layout(request: HttpRequest, layout_id: int):
    """A layout of the user's."""
    return text_out(one(UserLayout.objects.all(), layout_id))


@router.put("/layouts/{int:layout_id}", response=LayoutText)
def keep_draft(request: HttpRequest, layout_id: int, data: TextIn):
    """Keep what stands in the editor. Surveys use it once it is saved as a version."""
    row = one(UserLayout.objects.all(), layout_id)
    row.draft = data.text
    row.save(update_fields=["draft", "changed"])
    return text_out(row)


@router.post("/layouts/{int:layout_id}/versions", response=LayoutText)
def save_version(request: HttpRequest, layout_id: int):
    """Save the draft as a version, which surveys use from now on."""
    row = one(UserLayout.objects.all(), layout_id)
    services.save_version(row)
    row.refresh_from_db()
    return text_out(row)


@router.post("/versions/{int:version_id}/back", response=LayoutText)
def back_to(request: HttpRequest, version_id: int):
    """Put an older version's text into the editor again."""
    version = one(LayoutVersion.objects.select_related("layout"), version_id)
    version.layout.draft = version.text
    version.layout.save(update_fields=["draft", "changed"])
    return text_out(version.layout)


@router.delete("/layouts/{int:layout_id}", response={204: None})
def remove(request: HttpRequest, layout_id: int):
    """Forget a layout and its versions."""
    services.remove(one(UserLayout.objects.all(), layout_id))
    return 204, None


@router.get("/layouts/{int:layout_id}/file")
def export(request: HttpRequest, layout_id: int):
    """The layout as a file, to share."""
    row = one(UserLayout.objects.all(), layout_id)
    newest = row.versions.order_by("-pk").first()
    response = HttpResponse(row.draft, content_type="application/yaml; charset=utf-8")
    name = newest.slug if newest else "layout"
    response["Content-Disposition"] = f'attachment; filename="{name}.yaml"'
    return response


# The bench ------------------------------------------------------------------------------------------


@router.post("/games/{int:game_id}/bench/try", response=Tried)
def try_layout(request: HttpRequest, game_id: int, data: TryIn):
    """What a layout's text says of a file."""
    return services.tried(one(Game.objects.all(), game_id), data.path, data.text)


class DraftOut(Schema):
    """A layout that a file suggests. title: what it takes the file for; evidence: what speaks for it; share: of the bytes that it explains,
    0 to 1; items: entries; beside: the file in the same folder for which a layout would be, where the table stands in that one; text is
    empty then."""

    title: str
    text: str
    evidence: list[str]
    share: float
    items: int
    beside: str


class TriedOut(Schema):
    """What a known layout says to a file. fits: it is recognised and read; reads: it can be read, whether recognised or not; marks,
    marks_right: bytes of its marks, and how many of them stand there; share: of the bytes that it explains; against: what stands
    against it; offset: where, -1 for nowhere."""

    slug: str
    title: str
    describes: str
    fits: bool
    reads: bool
    marks_right: int
    marks: int
    regions_read: int
    regions: int
    share: float
    against: str
    offset: int


@router.get("/games/{int:game_id}/bench/drafts", response=list[DraftOut])
def bench_drafts(request: HttpRequest, game_id: int, path: str):
    """Layouts for a file from what is seen in it, the one that explains most first."""
    return services.drafted_for(one(Game.objects.all(), game_id), path)


class PinIn(Schema):
    """path: of a file, of a folder with a slash behind it, or "" for the game; slug: of the layout by which what is there is read before
    others that fit, "" for none any more."""

    path: str = ""
    slug: str = ""


class PinOut(Schema):
    """A layout that was chosen for a place of a game."""

    path: str
    slug: str


@router.get("/games/{int:game_id}/pins", response=list[PinOut])
def list_pins(request: HttpRequest, game_id: int):
    """The layouts that were chosen for places of a game."""
    return [{"path": path, "slug": slug} for path, slug in sorted(pins_of(one(Game.objects.all(), game_id)).items())]


@router.put("/games/{int:game_id}/pins", response=list[PinOut])
def set_pin(request: HttpRequest, game_id: int, data: PinIn):
    """Choose a layout for a file, a folder or the game, or take the choice away. The next survey reads by it."""
    pin(one(Game.objects.all(), game_id), data.path, data.slug)
    return list_pins(request, game_id)


@router.get("/games/{int:game_id}/bench/tries", response=list[TriedOut])
def bench_tries(request: HttpRequest, game_id: int, path: str):
    """Every known layout on a file, the nearest first."""
    return services.tried_all(one(Game.objects.all(), game_id), path)


@router.post("/games/{int:game_id}/bench/begin", response=LayoutText)
def begin(request: HttpRequest, game_id: int, data: TryIn):
    """A new layout for a file, with a first guess in it."""
    return text_out(services.begin(one(Game.objects.all(), game_id), data.path))


@router.post("/games/{int:game_id}/bench/rules", response=LayoutText)
def begin_rules(request: HttpRequest, game_id: int):
    """New load rules for a game, begun with what its survey saw."""
    return text_out(services.begin_rules(one(Game.objects.all(), game_id)))


@router.post("/games/{int:game_id}/bench/spans", response=list[SpanOut])
def field_spans(request: HttpRequest, game_id: int, data: TryIn):
    """The fields in a part of the file."""
    game = one(Game.objects.all(), game_id)
    return services.spans(game, data.path, data.text, data.at, data.at + min(data.length, MOST_BYTES))


@router.post("/games/{int:game_id}/bench/items", response=ItemPage)
def list_items(request: HttpRequest, game_id: int, data: TryIn, offset: Offset = 0, limit: Limit = 100):
    """The entries or streams that a layout's text finds in a file."""
    return services.items(one(Game.objects.all(), game_id), data.path, data.text, offset, limit)


@router.post("/games/{int:game_id}/bench/items/beginning", response=int)
def item_beginning(request: HttpRequest, game_id: int, data: TryIn, begins: str = "", first: Offset = 0):
    """The place of the next of them whose name begins with a text; -1 where there is none."""
    return services.next_item(one(Game.objects.all(), game_id), data.path, data.text, begins[:200], first)


@router.post("/games/{int:game_id}/bench/check", response=JobOut)
def check_layout(request: HttpRequest, game_id: int, data: TryIn):
    """Check a layout on a file, or with an empty path on all that it recognises."""
    return services.start_check(one(Game.objects.all(), game_id), data.path, data.text)


@router.get("/games/{int:game_id}/bench/bytes")
def file_bytes(request: HttpRequest, game_id: int, path: str, at: int = 0, length: int = 4096):
    """A part of a file as it is; cut at the file's end."""
    with services.open_bytes(one(Game.objects.all(), game_id), path) as source:
        start = max(0, min(at, source.size))
        data = source.read(start, max(0, min(length, MOST_BYTES, source.size - start)))
    return HttpResponse(data, content_type="application/octet-stream")


@router.get("/games/{int:game_id}/bench/look", response=FileLook)
def look(request: HttpRequest, game_id: int, path: str, bins: int = 240):
    """A file's size and its entropy along it."""
    game = one(Game.objects.all(), game_id)
    with services.open_bytes(game, path) as source:
        layout = services.layout_at(game, source)
        return {"size": source.size, "layout": layout, "entropy": entropy(source, max(1, min(bins, 1000)))}


@router.get("/games/{int:game_id}/bench/find", response=Hits)
def find(request: HttpRequest, game_id: int, path: str, value: int, at: Offset = 0):
    """Where a number stands in a file from a byte on, in all widths and both orders: as much as is found in a moment."""
    with services.open_bytes(one(Game.objects.all(), game_id), path) as source:
        hits, searched = find_number(source, value, at)
    return {"hits": [h._asdict() for h in hits], "searched": searched}


@router.get("/games/{int:game_id}/bench/strings", response=list[TextRun])
def text_runs(request: HttpRequest, game_id: int, path: str, at: int = 0):
    """The next runs of printable characters."""
    with services.open_bytes(one(Game.objects.all(), game_id), path) as source:
        return [t._asdict() for t in strings(source, max(0, at))]


@router.get("/games/{int:game_id}/bench/distance", response=list[DistanceOut])
def distance(request: HttpRequest, game_id: int, path: str, at: int = 0):
    """The likeliest lengths of records from a byte on."""
    with services.open_bytes(one(Game.objects.all(), game_id), path) as source:
        return [d._asdict() for d in record_distance(source, max(0, min(at, source.size)))]
