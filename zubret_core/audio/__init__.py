"""Audio files with their loops, resampling, mixing, peaks."""

from .files import Audio, encoded_file, read_audio, wav_header, write_ogg, write_wav
from .mix import can_mix, mixed
from .peaks import level_dbfs, peaks
from .resample import carried, resampled, resampled_length

__all__ = [
    "Audio",
    "can_mix",
    "carried",
    "encoded_file",
    "level_dbfs",
    "mixed",
    "peaks",
    "read_audio",
    "resampled",
    "resampled_length",
    "wav_header",
    "write_ogg",
    "write_wav",
]
