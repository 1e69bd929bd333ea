"""Games and surveys."""

from __future__ import annotations

from django.db import models


class Game(models.Model):
    """A registered game folder. `player` names the program that can play it for a trial run."""

    name = models.CharField(max_length=200)
    folder = models.CharField(max_length=2000, unique=True)
    player = models.CharField(max_length=20, default="", blank=True)
    build = models.CharField(max_length=60, default="", blank=True)
    added = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name

    def current_survey(self) -> Survey | None:
        """The newest finished survey."""
        return self.surveys.filter(finished__isnull=False).order_by("-id").first()


class Survey(models.Model):
    """One scan of a game folder, with the totals that it found."""

    game = models.ForeignKey(Game, models.CASCADE, related_name="surveys")
    started = models.DateTimeField(auto_now_add=True)
    finished = models.DateTimeField(null=True)
    files = models.IntegerField(default=0)
    bytes = models.BigIntegerField(default=0)

    def __str__(self) -> str:
        return f"survey {self.pk} of {self.game_id}"


class SurveyFile(models.Model):
    """One file as a survey saw it. `archive` is shared with every survey that saw the same version."""

    survey = models.ForeignKey(Survey, models.CASCADE, related_name="seen")
    path = models.CharField(max_length=2000)
    size = models.BigIntegerField()
    mtime_ns = models.BigIntegerField()
    archive = models.ForeignKey("shelf.Archive", models.SET_NULL, null=True, related_name="seen_in")

    class Meta:
        indexes = [models.Index(fields=["survey", "path"])]

    def __str__(self) -> str:
        return self.path
