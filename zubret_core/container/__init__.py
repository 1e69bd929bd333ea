"""Containers: whatever holds entries. One protocol over ZIP files, layout-described archives and loose files."""

from .base import Container, Entry
from .described import DescribedArchive
from .folder import GameFile, GameFolder
from .loose import LooseFile
from .zip import ZipArchive

__all__ = ["Container", "DescribedArchive", "Entry", "GameFile", "GameFolder", "LooseFile", "ZipArchive"]
