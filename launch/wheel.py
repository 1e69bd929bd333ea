"""Build hook: what the package needs is what requirements.txt pins."""

from __future__ import annotations

from pathlib import Path

from hatchling.metadata.plugin.interface import MetadataHookInterface


class Requirements(MetadataHookInterface):
    """Reads the list that the launcher installs from, too."""

    def update(self, metadata: dict) -> None:
        """Set the project's dependencies."""
        lines = (Path(self.root) / "requirements.txt").read_text("utf-8").splitlines()
        metadata["dependencies"] = [line for line in lines if line and not line.startswith("#")]
