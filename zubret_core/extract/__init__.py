"""Taking entries out of archives: safe names, parallel writing, a manifest, and going on after a cut."""

from .names import Target, safe_path, targets_for
from .write import Item, Report, extract, extract_zip, read_manifest

__all__ = ["Item", "Report", "Target", "extract", "extract_zip", "read_manifest", "safe_path", "targets_for"]
