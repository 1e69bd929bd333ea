"""Containers: whatever holds entries. One protocol over ZIP, TAR, disc images, described archives and loose files."""

from .base import Container, Entry, NewEntry, Siblings
from .described import DescribedArchive
from .folder import GameFile, GameFolder, LaidOver, SetBack
from .iso import IsoImage
from .loose import LooseFile
from .tar import TarArchive
from .zip import ZipArchive

__all__ = [
    "Container",
    "DescribedArchive",
    "Entry",
    "GameFile",
    "GameFolder",
    "IsoImage",
    "LaidOver",
    "LooseFile",
    "NewEntry",
    "SetBack",
    "Siblings",
    "TarArchive",
    "ZipArchive",
]
