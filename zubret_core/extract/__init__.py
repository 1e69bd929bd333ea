"""Taking entries and sounds out of archives: safe names, parallel writing, a manifest, and going on after a cut."""

from .names import Target, safe_path, targets_for
from .naming import FIELDS, USUAL, checked_template, named
from .sounds import SoundItem, export_sounds, written_size
from .write import Item, Report, extract, extract_zip, read_manifest

__all__ = [
    "FIELDS",
    "USUAL",
    "Item",
    "Report",
    "SoundItem",
    "Target",
    "checked_template",
    "export_sounds",
    "extract",
    "extract_zip",
    "named",
    "read_manifest",
    "safe_path",
    "targets_for",
    "written_size",
]
