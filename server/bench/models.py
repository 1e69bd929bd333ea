"""What was found by looking through files that nothing describes. It is found again where it is lost."""

from __future__ import annotations

import hashlib
from typing import Any

from django.db import models

from zubret_core.base import Format
from zubret_core.base.format import frozen


class Sifting(models.Model):
    """One look for sounds through a file of a game, or an entry in one; path "": through all files that nothing describes. The last one
    of each path is kept.

    size: bytes that were looked through; files: how many.
    """

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="siftings")
    path = models.CharField(max_length=2000, default="", blank=True)
    job = models.ForeignKey("jobs.Job", models.SET_NULL, null=True)
    size = models.BigIntegerField(default=0)
    files = models.IntegerField(default=0)

    class Meta:
        indexes = [models.Index(fields=["game", "path"])]

    def __str__(self) -> str:
        return f"sounds in {self.path or self.game.name}"


class Sifted(models.Model):
    """A sound that was found. path: of the file or entry, whose version (size and time) it has; at, length: bytes; codec: empty where
    it can't be heard, with parameters and what else its format has."""

    FIELDS = (
        "sifting", "path", "version", "at", "length", "title", "ending", "reason", "codec", "variant", "rate", "channels",
        "frames", "parameters",
    )  # fmt: skip

    sifting = models.ForeignKey(Sifting, models.CASCADE, related_name="found")
    path = models.CharField(max_length=2000)
    version = models.CharField(max_length=2100)
    at = models.BigIntegerField()
    length = models.BigIntegerField()
    title = models.CharField(max_length=60)
    ending = models.CharField(max_length=10)
    reason = models.CharField(max_length=200)
    codec = models.CharField(max_length=30, default="", blank=True)
    variant = models.CharField(max_length=60, default="", blank=True)
    rate = models.IntegerField(default=0)
    channels = models.IntegerField(default=0)
    frames = models.BigIntegerField(default=0)
    parameters = models.JSONField(default=dict)

    class Meta:
        indexes = [models.Index(fields=["sifting", "id"])]

    def __str__(self) -> str:
        return f"{self.title} at byte {self.at:,} of {self.path}"

    @property
    def format(self) -> Format | None:
        """How it is heard."""
        if not self.codec:
            return None
        how: Any = frozen(self.parameters)
        return Format(self.codec, self.rate, self.channels, self.frames, None, 0, self.variant, how)

    @property
    def digest(self) -> str:
        """Changes with the file's version and the place."""
        text = repr((self.path, self.version, self.at, self.length))
        return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=10).hexdigest()

    @property
    def audio(self) -> str | None:
        """The address at which it is heard."""
        return f"s{self.pk}.{self.digest}" if self.codec else None
