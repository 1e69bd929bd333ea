"""Who holds a file of a game, by what is in its archives and folders."""

from __future__ import annotations

from contextlib import suppress

from ..base import ZubretError
from ..source import DiskCache
from .known import Known
from .reads import LoadOrder, Mount
from .spot import Spot


class Holders:
    """The places of a load order, looked into as far as somebody asks. What can't be read holds nothing."""

    def __init__(self, order: LoadOrder, known: Known, cache: DiskCache | None = None):
        self.order, self.known, self.cache = order, known, cache
        self._spots: dict[int, Spot] = {}
        self._names: dict[int, dict[str, int]] = {}

    def spot(self, mount: Mount) -> Spot:
        """An archive, for reading."""
        if mount.rank not in self._spots:
            self._spots[mount.rank] = Spot.file(self.order.game, mount.path, self.known, self.cache)
        return self._spots[mount.rank]

    def names(self, mount: Mount) -> dict[str, int]:
        """The game's paths of the entries of an archive, as they compare, with the entries' numbers."""
        if mount.rank not in self._names:
            labels: list[str] = []
            with suppress(ZubretError):
                archive = self.spot(mount).archive
                labels = [archive.label(n) for n in range(len(archive.entries))]
            self._names[mount.rank] = {self.order.same(mount.outer(label)): n for n, label in enumerate(labels)}
        return self._names[mount.rank]

    def holds(self, mount: Mount, game_path: str) -> bool:
        """Whether a place holds a file that the game knows by this path."""
        inner = self.order.inner(mount, game_path)
        if inner is None or mount.archive:
            return inner is not None and self.order.same(game_path) in self.names(mount)
        below = f"{mount.path}/" if mount.path else ""
        return self.order.game.locate(below + inner).is_file()

    def of(self, game_path: str) -> list[Mount]:
        """All places that hold a file, the strongest first."""
        return [mount for mount in reversed(self.order.mounts) if self.holds(mount, game_path)]
