"""A game's mods in the API: new, copied, named, on and off, in order; and who wins what two of them want."""

from __future__ import annotations

from typing import Annotated, Any

from django.db.models import Count, Q
from django.http import FileResponse, HttpRequest
from ninja import Field, File, Router, Schema
from ninja.files import UploadedFile

from ..errors import one, stopped
from ..games.models import Game
from ..paging import MOST, Limit, Offset
from ..shelf.models import unpack_locator
from . import carrying, pictures, together
from .models import Mod
from .together import Together, live_mod, mods_of

router = Router()
Name = Annotated[str, Field(min_length=1, max_length=200, pattern=r"\S")]
Line = Annotated[str, Field(max_length=200)]


class ModOut(Schema):
    """A mod. current: it is worked on; used: it takes part; swaps, ready, files: how many streams it swaps, how many of these fit, how
    many files it puts into archives; picture: its address, empty where it has none; lost: how many of its streams the newest survey does not have where the mod knows them."""

    id: int
    name: str
    current: bool
    used: bool
    version: str
    author: str
    licence: str
    note: str
    picture: str
    swaps: int
    ready: int
    files: int
    lost: int


class NewMod(Schema):
    """A new mod; copy_of: the number of one whose swaps and files it begins with; one of another game, too, as for a new
    build of it."""

    name: Name
    copy_of: int | None = None


class ModIn(Schema):
    """What changes of a mod."""

    name: Name | None = None
    used: bool | None = None
    version: Annotated[str, Field(max_length=40)] | None = None
    author: Line | None = None
    licence: Line | None = None
    note: Annotated[str, Field(max_length=20_000)] | None = None


class OrderIn(Schema):
    """The numbers of all mods of a game, in the order in which later ones win."""

    mods: Annotated[list[int], Field(max_length=1000)]


class Wants(Schema):
    """What a mod wants of a stream: its swap, and what that begins from."""

    mod: int
    name: str
    swap: int
    source_name: str


class ConflictOut(Schema):
    """A stream that several mods swap: its locator, and that in words; what they want, in the order of the mods; the mod that wins;
    turned: somebody has said so, whatever the order says."""

    locator: str
    place: str
    wants: list[Wants]
    winner: int
    turned: bool


class OverlapWants(Schema):
    """What a mod wants of an entry: all of it, or as many of its streams."""

    mod: int
    name: str
    streams: int
    wins: bool


class OverlapOut(Schema):
    """An entry that a mod replaces as a whole, while another one replaces it, too, or swaps streams in it; the order decides."""

    place: str
    wants: list[OverlapWants]


class Conflicts(Schema):
    """Some of them, and how many there are; the first of the entries that several want, and how many of these there are."""

    rows: list[ConflictOut]
    total: int
    entries: list[OverlapOut]
    entries_total: int


class TurnIn(Schema):
    """Which mod wins a stream; null: the order decides."""

    locator: Annotated[str, Field(max_length=20_000)]
    mod: int | None


def _out(game: Game) -> Any:
    live = Q(swaps__removed__isnull=True, swaps__chosen=True)
    return mods_of(game).annotate(
        swaps_count=Count("swaps", filter=live, distinct=True),
        ready_count=Count("swaps", filter=live & Q(swaps__state="ready"), distinct=True),
        files_count=Count("files", filter=Q(files__removed__isnull=True), distinct=True),
    )


def _row(mod: Any, lost: dict[int, int] | None = None) -> dict[str, Any]:
    lost = carrying.lost(mod.game) if lost is None else lost
    own = {name: getattr(mod, name) for name in ("name", "current", "used", "version", "author", "licence", "note")}
    return {
        "id": mod.pk,
        **own,
        "picture": f"/api/mods/{mod.pk}/picture?of={mod.picture[:8]}" if mod.picture else "",
        "swaps": mod.swaps_count,
        "ready": mod.ready_count,
        "files": mod.files_count,
        "lost": lost.get(mod.pk, 0),
    }


@router.get("/games/{int:game_id}/mods", response=list[ModOut])
def list_mods(request: HttpRequest, game_id: int, offset: Offset = 0, limit: Limit = MOST):
    """A game's mods in their order: of two that want the same, the later one wins."""
    game = one(Game.objects.all(), game_id)
    lost = carrying.lost(game)
    return [_row(mod, lost) for mod in _out(game)[offset : offset + limit]]


@router.post("/games/{int:game_id}/mods", response=ModOut)
def make_mod(request: HttpRequest, game_id: int, data: NewMod):
    """A new mod behind all others, empty or a copy; it is the one that is worked on from now on."""
    game = one(Game.objects.all(), game_id)
    if data.copy_of is None:
        mod = together.new_mod(game, data.name)
    else:
        mod = together.copied(live_mod(data.copy_of), data.name, game)
    return _row(one(_out(game), mod.pk))


@router.put("/games/{int:game_id}/mods", response=list[ModOut])
def arrange_mods(request: HttpRequest, game_id: int, data: OrderIn):
    """Put all mods of a game into an order."""
    game = one(Game.objects.all(), game_id)
    together.arrange(game, data.mods)
    lost = carrying.lost(game)
    return [_row(mod, lost) for mod in _out(game)]


@router.patch("/mods/{int:mod_id}", response=ModOut)
def change_mod(request: HttpRequest, mod_id: int, data: ModIn):
    """Change what a mod says of itself, or turn it on or off."""
    mod = live_mod(mod_id)
    given = data.dict(exclude_unset=True, exclude_none=True)
    if given:
        Mod.objects.filter(pk=mod.pk).update(**given)
    return _row(one(_out(mod.game), mod_id))


@router.get("/mods/{int:mod_id}/picture")
def picture(request: HttpRequest, mod_id: int):
    """A mod's picture as it was given."""
    place = pictures.place_of(live_mod(mod_id))
    if place is None:
        raise stopped(404, "This mod has no picture.", "Give it one in Mods.")
    return FileResponse(place.open("rb"), content_type=pictures.type_of(place))


@router.post("/mods/{int:mod_id}/picture", response=ModOut)
def give_picture(request: HttpRequest, mod_id: int, file: File[UploadedFile]):
    """Give a mod a picture: PNG, JPEG or WebP."""
    mod = live_mod(mod_id)
    pictures.show(mod, file)
    return _row(one(_out(mod.game), mod_id))


@router.delete("/mods/{int:mod_id}/picture", response=ModOut)
def remove_picture(request: HttpRequest, mod_id: int):
    """Take a mod's picture away."""
    mod = live_mod(mod_id)
    pictures.hide(mod)
    return _row(one(_out(mod.game), mod_id))


@router.post("/mods/{int:mod_id}/work-on", response=ModOut)
def work_on_mod(request: HttpRequest, mod_id: int):
    """Have swaps and files go into this mod from now on."""
    mod = live_mod(mod_id)
    together.choose(mod)
    return _row(one(_out(mod.game), mod_id))


@router.delete("/mods/{int:mod_id}", response={204: None})
def remove_mod(request: HttpRequest, mod_id: int):
    """Remove a mod with its swaps and files; it can be brought back for a day. A game's last mod stays."""
    together.remove(live_mod(mod_id))
    return 204, None


@router.post("/mods/{int:mod_id}/bring-back", response=ModOut)
def bring_mod_back(request: HttpRequest, mod_id: int):
    """Bring a removed mod back."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    together.bring_back(mod)
    return _row(one(_out(mod.game), mod_id))


@router.get("/games/{int:game_id}/conflicts", response=Conflicts)
def conflicts(request: HttpRequest, game_id: int, offset: Offset = 0, limit: Limit = 100):
    """The streams that several of the mods that are on swap, and which one wins each."""
    return _conflicts(one(Game.objects.all(), game_id), offset, limit)


def _conflicts(game: Game, offset: int = 0, limit: int = 100) -> dict[str, Any]:
    mods = Together.used(game)
    found, overlaps = mods.conflicts(), mods.overlaps()
    rows = [
        {
            "locator": c.locator,
            "place": str(unpack_locator(c.locator)),
            "wants": [
                {"mod": s.mod_id, "name": s.mod.name, "swap": s.pk, "source_name": s.source_name} for s in c.swaps
            ],
            "winner": c.winner.mod_id,
            "turned": c.turned,
        }
        for c in found[offset : offset + limit]
    ]
    entries = [
        {
            "place": o.place,
            "wants": [
                {"mod": mod.pk, "name": mod.name, "streams": streams, "wins": mod.pk in o.wins}
                for mod, streams in o.mods
            ],
        }
        for o in overlaps[:limit]
    ]
    return {"rows": rows, "total": len(found), "entries": entries, "entries_total": len(overlaps)}


@router.put("/games/{int:game_id}/conflicts", response=Conflicts)
def turn_round(request: HttpRequest, game_id: int, data: TurnIn):
    """Have a mod win a stream, whatever the order says."""
    game = one(Game.objects.all(), game_id)
    together.turn(game, data.locator, None if data.mod is None else one(mods_of(game), data.mod))
    return _conflicts(game)
