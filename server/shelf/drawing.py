"""Waveforms and spectrograms of sounds: from files that are made once, in the background."""

from __future__ import annotations

import logging
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db import close_old_connections
from numpy.typing import NDArray

from zubret_core.audio import peaks
from zubret_core.audio.spectrum import spectrogram
from zubret_core.audio.waveform import FINEST, drawn, read_waveform, sketched, write_waveform
from zubret_core.source import whole

from .sound import Sound

log = logging.getLogger("zubret.drawing")
AT_ONCE = 1 << 21
"""Frames up to which a drawing is decoded while its reader waits."""
WHOLE = 1 << 24
"""Frames up to which the peaks are those of all samples."""
MOST_BINS = 2000
PEAKS = 960
"""Peaks are worked out once at this resolution; smaller drawings are made from them."""
KEPT_BYTES = 512 << 20
"""Bytes of waveforms that are kept; the longest unused go first."""

_maker = ThreadPoolExecutor(1, thread_name_prefix="drawing")
_making: dict[str, Future] = {}
_lock = threading.Lock()


def _place(sound: Sound) -> Path:
    return settings.DATA_DIR / "waves" / f"{sound.digest}.wave"


def wave(sound: Sound, start: int, frames: int, bins: int) -> tuple[NDArray[np.int16], bool]:
    """Lowest and highest sample (bins, channels, 2) of a part, and whether that is rough and finer ones will follow."""
    start = max(0, min(start, sound.format.frames))
    frames = max(0, min(frames, sound.format.frames - start))
    if not frames:
        return np.zeros((0, sound.format.channels, 2), np.int16), False
    bins = max(1, min(bins, MOST_BINS, frames))
    place = _place(sound)
    if frames >= bins * FINEST and place.exists():
        place.touch()
        kept = read_waveform(place, sound.format, start, frames, bins)
        if kept is not None:
            return kept, False
    if frames <= AT_ONCE:
        return drawn(sound.decode, sound.format, start, frames, bins), False
    _make(sound, place)
    return sketched(sound.decode, sound.format, start, frames, bins), True


def peaks_of(sound: Sound, bins: int) -> tuple[list[int], bool]:
    """`bins` peaks (0 to 255) of a sound, from kept ones, and whether they are rough: of a long sound that was not drawn yet
    a few places are looked at."""
    place, bins = settings.DATA_DIR / "peaks" / f"{sound.digest}.u8", max(1, min(bins, PEAKS))
    if place.exists():
        return _fewer(np.fromfile(place, np.uint8), bins), False
    if sound.format.frames > WHOLE:
        kept = (
            read_waveform(_place(sound), sound.format, 0, sound.format.frames, PEAKS)
            if _place(sound).exists()
            else None
        )
        rough = kept is None
        data = sketched(sound.decode, sound.format, 0, sound.format.frames, PEAKS) if kept is None else kept
        loudest = np.abs(data.astype(np.int32)).max(axis=(1, 2))
        fine = np.where(loudest > 0, np.clip(-(-loudest * 255 // 32768), 1, 255), 0).astype(np.uint8)
    else:
        fine, rough = peaks(sound.decode, sound.format.frames, PEAKS), False
    if not rough:
        place.parent.mkdir(exist_ok=True)
        with whole(place) as part:
            fine.tofile(part)
    return _fewer(fine, bins), rough


def _fewer(fine: NDArray[np.uint8], bins: int) -> list[int]:
    edges = np.linspace(0, len(fine), bins + 1).astype(int)[:-1]
    return np.maximum.reduceat(fine, edges).tolist()


def _make(sound: Sound, place: Path) -> None:
    """Begin to make the file of a waveform, unless that has begun already."""

    def work() -> None:
        try:
            place.parent.mkdir(exist_ok=True)
            write_waveform(place, sound.decode, sound.format)
            _tidy(place.parent)
        except Exception as e:  # the rough drawing stays; hearing the sound tells what is wrong with it
            log.warning("no waveform of %s: %s", sound.name, e)
        finally:
            close_old_connections()
            with _lock:
                _making.pop(sound.digest, None)

    with _lock:
        if sound.digest not in _making:
            _making[sound.digest] = _maker.submit(work)


def _tidy(folder: Path) -> None:
    files = sorted(folder.glob("*.wave"), key=lambda p: p.stat().st_mtime)
    total = sum(p.stat().st_size for p in files)
    for file in files[:-1]:
        if total <= KEPT_BYTES:
            return
        total -= file.stat().st_size
        file.unlink(missing_ok=True)


def spectrum(sound: Sound, start: int, frames: int, columns: int) -> NDArray[np.uint8]:
    """Levels (columns, rows) of a part; see `spectrogram`."""
    start = max(0, min(start, sound.format.frames - 1))
    frames = max(1, min(frames, sound.format.frames - start))
    return spectrogram(sound.decode, sound.format, start, frames, max(1, min(columns, 1200)))


def as_json(data: NDArray[np.int16], rough: bool) -> dict[str, Any]:
    """For each channel the lowest and the highest of each bin, one after the other."""
    return {"rough": rough, "channels": [data[:, c, :].ravel().tolist() for c in range(data.shape[1])]}
