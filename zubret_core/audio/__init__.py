"""Audio files with their loops, resampling, mixing, peaks, loudness, drawings."""

from .files import AudioInfo, encoded_file, look_through, pieces_between, wav_header
from .measure import Measures, measure
from .mix import can_mix, mixed
from .peaks import level_dbfs, peaks
from .resample import carried, resampled, resampled_length
from .write import Style, write_sound, written_format

__all__ = [
    "AudioInfo",
    "Measures",
    "Style",
    "can_mix",
    "carried",
    "encoded_file",
    "level_dbfs",
    "look_through",
    "measure",
    "mixed",
    "peaks",
    "pieces_between",
    "resampled",
    "resampled_length",
    "wav_header",
    "write_sound",
    "written_format",
]
