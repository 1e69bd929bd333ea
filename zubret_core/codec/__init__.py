"""Codecs: payload bytes to samples and back."""

from .base import Codec
from .file import AudioFile
from .ima_adpcm import ImaAdpcm
from .pcm16 import Pcm16

CODECS: dict[str, Codec] = {c.name: c for c in (Pcm16(), ImaAdpcm(), AudioFile())}
"""Every codec by the name that layouts use."""


def warm() -> None:
    """Load the compiled kernels from their cache (or compile them), so that no click waits for it."""
    for codec in CODECS.values():
        codec.warm()


__all__ = ["CODECS", "AudioFile", "Codec", "ImaAdpcm", "Pcm16", "warm"]
