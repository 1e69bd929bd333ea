"""Random-access bytes: files, slices, chains of parts, unpacked entries."""

from .base import BytesSource, FileSource, FillSource, Later, SliceSource, Source, SourceFile, read_array, same_bytes
from .cache import DiskCache
from .chain import Built, ChainSource, Part, Segment, write_file
from .edits import Edit, Mark, Rewritten, Written, edits_of
from .sums import crc32_of
from .unpack import OpenFile, spooled
from .whole import PART, remove_parts, whole

__all__ = [
    "PART",
    "Built",
    "BytesSource",
    "ChainSource",
    "DiskCache",
    "Edit",
    "FileSource",
    "FillSource",
    "Later",
    "Mark",
    "OpenFile",
    "Part",
    "Rewritten",
    "Segment",
    "SliceSource",
    "Source",
    "SourceFile",
    "Written",
    "crc32_of",
    "edits_of",
    "read_array",
    "remove_parts",
    "same_bytes",
    "spooled",
    "whole",
    "write_file",
]
