"""A bounded folder of unpacked entries, so that they can be read at random."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from pathlib import Path

from .base import FileSource, Source
from .whole import whole


class DiskCache:
    """Files in `folder`, at most `limit` bytes of them; the longest unused go first.

    Several processes may share a folder: a file appears whole, by rename.
    """

    def __init__(self, folder: Path, limit: int):
        self.folder, self.limit = folder, limit

    def get(self, key: str, chunks: Iterable[bytes], name: str) -> Source:
        """The bytes known by `key`, written from `chunks` if they are not there yet."""
        path = self.folder / hashlib.blake2b(key.encode("utf-8", "surrogateescape"), digest_size=16).hexdigest()
        if path.exists():
            os.utime(path)
        else:
            self.folder.mkdir(parents=True, exist_ok=True)
            with whole(path) as part, open(part, "wb") as out:
                out.writelines(chunks)
            self._trim(keep=path)
        return FileSource(path, name=name)

    def _trim(self, keep: Path) -> None:
        files = sorted((f.stat().st_mtime, f.stat().st_size, f) for f in self.folder.iterdir() if f.is_file())
        total = sum(size for _, size, _ in files)
        for _, size, file in files:
            if total <= self.limit:
                break
            if file != keep:
                file.unlink(missing_ok=True)
                total -= size
