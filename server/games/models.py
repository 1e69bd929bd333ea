"""Games and surveys."""

from __future__ import annotations

from django.db import models


class KnownGames(models.Manager["Game"]):
    """The games that were not forgotten."""

    def get_queryset(self) -> models.QuerySet[Game]:
        return super().get_queryset().filter(forgotten__isnull=True)


class Game(models.Model):
    """A registered game folder. `player` names the program (of settings.PLAYERS) that can play it for a trial run; `forgotten`: since when it
    is in no list any more, until its rows are gone, too; `said`: grows when what is said of its streams, or which are swapped, changes.
    way: by which of its ways it takes changes, "" for the place of the old files; ticked: what a person has done of what only a person
    can do for it."""

    name = models.CharField(max_length=200)
    folder = models.CharField(max_length=2000, unique=True)
    player = models.CharField(max_length=20, default="", blank=True)
    build = models.CharField(max_length=60, default="", blank=True)
    added = models.DateTimeField(auto_now_add=True)
    forgotten = models.DateTimeField(null=True)
    said = models.IntegerField(default=0)
    way = models.CharField(max_length=60, default="", blank=True)
    ticked = models.JSONField(default=list)

    objects = KnownGames()
    everything = models.Manager["Game"]()

    def __str__(self) -> str:
        return self.name

    @classmethod
    def has_said(cls, pk: int) -> None:
        """What is said of a game's streams, or which of them are swapped, has changed."""
        cls.objects.filter(pk=pk).update(said=models.F("said") + 1)

    def current_survey(self) -> Survey | None:
        """The newest finished survey."""
        return self.surveys.filter(finished__isnull=False).order_by("-id").first()


class Survey(models.Model):
    """One scan of a game folder, with the totals that it found; `label` is the user's, such as the game's build.

    One that is not finished is being made, or was given up, or is forgotten. read_with: changes with what recognises files;
    listing: with the files, their sizes and times and all that reads them, and "" where not all could be read.
    bytes: on disk; unpacked: bytes of all that is in the files; archives, locked: files that are archives, and those of them
    that are locked; loose: files that are sounds or banks by themselves; nested: archives inside files; holders: those of all
    with streams; entries, streams: of all archives; seconds, stored: how long the streams are, and their bytes; languages: of
    the banks.
    """

    game = models.ForeignKey(Game, models.CASCADE, related_name="surveys")
    label = models.CharField(max_length=60, default="", blank=True)
    started = models.DateTimeField(auto_now_add=True)
    finished = models.DateTimeField(null=True)
    read_with = models.CharField(max_length=64, default="", blank=True)
    listing = models.CharField(max_length=32, default="", blank=True)
    files = models.IntegerField(default=0)
    bytes = models.BigIntegerField(default=0)
    unpacked = models.BigIntegerField(default=0)
    archives = models.IntegerField(default=0)
    loose = models.IntegerField(default=0)
    locked = models.IntegerField(default=0)
    nested = models.IntegerField(default=0)
    holders = models.IntegerField(default=0)
    entries = models.IntegerField(default=0)
    streams = models.IntegerField(default=0)
    seconds = models.FloatField(default=0.0)
    stored = models.BigIntegerField(default=0)
    languages = models.JSONField(default=list)

    def __str__(self) -> str:
        return self.label or f"survey {self.pk} of {self.game_id}"

    def title(self) -> str:
        """How people tell it from others."""
        return f"{self.game.name}, {self.label or f'survey {self.pk}'}"


class SurveyFile(models.Model):
    """One file as a survey saw it, an archive inside one (`inside`), or a folder; with what it is and by which evidence.

    what: archive, sound, locked, unreadable, companion (of `belongs_to`), list, other, or folder. within: the folder, or
    the archive, in which it stands. mtime_ns, changed_ns: the last change of the file, and of its state. `archive` is
    shared with every survey that saw the same version; streams: how many it holds; held: with those in archives inside it. size,
    count, held: for a folder bytes, files and streams below it.
    """

    BULK = (
        "survey", "path", "within", "size", "mtime_ns", "changed_ns", "inside", "what", "evidence", "belongs_to", "archive",
        "streams", "held", "count",
    )  # fmt: skip

    ARCHIVE, SOUND, LOCKED, UNREADABLE = "archive", "sound", "locked", "unreadable"
    COMPANION, LIST, OTHER, FOLDER = "companion", "list", "other", "folder"

    survey = models.ForeignKey(Survey, models.CASCADE, related_name="seen", db_index=False)
    path = models.CharField(max_length=2000)
    within = models.CharField(max_length=2000, default="", blank=True)
    size = models.BigIntegerField()
    mtime_ns = models.BigIntegerField()
    changed_ns = models.BigIntegerField(null=True)
    inside = models.BooleanField(default=False)
    what = models.CharField(max_length=12, default=OTHER)
    evidence = models.CharField(max_length=300, default="", blank=True)
    belongs_to = models.CharField(max_length=2000, default="", blank=True)
    archive = models.ForeignKey("shelf.Archive", models.SET_NULL, null=True, related_name="seen_in")
    streams = models.IntegerField(default=0)
    held = models.IntegerField(default=0)
    count = models.IntegerField(default=0)

    class Meta:
        indexes = [
            models.Index(fields=["survey", "path"]),
            models.Index(fields=["survey", "within", "path"]),
            models.Index(fields=["survey", "-streams", "path"]),
        ]

    def __str__(self) -> str:
        return self.path


class Key(models.Model):
    """A key of a game's key ring. `secret` is hexadecimal; it is never given out but when asked for by itself."""

    game = models.ForeignKey(Game, models.CASCADE, related_name="keys")
    label = models.CharField(max_length=100)
    builds = models.CharField(max_length=200, default="", blank=True)
    secret = models.TextField()
    added = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.label


class KeyChoice(models.Model):
    """Which key opens an archive: `name` is the key's name in the archive's layout."""

    game = models.ForeignKey(Game, models.CASCADE, related_name="key_choices")
    path = models.CharField(max_length=2000)
    name = models.CharField(max_length=60)
    key = models.ForeignKey(Key, models.CASCADE, related_name="choices")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["game", "path", "name"], name="one_choice_a_key")]

    def __str__(self) -> str:
        return f"{self.path}: {self.key}"


class Pin(models.Model):
    """The layout that a user has chosen for a file, a folder ("data/") or a whole game (""): it comes before all others that fit."""

    game = models.ForeignKey(Game, models.CASCADE, related_name="pins")
    path = models.CharField(max_length=2000, default="", blank=True)
    slug = models.CharField(max_length=60)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["game", "path"], name="one_pin_a_place")]

    def __str__(self) -> str:
        return f"{self.path or self.game.name}: {self.slug}"


class NameList(models.Model):
    """Names for the entries of an archive that stores only ids or hashes."""

    game = models.ForeignKey(Game, models.CASCADE, related_name="name_lists")
    path = models.CharField(max_length=2000)
    title = models.CharField(max_length=300)
    text = models.TextField()
    added = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.title


class Comparison(models.Model):
    """What changed from one survey to another; `unread` tells how many contents were not known when it was made, `counts` how
    many changes of each kind there are. Of a pair
    one is `ready` at most; one that is not is being made, or another has taken its place."""

    old = models.ForeignKey(Survey, models.CASCADE, related_name="+")
    new = models.ForeignKey(Survey, models.CASCADE, related_name="+")
    unread = models.IntegerField(default=0)
    counts = models.JSONField(default=dict)
    made = models.DateTimeField(auto_now_add=True)
    ready = models.BooleanField(default=False)

    def __str__(self) -> str:
        return f"{self.old_id} to {self.new_id}"


class Change(models.Model):
    """One entry (or file, where `path` is empty) that is not as it was.

    kind: added, removed, changed, moved (same content, another place), renamed (same content, another path), or
    unsure (same size, contents not yet known).
    """

    BULK = ("comparison", "kind", "file", "path", "old_path", "old_size", "new_size", "detail")

    comparison = models.ForeignKey(Comparison, models.CASCADE, related_name="changes", db_index=False)
    kind = models.CharField(max_length=8)
    file = models.CharField(max_length=2000)
    path = models.CharField(max_length=2000, blank=True)
    old_path = models.CharField(max_length=2000, blank=True)
    old_size = models.BigIntegerField(null=True)
    new_size = models.BigIntegerField(null=True)
    detail = models.CharField(max_length=100, blank=True)

    class Meta:
        indexes = [models.Index(fields=["comparison", "file", "path"])]

    def __str__(self) -> str:
        return f"{self.kind} {self.path or self.file}"


class ExportFolder(models.Model):
    """A folder that the user named for taking out files."""

    path = models.CharField(max_length=2000, unique=True)
    named = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.path


class AllowedFolder(models.Model):
    """A folder that the user let Zubret read, beside those that are set from outside."""

    path = models.CharField(max_length=2000, unique=True)
    since = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.path
