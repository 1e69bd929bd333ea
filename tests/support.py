"""What the tests share: the demo game made once, small files of the house formats, test tones."""

import fcntl
import hashlib
import os
import resource
import shutil
import struct
import tempfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import numpy as np
import soundfile
from django.conf import settings
from django.test import SimpleTestCase

from standin.formats import PCM, Sound, bell, crate
from standin.make import make
from zubret_core.base import ZubretError
from zubret_core.source import BytesSource
from zubret_core.swap import Level

ROOT = Path(__file__).resolve().parent.parent
KEPT = Path(os.environ.get("ZUBRET_TEST_KEPT", settings.DATA_DIR))
"""The test run's own data folder, whatever a test sets for its server; one for all processes of a run."""


@contextmanager
def alone():
    """One process of the run makes what all of them keep, while the others wait."""
    with open(KEPT / "making.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


@cache
def demo_game(build: str = "1.0") -> Path:
    """The demo game's folder, made once and kept until the stand-in changes. Never write into it."""
    value = hashlib.sha256()
    for file in sorted((ROOT / "standin").rglob("*")):
        if file.suffix in (".py", ".ogg"):
            value.update(file.read_bytes())
    folder = KEPT / f"game-{build}-{value.hexdigest()[:12]}"
    with alone():
        if not folder.exists():
            part = Path(tempfile.mkdtemp(dir=KEPT))
            make(part, build)
            part.rename(folder)
    return folder


def copy_of_demo(to: Path, build: str = "1.0") -> Path:
    """The demo game in a folder of the test's own; over what is there with the time of now, as an update has it."""
    how = shutil.copy if to.exists() else shutil.copy2
    return Path(shutil.copytree(demo_game(build), to, dirs_exist_ok=True, copy_function=how))


def tone(seconds: float, rate: int, hz: float, channels: int = 1, level: float = 0.5) -> np.ndarray:
    """float32 (frames, channels)."""
    t = np.arange(round(seconds * rate)) / rate
    wave = level * np.sin(2 * np.pi * hz * t)
    return np.repeat(wave[:, None], channels, axis=1).astype(np.float32)


def noise(frames: int, channels: int = 1, level: int = 8000, seed: int = 1) -> np.ndarray:
    """int16 (frames, channels)."""
    return np.random.default_rng(seed).integers(-level, level, (frames, channels)).astype(np.int16)


def small_bell() -> bytes:
    """A bank of four streams: ADPCM with a loop on a block edge, PCM, a shared one, ADPCM mono."""
    return bell(
        "small",
        [
            Sound(1, noise(200, 2), 48000, (57, 180), block=64),  # (64 / 2 - 4) * 2 + 1 = 57 frames a block
            Sound(2, noise(90, 1, seed=2), 24000, codec=PCM),
            Sound(3, noise(90, 1, seed=2), 24000, codec=PCM, same_as=2),
            Sound(4, noise(150, 1, seed=3), 24000, block=32),
        ],
        "French",
    )


def small_crate() -> bytes:
    """An archive with a plain bank, a packed bank and two entries that are no sound."""
    return crate(
        "test",
        [
            ("notes.txt", b"The night ferry. " * 40, True),
            ("a/small.bell", small_bell(), False),
            ("b/small.bell", small_bell(), True),
            ("odd.bin", bytes(range(256)) * 9, False),
        ],
    )


def edited(data: bytes, at: int, form: str, *values: int) -> bytes:
    """The bytes with some numbers written over."""
    out = bytearray(data)
    struct.pack_into(form, out, at, *values)
    return bytes(out)


def resummed_bell(data: bytes) -> bytes:
    """A bank whose records were edited, with its table's sum put right."""
    (count,) = struct.unpack_from("<I", data, 32)
    return edited(data, 44, "<I", zlib.crc32(data[48 : 48 + 32 * count]))


def resummed_crate(data: bytes) -> bytes:
    """An archive whose table was edited, with its sum put right."""
    count, sector = struct.unpack_from("<II", data, 8)
    return edited(data, 16, "<I", zlib.crc32(data[sector * 2048 : sector * 2048 + 76 * count]))


def wav_file(path: Path, pcm: np.ndarray, rate: int, subtype: str = "PCM_16") -> Path:
    """A WAV file written by libsndfile."""
    soundfile.write(path, pcm, rate, subtype=subtype)
    return path


def peaking(db: float) -> Level:
    """The level of something of which only the peak counts."""
    return Level(None, None, db, db, 10.0)


def problem_of(test, call, *args, **kwargs) -> ZubretError:
    """The ZubretError that a call raises, complete: what, where and what to do next."""
    with test.assertRaises(ZubretError) as caught:
        call(*args, **kwargs)
    error = caught.exception
    test.assertTrue(error.what and error.where and error.next, f"incomplete: {error.as_dict()}")
    return error


@contextmanager
def files_end_at(size: int) -> Iterator[None]:
    """The operating system refuses to make any file longer (RLIMIT_FSIZE), as a full disk does in the middle of one."""
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (size, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def source(data: bytes, name: str = "test.bin") -> BytesSource:
    """Bytes as a source with a name."""
    return BytesSource(data, name)


def bytes_of(whole: BytesSource) -> bytes:
    """All bytes of a source."""
    return whole.read(0, whole.size)


class WithFolder(SimpleTestCase):
    """Tests that write into a folder of their own."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
