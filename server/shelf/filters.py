"""What a list of streams is narrowed by."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any, Literal

from django.db.models import Exists, OuterRef, Q, QuerySet, Value
from django.db.models.functions import StrIndex, Substr
from ninja import Schema
from pydantic import BeforeValidator

from zubret_core.locate.spot import IN

from ..games.models import Game
from .models import Archive, Bank, Beaten, Given, Stream


def _several(value: Any) -> Any:
    """A single value, as earlier versions kept it, is one of several; an empty one is none."""
    return value if isinstance(value, list) else [value] if value else []


Texts = Annotated[list[str], BeforeValidator(_several)]
Numbers = Annotated[list[int], BeforeValidator(_several)]
Either = Literal["", "yes", "no"]


class Filter(Schema):
    """A filter as Locate has it. Where there are several values, any of them fits; an empty one leaves nothing out.

    within: the path of a folder, an archive, or of a bank in one, or a folder's with a slash behind it, on disk or in an
    archive, for the sounds that stand in it itself and are in no bank; archive: paths; codec: as `codec_value` names them; named: by the user; spoken: whether a text is known; done: as a line; beaten: the game reads another
    file of the same path;
    shortest, longest: seconds; smallest, largest: stored bytes.
    """

    q: str = ""
    within: str = ""
    archive: Texts = []
    language: Texts = []
    kind: Texts = []
    codec: Texts = []
    rate: Numbers = []
    channels: Numbers = []
    loop: Either = ""
    marked: bool = False
    named: Either = ""
    spoken: Either = ""
    done: Either = ""
    swapped: Either = ""
    beaten: Either = ""
    shortest: float | None = None
    longest: float | None = None
    smallest: int | None = None
    largest: int | None = None


Locators = Callable[[Game], QuerySet[Any, Any]]
_swapped: list[Locators] = []


def tell_swapped(locators: Locators) -> None:
    """Name the locators of a game's swapped streams; who knows them stands above this room."""
    _swapped[:] = [locators]


def codec_value(codec: str, variant: str) -> str:
    """A codec's name in a filter: of a sound that is a file by itself, the kind of file."""
    return variant if codec == "file" else codec


def narrowed(rows: QuerySet[Stream], filter: Filter, game: Game) -> QuerySet[Stream]:
    """The rows that a filter leaves, but for its words. Only what has to be looked at is: nothing is worked out for a row that
    a list only passes over."""
    given = Given.objects.filter(game=game)
    if filter.within:
        rows = rows.filter(_within(filter.within, game))
    if filter.archive:
        rows = rows.filter(archive__path__in=filter.archive)
    if filter.language:
        rows = rows.filter(language__in=["" if name == "none" else name for name in filter.language])
    if filter.kind:
        others = given.exclude(kind__in=("", *filter.kind)).values("locator")
        chosen = given.filter(kind__in=filter.kind).values("locator")
        rows = rows.filter(Q(kind__in=filter.kind) & ~Q(locator__in=others) | Q(locator__in=chosen))
    if filter.codec:
        rows = rows.filter(Q(codec__in=filter.codec) | Q(codec="file", variant__in=filter.codec))
    for column in ("rate", "channels"):
        if values := getattr(filter, column):
            rows = rows.filter(**{f"{column}__in": values})
    if filter.loop:
        rows = rows.filter(loop_start__isnull=filter.loop == "no")
    if filter.marked:
        rows = rows.filter(locator__in=given.filter(marked=True).values("locator"))
    rows = _either(rows, filter.named, lambda: given.exclude(name="").values("locator"))
    rows = _either(rows, filter.spoken, lambda: given.exclude(text="").values("locator"))
    rows = _either(rows, filter.done, lambda: given.filter(done=True).values("locator"))
    rows = _either(rows, filter.swapped, lambda: _swapped[0](game))
    if filter.beaten:
        lost = Exists(Beaten.objects.filter(survey=game.current_survey(), bank=OuterRef("bank")))
        rows = rows.filter(lost if filter.beaten == "yes" else ~lost)
    for key, value in _spans(filter):
        rows = rows.filter(**{key: value})
    return rows


def _either(rows: QuerySet[Stream], which: Either, locators: Callable[[], QuerySet]) -> QuerySet[Stream]:
    """Those that are among some, those that are not, or all."""
    if not which:
        return rows
    among = Q(locator__in=locators())
    return rows.filter(among if which == "yes" else ~among)


def _spans(filter: Filter) -> Iterable[tuple[str, float]]:
    ends = {"shortest": "seconds__gte", "longest": "seconds__lte", "smallest": "stored__gte", "largest": "stored__lte"}
    return [(key, value) for name, key in ends.items() if (value := getattr(filter, name)) is not None]


def _within(path: str, game: Game) -> Q:
    """Streams below a folder or an archive, or of a bank; with a slash at its end, the sounds of a folder. A name may hold the
    sign that stands between an archive and what is in it: so every such sign may be the last one of the archive's path."""
    archives = Archive.objects.filter(game=game)
    folder = path.endswith("/")
    if folder:
        loose = _directly_in(path, archives.filter(kind="file"), "path")
        found = Q(archive__in=loose.values("pk"), bank__layout="")
    else:
        below = archives.filter(Q(path=path) | Q(path__startswith=f"{path}/") | Q(path__startswith=path + IN))
        found = Q(archive__in=below.values("pk"))
    at = path.find(IN)
    while at >= 0:
        entry, inside = path[at + len(IN) :], archives.filter(path=path[:at])
        if folder:
            sounds = Bank.objects.filter(archive__in=inside.values("pk"), layout="")
            found |= Q(bank__in=_directly_in(entry, sounds, "entry_path").values("pk"))
        else:
            found |= Q(archive__in=inside.values("pk"), bank__entry_path=entry)
        at = path.find(IN, at + 1)
    return found


def _directly_in(folder: str, rows: QuerySet[Any], column: str) -> QuerySet[Any]:
    """Those whose path in a column stands in a folder itself ("/" is the outermost), not in one below."""
    start = "" if folder == "/" else folder
    rest = Substr(column, len(start) + 1)
    return rows.filter(**{f"{column}__startswith": start}).annotate(deeper=StrIndex(rest, Value("/"))).filter(deeper=0)
