"""The request that every key press in a list waits for. It is no part of the API's router, whose reading of the
parameters would take longer than decoding the samples."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse

from ..errors import stopped
from ..web import plain
from .sound import sound_at

LONGEST_CHUNK = 1 << 20
"""Frames in one answer at most."""


@plain
def pcm(request: HttpRequest, address: str) -> HttpResponse:
    """Frames [start, start + frames) of a sound as little-endian int16, channels interleaved."""
    sound = sound_at(address)
    try:
        start, frames = (int(request.GET.get(*default)) for default in (("start", "0"), ("frames", "65536")))
    except ValueError as e:
        raise stopped(422, "Frames are counted in whole numbers.", "Correct the start or the number.") from e
    if not 0 <= start <= sound.format.frames or frames < 1:
        raise stopped(416, "These frames do not exist.", f"Ask for frames 0 to {sound.format.frames}.", str(start))
    data = sound.pcm(start, min(frames, LONGEST_CHUNK)).astype("<i2", copy=False).tobytes()
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    response["X-Rate"], response["X-Channels"] = str(sound.format.rate), str(sound.format.channels)
    return response
