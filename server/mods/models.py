"""Mods, swaps, rebuilds, trial runs."""

from __future__ import annotations

import hashlib
from pathlib import Path

from django.db import models
from django.db.models import QuerySet

from zubret_core.locate.spot import IN
from zubret_core.swap import FILE

from ..shelf.models import unpack_locator


class Mod(models.Model):
    """A named set of swaps against one game. current: it is worked on; used: it takes part when all are rebuilt together, in the order
    of `place`; version, author, licence, note, picture (the name of a file): what it says of itself."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="mods")
    name = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)
    current = models.BooleanField(default=False)
    used = models.BooleanField(default=True)
    place = models.IntegerField(default=0)
    version = models.CharField(max_length=40, default="", blank=True)
    author = models.CharField(max_length=200, default="", blank=True)
    licence = models.CharField(max_length=200, default="", blank=True)
    note = models.TextField(default="", blank=True)
    picture = models.CharField(max_length=60, default="", blank=True)
    removed = models.DateTimeField(null=True)

    def __str__(self) -> str:
        return self.name

    def takes(self) -> QuerySet[Swap]:
        """All takes of all swaps that have not been removed, oldest first."""
        return self.swaps.filter(removed__isnull=True).order_by("id")

    def live_swaps(self) -> QuerySet[Swap]:
        """The swaps that have not been removed, by their chosen takes, oldest first."""
        return self.takes().filter(chosen=True)

    def live_files(self) -> QuerySet[EntryFile]:
        """The files for whole entries that have not been removed, oldest first."""
        return self.files.filter(removed__isnull=True).order_by("id")


class Turn(models.Model):
    """Which mod wins a stream that several swap, whatever their order says."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="turns")
    locator = models.TextField()
    mod = models.ForeignKey(Mod, models.CASCADE)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["game", "locator"], name="mods_turn_one_winner")]

    def __str__(self) -> str:
        return f"{self.mod} wins {self.locator}"


class Swap(models.Model):
    """One take of one stream's replacement. Several may wait for the same stream of a mod; the `chosen` one is what the mod has.

    locator and payload_digest say which stream; source what it begins from (of `zubret_core.swap`), source_* which file or which
    other stream, and of a payload that is taken as it is stored its format; treatment what is done to it. info and original_level are measured by the job; original is the stream's format and its bytes, as
    payload_digest is its payload, when it was last prepared; prepared holds the digest,
    format, SNR and level of the encoded result, null while there is none for this treatment. step: the number of the treatment
    among those of `steps`; undos, redos: how many there are before and behind it.
    """

    HELD, READING, OPEN, PREPARING, READY, FAILED = "held", "reading", "open", "preparing", "ready", "failed"
    """held: it was sent, and nobody has asked yet to have it prepared."""

    mod = models.ForeignKey(Mod, models.CASCADE, related_name="swaps")
    locator = models.TextField(db_index=True)
    payload_digest = models.CharField(max_length=40, default="", blank=True)
    source = models.CharField(max_length=10, default=FILE)
    source_name = models.CharField(max_length=300)
    source_path = models.CharField(max_length=1000, blank=True)
    source_locator = models.TextField(default="", blank=True)
    source_format = models.JSONField(null=True)
    chosen = models.BooleanField(default=True)
    treatment = models.JSONField(default=dict)
    info = models.JSONField(null=True)
    original_level = models.JSONField(null=True)
    original = models.JSONField(null=True)
    state = models.CharField(max_length=10, default=READING)
    report = models.JSONField(null=True)
    prepared = models.JSONField(null=True)
    error = models.JSONField(null=True)
    revision = models.IntegerField(default=0)
    step = models.IntegerField(default=0)
    undos = models.IntegerField(default=0)
    redos = models.IntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    removed = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["mod", "locator"],
                condition=models.Q(chosen=True, removed__isnull=True),
                name="mods_swap_one_chosen",
            )
        ]

    def __str__(self) -> str:
        return f"{self.source_name} ({self.state})"

    def source_key(self) -> str:
        """Changes with what it begins from."""
        other = hashlib.blake2b(self.source_locator.encode(), digest_size=8).hexdigest() if self.source_locator else ""
        return Path(self.source_path).stem or self.source + other


class SwapStep(models.Model):
    """One treatment of a swap, to which it can be brought back."""

    swap = models.ForeignKey(Swap, models.CASCADE, related_name="steps")
    number = models.IntegerField()
    treatment = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["swap", "number"], name="mods_swapstep_number")]

    def __str__(self) -> str:
        return f"step {self.number} of {self.swap_id}"


class Preset(models.Model):
    """Steps of a treatment under a name, for any game."""

    name = models.CharField(max_length=100, unique=True)
    steps = models.JSONField()

    def __str__(self) -> str:
        return self.name


class EntryFile(models.Model):
    """A file that goes into an archive as it is: in the place of entry `index`, or as a new one (null).

    archive, inside and path locate the entry as the core does; label and shown_in are how people read them.
    """

    mod = models.ForeignKey(Mod, models.CASCADE, related_name="files")
    archive = models.CharField(max_length=2000)
    inside = models.JSONField(default=list)
    path = models.CharField(max_length=2000)
    index = models.IntegerField(null=True)
    label = models.CharField(max_length=2000)
    shown_in = models.CharField(max_length=2000)
    source_name = models.CharField(max_length=300)
    source_path = models.CharField(max_length=1000)
    digest = models.CharField(max_length=40)
    created = models.DateTimeField(auto_now_add=True)
    removed = models.DateTimeField(null=True)

    def __str__(self) -> str:
        return f"{self.source_name} in {self.shown_in}"


class Judgement(models.Model):
    """What became of a mod's originals in one survey of its game."""

    mod = models.OneToOneField(Mod, models.CASCADE, related_name="judgement")
    survey = models.IntegerField()
    made = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"judgement of {self.mod_id}"


class Judged(models.Model):
    """What became of one stream that a mod swaps, or of one entry that it replaces (file).

    verdict: of `zubret_core.locate.carry`; was: the locator that it had, empty for an entry; now: the one that it has, or for an
    entry its steps on the way in and its number; source: the locator of the other stream that it begins from; stored: the bytes of the original, as the mod knew it; detail: for people;
    open: something is left to do; before: what its takes or its file were before they were carried over, null while they were not.
    """

    BULK = ("judgement", "swap", "file", "verdict", "was", "now", "source", "stored", "detail", "open")

    judgement = models.ForeignKey(Judgement, models.CASCADE, related_name="rows")
    swap = models.ForeignKey(Swap, models.CASCADE, null=True)
    file = models.ForeignKey(EntryFile, models.CASCADE, null=True)
    verdict = models.CharField(max_length=10)
    was = models.TextField(default="", blank=True)
    now = models.TextField(default="", blank=True)
    source = models.TextField(default="", blank=True)
    stored = models.BigIntegerField(null=True)
    detail = models.CharField(max_length=1000, default="", blank=True)
    open = models.BooleanField(default=True)
    before = models.JSONField(null=True)

    def __str__(self) -> str:
        return f"{self.verdict}: {self.place()}"

    def place(self) -> str:
        """Where it stood, as people read it."""
        return f"{self.file.shown_in}{IN}{self.file.label}" if self.file else str(unpack_locator(self.was))


class Plan(models.Model):
    """What a rebuild of some mods would write: `made_of` changes with them; files: as the screen shows them; count: of them."""

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="plans")
    mods = models.JSONField(default=list)
    tight = models.BooleanField()
    made_of = models.CharField(max_length=40)
    files = models.JSONField()
    count = models.IntegerField()

    def __str__(self) -> str:
        return f"plan {self.pk}"


class Build(models.Model):
    """One rebuild of some mods: what was written, and its proof. `made_of` is theirs, as it went in."""

    WRITING, PROVING, PROVED, FAILED, CUT_OFF = "writing", "proving", "proved", "not proved", "cut off"

    game = models.ForeignKey("games.Game", models.CASCADE, related_name="builds")
    mods = models.JSONField(default=list)
    state = models.CharField(max_length=10, default=WRITING)
    tight = models.BooleanField(default=False)
    made_of = models.JSONField(default=dict)
    files = models.JSONField(default=list)
    proof = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"build {self.pk} ({self.state})"


class Trial(models.Model):
    """One trial run in the stand-in game: its log, why it refused, or what it played."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="trials")
    cue = models.CharField(max_length=300)
    title = models.CharField(max_length=300)
    loops = models.IntegerField()
    played = models.BooleanField(null=True)
    why = models.CharField(max_length=1000, default="", blank=True)
    log = models.JSONField(default=list)
    rate = models.IntegerField(default=0)
    channels = models.IntegerField(default=0)
    frames = models.BigIntegerField(default=0)
    digest = models.CharField(max_length=40, default="", blank=True)
    created = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"trial of {self.cue}"
