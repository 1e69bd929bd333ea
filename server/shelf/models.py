"""What surveys found. Rows belong to a version of an archive and are shared by all surveys that saw it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Iterable
from json.encoder import encode_basestring_ascii as _quoted
from typing import TypeVar

from django.db import models
from django.db.models import Exists, OuterRef, QuerySet

from zubret_core.base import Format, Loop
from zubret_core.base.format import frozen
from zubret_core.locate import Locator
from zubret_core.locate.spot import IN, Step

from ..bulk import among
from ..games.models import Game, Survey, SurveyFile

as_json = json.JSONEncoder(separators=(",", ":")).encode
"""A value as JSON without spaces, as rows hold it."""


class Archive(models.Model):
    """One version of a file that holds entries. `complete` is set when all its rows are written.

    chain: the entries on the way in, [[path, number], ...], for an archive inside another one, whose `path` then is
    the outer path, " › " and the entry's. companions: files that belong to it, [[path, size, mtime_ns], ...].
    index_spans, index_sum: where its index stands, [[at, length], ...], and the sum of these bytes. unpacked: bytes of all
    entries; stream_count, seconds, stream_bytes: of all streams.
    """

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="archives")
    path = models.CharField(max_length=2000)
    size = models.BigIntegerField()
    mtime_ns = models.BigIntegerField()
    kind = models.CharField(max_length=20)
    layout = models.CharField(max_length=60, default="", blank=True)
    entry_count = models.IntegerField(default=0)
    unpacked = models.BigIntegerField(default=0)
    stream_count = models.IntegerField(default=0)
    seconds = models.FloatField(default=0.0)
    stream_bytes = models.BigIntegerField(default=0)
    evidence = models.CharField(max_length=300, default="", blank=True)
    chain = models.JSONField(default=list)
    outer = models.ForeignKey("self", models.CASCADE, null=True, related_name="nested")
    companions = models.JSONField(default=list)
    index_spans = models.JSONField(default=list)
    index_sum = models.CharField(max_length=16, default="", blank=True)
    opened_with = models.CharField(max_length=64, default="", blank=True)
    error = models.JSONField(null=True)
    complete = models.BooleanField(default=False)
    digested = models.BooleanField(default=False)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["game", "path", "size", "mtime_ns", "opened_with"], name="one_row_a_version"
            )
        ]
        indexes = [models.Index(fields=["digested"], condition=models.Q(digested=False), name="not_digested")]

    def __str__(self) -> str:
        return self.path

    @classmethod
    def unread(cls) -> QuerySet[Archive]:
        """Those whose contents are to be read and are not known yet."""
        return cls.objects.filter(digested=False, complete=True, error__isnull=True)

    def version(self) -> str:
        """A text that changes whenever the file does."""
        parts = [self.game_id, self.path, self.size, self.mtime_ns, self.index_sum, self.opened_with]
        return "/".join(map(str, [*parts, *(x for c in self.companions for x in c)]))

    def file_path(self) -> str:
        """The file of the game's folder in which it stands."""
        return (self.outer or self).path

    def inside(self) -> str:
        """Where it stands in that file, as people read it; empty for the file itself."""
        return self.path[len(self.file_path()) :].removeprefix(IN)

    def folder(self) -> str:
        """The folder that stands for it where things are taken out of several archives."""
        return "/".join(x for x in (self.file_path(), self.inside().replace(IN, "/")) if x)


class Entry(models.Model):
    """One entry of an archive, under the path that people call it.

    path_raw: the bytes of the path as it is stored, where that is another one (an id, or text that does not decode);
    file: the companion that holds its payload; digest: xxh3-64 of the unpacked bytes, from a background pass.
    """

    BULK = ("archive", "ordinal", "path", "path_raw", "at", "stored", "size", "method", "crc32", "file", "digest")

    archive = models.ForeignKey(Archive, models.CASCADE, related_name="entries", db_index=False)
    ordinal = models.IntegerField()
    path = models.CharField(max_length=2000)
    path_raw = models.BinaryField(null=True)
    at = models.BigIntegerField()
    stored = models.BigIntegerField()
    size = models.BigIntegerField()
    method = models.CharField(max_length=20)
    crc32 = models.BigIntegerField(null=True)
    file = models.CharField(max_length=300, blank=True)
    digest = models.BigIntegerField(null=True)

    class Meta:
        verbose_name_plural = "entries"
        indexes = [models.Index(fields=["archive", "ordinal"]), models.Index(fields=["archive", "path"])]

    def __str__(self) -> str:
        return self.path


class Bank(models.Model):
    """An entry that holds streams, or why it can't be read."""

    archive = models.ForeignKey(Archive, models.CASCADE, related_name="banks")
    entry_index = models.IntegerField()
    entry_path = models.CharField(max_length=2000)
    name = models.CharField(max_length=300)
    layout = models.CharField(max_length=60, default="", blank=True)
    language = models.CharField(max_length=60, default="", blank=True)
    error = models.JSONField(null=True)

    class Meta:
        indexes = [models.Index(fields=["archive"], condition=models.Q(error__isnull=False), name="broken_banks")]

    def __str__(self) -> str:
        return self.name


class Stream(models.Model):
    """One stream. `seconds` is frames / rate; loop points are half-open and null where it plays once; said: what else its bank says
    of it.

    kind: music, voice or effect, guessed from the format, and better once the stream was measured.
    """

    BULK = (
        "archive", "bank", "locator", "ordinal", "stream_id", "name", "codec", "variant", "rate", "channels",
        "frames", "seconds", "loop_start", "loop_end", "block_size", "parameters", "at", "stored", "shared", "keeps",
        "kind", "language", "said",
    )  # fmt: skip

    archive = models.ForeignKey(Archive, models.CASCADE, related_name="streams")
    bank = models.ForeignKey(Bank, models.CASCADE, related_name="streams")
    locator = models.TextField(db_index=True)
    ordinal = models.IntegerField()
    stream_id = models.CharField(max_length=100, blank=True)
    name = models.CharField(max_length=300, blank=True)
    codec = models.CharField(max_length=30)
    variant = models.CharField(max_length=60, blank=True)
    rate = models.IntegerField()
    channels = models.IntegerField()
    frames = models.BigIntegerField()
    seconds = models.FloatField(db_index=True)
    loop_start = models.BigIntegerField(null=True)
    loop_end = models.BigIntegerField(null=True)
    block_size = models.IntegerField()
    parameters = models.JSONField(default=dict)
    at = models.BigIntegerField()
    stored = models.BigIntegerField()
    shared = models.IntegerField(default=0)
    keeps = models.CharField(max_length=200, blank=True)
    kind = models.CharField(max_length=10, default="", blank=True)
    language = models.CharField(max_length=60, default="", blank=True)
    said = models.JSONField(default=dict)

    def __str__(self) -> str:
        return str(self.where())

    def where(self) -> Locator:
        """The locator that survives a new survey."""
        return unpack_locator(self.locator)

    def format(self) -> Format:
        """The stream's format, as the bank gives it."""
        return format_of(*(getattr(self, name) for name in FORMAT))

    def digest(self) -> str:
        """Names this stream in this version of the archive; part of its audio address."""
        text = f"{self.archive.version()}|{self.locator}|{self.at}|{self.stored}|{self.frames}"
        return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=10).hexdigest()


FORMAT = ("codec", "variant", "rate", "channels", "frames", "loop_start", "loop_end", "block_size", "parameters")
"""The columns of a stream that are its format."""


def format_of(
    codec: str, variant: str, rate: int, channels: int, frames: int, loop_start: int | None, loop_end: int | None,
    block_size: int, parameters: dict,
) -> Format:  # fmt: skip
    """A format by the columns of a stream."""
    loop = None if loop_start is None or loop_end is None else Loop(loop_start, loop_end)
    return Format(codec, rate, channels, frames, loop, block_size, variant, frozen(parameters))


class SurveyGroup(models.Model):
    """Streams of a survey that stand together: those of a bank, or of a folder's sounds that are in none (what), with sums.

    bank: the number of the bank, or of one of them; place: what a filter's `within` leads to; within: the archive, or the folder
    around it; seconds, bytes: of all of them together; looped: how many have a loop.
    """

    survey = models.ForeignKey("games.Survey", models.CASCADE, related_name="groups", db_index=False)
    bank = models.IntegerField()
    place = models.CharField(max_length=2000)
    what = models.CharField(max_length=6)
    name = models.CharField(max_length=300, blank=True)
    within = models.CharField(max_length=2000, blank=True)
    language = models.CharField(max_length=60, blank=True)
    streams = models.IntegerField()
    seconds = models.FloatField()
    bytes = models.BigIntegerField()
    looped = models.IntegerField()

    class Meta:
        indexes = [models.Index(fields=["survey", "place"])]

    def __str__(self) -> str:
        return self.place


class Beaten(models.Model):
    """A bank of a survey that the game does not read, since a stronger place holds a file of the same path: which, and by what rule."""

    survey = models.ForeignKey("games.Survey", models.CASCADE, related_name="beaten")
    bank = models.ForeignKey(Bank, models.CASCADE, related_name="beaten")
    by = models.CharField(max_length=2000, blank=True)
    why = models.CharField(max_length=300, blank=True)

    class Meta:
        verbose_name_plural = "beaten"

    def __str__(self) -> str:
        return f"{self.bank_id}, by {self.by}"


class Given(models.Model):
    """What a user says of a stream: a name, a mark, a kind, notes; of a spoken line its text, who speaks it now, and whether it
    is done. Belongs to the game, so that it survives surveys."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="given")
    locator = models.TextField()
    name = models.CharField(max_length=200, default="", blank=True)
    marked = models.BooleanField(default=False)
    kind = models.CharField(max_length=10, default="", blank=True)
    notes = models.TextField(default="", blank=True)
    text = models.TextField(default="", blank=True)
    author = models.CharField(max_length=100, default="", blank=True)
    done = models.BooleanField(default=False)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["game", "locator"], name="one_given_a_stream")]

    def __str__(self) -> str:
        return self.name


class SavedSearch(models.Model):
    """A question that a user keeps under a name; `search` is what the page's address holds of it."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="searches")
    name = models.CharField(max_length=100)
    search = models.TextField()

    class Meta:
        verbose_name_plural = "saved searches"
        constraints = [models.UniqueConstraint(fields=["game", "name"], name="one_search_a_name")]

    def __str__(self) -> str:
        return self.name


class Saying(models.Model):
    """One change of what is said of streams, of one or of many at once; `columns` of Given tells what was said, `streams` of
    how many. While it is kept, it can be taken back."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="sayings")
    columns = models.JSONField(default=list)
    streams = models.IntegerField(default=0)
    made = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{', '.join(self.columns)} of streams of {self.game_id}"


class Unsaid(models.Model):
    """What was said of a stream before a saying."""

    saying = models.ForeignKey(Saying, models.CASCADE, related_name="before")
    locator = models.TextField()
    name = models.CharField(max_length=200)
    marked = models.BooleanField()
    kind = models.CharField(max_length=10)
    notes = models.TextField()
    text = models.TextField(default="", blank=True)
    author = models.CharField(max_length=100, default="", blank=True)
    done = models.BooleanField(default=False)

    class Meta:
        verbose_name_plural = "unsaid"

    def __str__(self) -> str:
        return self.locator


class Figures(models.Model):
    """What was measured of a sound, by the digest of its address."""

    digest = models.CharField(max_length=40, primary_key=True)
    data = models.JSONField()

    class Meta:
        verbose_name_plural = "figures"

    def __str__(self) -> str:
        return self.digest


def streams_of(game: Game) -> QuerySet[Stream]:
    """The streams of a game's newest finished survey."""
    return streams_in(game.current_survey())


def streams_in(survey: Survey | None) -> QuerySet[Stream]:
    """The streams of a survey."""
    return Stream.objects.filter(archive__seen_in__survey=survey) if survey else Stream.objects.none()


R = TypeVar("R", bound=models.Model)


def seen_by(survey: Survey | None) -> Exists:
    """Of streams, entries or banks those that a survey has. Each is looked up in the survey: where few are chosen, a join would
    begin at the survey's files, and try all that are chosen with each."""
    return Exists(SurveyFile.objects.filter(survey=survey, archive=OuterRef("archive")))


def numbered(rows: QuerySet[R], numbers: Collection[int], survey: Survey | None) -> QuerySet[R]:
    """Streams, entries or banks by their numbers, as far as a survey has them."""
    return rows.filter(seen_by(survey), pk__in=among(numbers))


def pack_locator(archive: str, entries: Iterable[Step], stream_id: str, ordinal: int) -> str:
    """A locator's fields as text: what `as_json` gives of them, in a third of its time. Surrogates are escaped, so that any
    path can be stored."""
    steps = ",".join([f"[{_quoted(path)},{index}]" for path, index in entries])
    return f"[{_quoted(archive)},[{steps}],{_quoted(stream_id)},{ordinal}]"


def unpack_locator(text: str) -> Locator:
    """The inverse of `pack_locator`."""
    archive, entries, stream_id, ordinal = json.loads(text)
    return Locator(archive, tuple((path, index) for path, index in entries), stream_id, ordinal)
