"""Streams and their sound in the API."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from ninja import Query, Router, Schema

from zubret_core.audio.files import wav_source
from zubret_core.base import Kept
from zubret_core.source.chain import condensed

from ..errors import one, stopped
from ..games.models import Game
from ..paging import Limit, Offset
from . import query, saying
from .drawing import peaks_of
from .filters import Filter
from .models import Archive, Stream, streams_of
from .opening import check_unchanged, opened, version_of
from .ranges import ranged
from .sound import sound_at

router = Router()


class StreamOut(Schema):
    """A stream; loop is [start, end) in frames; audio is the address of its sound; kind: music, voice or effect; text, author,
    done: what is spoken, who speaks it now, whether that is done;
    said: what else its bank says of it: a label, a gain in thousandths, a priority;
    as_stored: the ending of the file that holds its payload as it is, empty where no open format does; at_once: the kinds of
    file that a GET of its export answers.

    at is its byte offset in the bank, archive_at in the archive (null in a compressed entry).
    """

    id: int
    stream_id: str
    name: str
    marked: bool
    bank: str
    entry: str
    archive: str
    archive_id: int
    place: str
    language: str
    said: dict[str, str | int]
    codec: str
    rate: int
    channels: int
    frames: int
    seconds: float
    loop: list[int] | None
    block_size: int
    block_frames: int
    at: int
    archive_at: int | None
    stored: int
    shared: int
    audio: str
    kind: str
    kind_given: bool
    notes: str
    text: str
    author: str
    done: bool
    as_stored: str
    at_once: list[str]


class StreamPage(Schema):
    """Some streams, with the number, seconds and bytes of all that match, where these are asked for."""

    total: int | None
    seconds: float | None
    bytes: int | None
    rows: list[StreamOut]


class Neighbours(Schema):
    """Where a stream stands in a list (-1: not in it), and the ids before and behind it, 0 where there is none."""

    place: int
    total: int
    previous: int
    next: int


class Lengths(Schema):
    """Streams by length, in bins that are equal on a logarithmic axis of seconds."""

    from_seconds: float
    to_seconds: float
    counts: list[int]


class FacetOut(Schema):
    """A value by which streams are told apart, as a filter and as people name it, and how many streams have it."""

    value: str
    label: str
    streams: int


class Facets(Schema):
    """The values of the current survey, those of the most streams first."""

    codec: list[FacetOut]
    rate: list[FacetOut]
    channels: list[FacetOut]


class GivenIn(Schema):
    """A name, a mark, a kind (empty: the guess), notes; what is spoken, who speaks it now, whether it is done. What is left out
    stays."""

    name: str | None = None
    marked: bool | None = None
    kind: str | None = None
    notes: str | None = None
    text: str | None = None
    author: str | None = None
    done: bool | None = None


class SegmentOut(Schema):
    """A span of a file: header, table, payload, new, padding or unexplained."""

    kind: str
    at: int
    length: int


class Ribbon(Schema):
    """A file's bytes to scale; explained is the share (0 to 1) that is not unexplained."""

    size: int
    explained: float
    segments: list[SegmentOut]


@router.get("/games/{int:game_id}/streams", response=StreamPage)
def streams(
    request: HttpRequest,
    game_id: int,
    filter: Query[Filter],
    sort: str = "",
    offset: Offset = 0,
    limit: Limit = 100,
    totals: bool = True,
):
    """Streams of the current survey: searched, sorted and paged in SQL. totals: whether all that match are counted."""
    return query.page_of(query.Question(one(Game.objects.all(), game_id), filter, sort), offset, limit, totals)


@router.get("/games/{int:game_id}/neighbours", response=Neighbours)
def neighbours(request: HttpRequest, game_id: int, stream_id: int, filter: Query[Filter], sort: str = ""):
    """The streams before and behind one, in the order and under the filter of a list."""
    return query.neighbours(query.Question(one(Game.objects.all(), game_id), filter, sort), stream_id)


@router.get("/games/{int:game_id}/stream-beginning", response=int)
def beginning(
    request: HttpRequest, game_id: int, filter: Query[Filter], sort: str = "", text: str = "", first: Offset = 0
):
    """The place in a list of the next stream whose id or name begins with a text; -1 where there is none."""
    return query.beginning(query.Question(one(Game.objects.all(), game_id), filter, sort), text[:200], first)


@router.get("/games/{int:game_id}/lengths", response=Lengths)
def stream_lengths(request: HttpRequest, game_id: int, filter: Query[Filter]):
    """How many streams have which length, for the length brush; what it chooses itself is left aside."""
    every = filter.model_copy(update={"shortest": None, "longest": None})
    return query.lengths(one(Game.objects.all(), game_id), every)


@router.get("/games/{int:game_id}/facets", response=Facets)
def facets(request: HttpRequest, game_id: int):
    """By what the streams of the current survey can be told apart."""
    return query.facets(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/languages", response=list[str])
def languages(request: HttpRequest, game_id: int):
    """The languages of the current survey's streams."""
    survey = one(Game.objects.all(), game_id).current_survey()
    return survey.languages if survey else []


def find_stream(pk: int) -> Stream:
    """A stream of the newest survey, as lists show it; 404 or 410 where there is none."""
    row = one(Stream.objects.all(), pk)
    game = row.archive.game
    found = query.described(streams_of(game).filter(pk=pk), game).first()
    if found is None:
        raise stopped(410, "The newest survey no longer has this stream.", "Choose it from the list again.")
    return found


@router.get("/streams/{int:stream_id}", response=StreamOut)
def stream(request: HttpRequest, stream_id: int):
    """One stream of the current survey."""
    return query.stream_out(find_stream(stream_id))


@router.patch("/streams/{int:stream_id}", response=StreamOut)
def give(request: HttpRequest, stream_id: int, data: GivenIn):
    """Give a stream a name, a mark, a kind or notes. An empty name takes the given one away."""
    row = find_stream(stream_id)
    saying.say(row.archive.game, [row.pk], data.dict())
    return query.stream_out(find_stream(stream_id))


@router.api_operation(["GET", "HEAD"], "/audio/{address}/wav")
def wav(request: HttpRequest, address: str):
    """The sound as a 16-bit WAV file; parts of it by HTTP Range."""
    sound = sound_at(address)
    source = wav_source(sound.decode, sound.format, sound.name)
    return ranged(request, source, "audio/wav", sound.digest, f"{sound.name}.wav")


@router.get("/audio/{address}/peaks", response=list[int])
def audio_peaks(request: HttpRequest, address: str, response: HttpResponse, bins: int = 480):
    """The loudest sample of each of `bins` spans, 0 to 255."""
    found, rough = peaks_of(sound_at(address), bins)
    response["Cache-Control"] = "no-store" if rough else "private, max-age=31536000, immutable"
    return found


@router.get("/archives/{int:archive_id}/ribbon", response=Ribbon)
def ribbon(request: HttpRequest, archive_id: int):
    """An archive's bytes to scale."""
    row = one(Archive.objects.select_related("game", "outer"), archive_id)

    def laid_out() -> dict:
        archive = opened(row)
        return ribbon_of(archive.segments(), archive.source.size)

    check_unchanged(row)
    return _ribbons.made(f"{version_of(row)} {row.path}", laid_out)


_ribbons: Kept[str, dict] = Kept(200)
"""By the version of the archive's file, and its path. That of an archive of 200,000 entries takes a second."""


def ribbon_of(segments, size: int) -> dict:
    """Segments as the byte ribbon draws them: at most some hundred."""
    unknown = sum(s.length for s in segments if s.kind == "unexplained")
    return {
        "size": size,
        "explained": 1 - unknown / size if size else 1.0,
        "segments": [{"kind": s.kind, "at": s.at, "length": s.length} for s in condensed(segments, 240)],
    }
