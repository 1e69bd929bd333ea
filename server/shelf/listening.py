"""The request that every key press in a list waits for. It is no part of the API's router, whose reading of the
parameters would take longer than decoding the samples."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse

from ..errors import stopped
from ..web import plain
from .sound import sound_at

LONGEST_CHUNK = 1 << 20
"""Frames in one answer at most."""
OPERATION = {
    "operationId": "server_shelf_listening_pcm",
    "summary": "Pcm",
    "description": "Frames [start, start + frames) of a sound as little-endian int16, channels interleaved.",
    "tags": ["shelf"],
    "parameters": [
        {"in": "path", "name": "address", "required": True, "schema": {"title": "Address", "type": "string"}},
        {
            "in": "query", "name": "start", "required": False,
            "schema": {"title": "Start", "type": "integer", "minimum": 0, "default": 0},
        },
        {
            "in": "query", "name": "frames", "required": False,
            "schema": {"title": "Frames", "type": "integer", "minimum": 1, "maximum": LONGEST_CHUNK, "default": 65536},
        },
    ],
    "responses": {
        "200": {
            "description": "The samples; fewer where the sound ends.",
            "headers": {
                "X-Rate": {"description": "Frames a second.", "schema": {"type": "integer"}},
                "X-Channels": {"description": "Channels of a frame.", "schema": {"type": "integer"}},
            },
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
}  # fmt: skip
"""It as the OpenAPI document tells it (OpenAPI 3.1, Operation Object)."""


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
