"""The stream page in the API: drawings, figures, neighbours."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from zubret_core.audio.spectrum import frequencies

from ..jobs.api import JobOut
from . import drawing, figures, query
from .api import StreamOut, find_stream
from .sound import sound_at

router = Router()
FOREVER = "private, max-age=31536000, immutable"


class Wave(Schema):
    """For each channel the lowest and the highest sample (int16) of each bin; rough: finer ones follow soon."""

    rough: bool
    channels: list[list[int]]


class FiguresOut(Schema):
    """Measured: LUFS, LU, dBTP and dBFS (-200: silence), dc as a share of full scale, silence in frames."""

    loudness: float | None
    range: float | None
    true_peak: float
    peak: float
    dc: float
    head: int
    tail: int
    frames: int
    kind: str
    reasons: list[str]


class Measuring(Schema):
    """The figures, or the job that measures them; its row goes once they are there."""

    figures: FiguresOut | None
    job: JobOut | None


class SameOut(Schema):
    """Another stream with the same payload ("payload"), or the same audio in another form ("audio")."""

    stream: StreamOut
    how: str


class SamePage(Schema):
    """What was found among the first `done` of `total` streams of nearly the same length."""

    found: list[SameOut]
    done: int
    total: int


@router.get("/audio/{address}/wave", response=Wave)
def wave(request: HttpRequest, address: str, response: HttpResponse, start: int = 0, frames: int = 0, bins: int = 800):
    """A part of a sound for drawing; 0 frames is all of it."""
    sound = sound_at(address)
    data, rough = drawing.wave(sound, start, frames or sound.format.frames, bins)
    response["Cache-Control"] = "no-store" if rough else FOREVER
    return drawing.as_json(data, rough)


@router.get("/audio/{address}/spectrum")
def spectrum(request: HttpRequest, address: str, start: int = 0, frames: int = 0, columns: int = 600):
    """Levels of a part as bytes, column by column, the lowest frequency first; 0 is -100 dB and less, 255 is 0 dB."""
    sound = sound_at(address)
    data = drawing.spectrum(sound, start, frames or sound.format.frames, columns)
    response = HttpResponse(data.tobytes(), content_type="application/octet-stream")
    response["Cache-Control"] = FOREVER
    response["X-Rows"] = str(data.shape[1])
    response["X-Lowest"] = f"{frequencies(sound.format.rate, data.shape[1])[0]:.1f}"
    return response


@router.get("/streams/{int:stream_id}/figures", response=FiguresOut | None)
def stream_figures(request: HttpRequest, stream_id: int):
    """What was measured of a stream; null where it was not measured yet."""
    return figures.figures_of(find_stream(stream_id))


@router.post("/streams/{int:stream_id}/figures", response=Measuring)
def measure_stream(request: HttpRequest, stream_id: int):
    """Decode a stream from end to end, and measure it: a short one at once, a longer one as a job."""
    row = find_stream(stream_id)
    job = None if figures.figures_of(row) else figures.start_measuring(row)
    found = figures.figures_of(row)
    return {"figures": found, "job": None if found else job}


@router.get("/streams/{int:stream_id}/same", response=SamePage)
def stream_same(request: HttpRequest, stream_id: int, after: int = 0):
    """Where else in the game the same payload or the same audio stands; ask on after what was looked at."""
    page = figures.same_as(find_stream(stream_id), max(0, after))
    return {**page, "found": [{"stream": query.stream_out(other), "how": how} for other, how in page["found"]]}
