"""Random-access bytes: files, slices, chains of parts, unpacked entries."""

from .base import BytesSource, FileSource, FillSource, SliceSource, Source, SourceFile, crc32_of, read_array
from .cache import DiskCache
from .chain import Built, ChainSource, Part, Segment, write_file
from .unpack import inflated, spooled

__all__ = [
    "Built",
    "BytesSource",
    "ChainSource",
    "DiskCache",
    "FileSource",
    "FillSource",
    "Part",
    "Segment",
    "SliceSource",
    "Source",
    "SourceFile",
    "crc32_of",
    "inflated",
    "read_array",
    "spooled",
    "write_file",
]
