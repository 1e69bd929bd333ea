"""Taking one stream out, in the API: as an answer, or by a job where encoding takes long."""

from __future__ import annotations

import io
import re
import tempfile
from pathlib import Path

from django.conf import settings
from django.http import FileResponse, HttpRequest
from ninja import Router

from zubret_core.audio import Style, write_sound
from zubret_core.audio.files import wav_source
from zubret_core.audio.write import ending_of

from ..errors import stopped
from ..jobs.api import JobOut
from ..shelf import query
from ..shelf.api import find_stream
from ..shelf.filters import Filter
from ..shelf.models import Stream
from ..shelf.sound import open_original, sound_at
from . import sounds
from .sounds_api import SoundsHow

router = Router()


def _stem(row: Stream) -> str:
    """The name of a stream's file: bank, id and name, each once, without what has a meaning in a template of names."""
    parts = (Path(row.bank.name).stem, row.stream_id, query.stream_out(row)["name"])
    return re.sub(r"[{}/\\]", "_", "_".join(x for x in dict.fromkeys(parts) if x))


@router.get("/streams/{int:stream_id}/export")
def export(request: HttpRequest, stream_id: int, kind: str = "wav"):
    """The stream as a file: wav, flac, ogg, opus, or stored (the payload as it is), with its loop as metadata; 409 for one
    that takes so long to encode that a POST has to begin it as a job."""
    row = find_stream(stream_id)
    style = Style(kind)
    if kind not in query.kinds_at_once(row):
        raise stopped(
            409, "This stream is so long that its file is made by a job.", "Begin the job with a POST.", "kind"
        )
    sound = sound_at(query.original_address(row))
    stem = _stem(row)
    if kind == "wav":
        source = wav_source(sound.decode, sound.format, f"{stem}.wav")
        pieces = source.chunks(step=1 << 18)
        return FileResponse(_Pieces(pieces), as_attachment=True, filename=f"{stem}.wav", content_type="audio/wav")
    ending = ending_of(sound.format, style)
    payload = open_original(row).payload if kind == "stored" else None
    folder = tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR)
    try:
        place = Path(folder.name) / f"stream.{ending}"
        write_sound(place, sound.decode, sound.format, style, payload=payload)
        return FileResponse(_Once(place, folder), as_attachment=True, filename=f"{stem}.{ending}")
    except BaseException:
        folder.cleanup()
        raise


class _Once(io.FileIO):
    """A file that is sent once, and removed with its folder when it is closed."""

    def __init__(self, place: Path, folder: tempfile.TemporaryDirectory):
        super().__init__(place)
        self._folder = folder

    def close(self) -> None:
        super().close()
        self._folder.cleanup()


class _Pieces:
    """Chunks as the file object that FileResponse wants."""

    def __init__(self, pieces):
        self._pieces = pieces

    def read(self, size: int = -1) -> bytes:
        return next(self._pieces, b"")

    def close(self) -> None:
        self._pieces.close()


@router.post("/streams/{int:stream_id}/export", response=JobOut)
def export_long(request: HttpRequest, stream_id: int, kind: str = "wav"):
    """The stream as a file, made by a job: what a GET would answer, however long it takes."""
    row = find_stream(stream_id)
    how = SoundsHow(kind=kind, template=_stem(row))
    return sounds.start_sounds_out(row.archive.game, [row.pk], Filter(), how.dict(), "")
