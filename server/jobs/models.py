"""The row of a long piece of work."""

from __future__ import annotations

import shutil
from pathlib import Path

from django.db import models


class Job(models.Model):
    """kind and title; state; done of total with a note; error (what, where, next); result (JSON).

    worker: the name of the process that does it; scratch: a folder that goes unless the job is done.
    """

    WAITING, RUNNING, DONE, FAILED = "waiting", "running", "done", "failed"
    CANCELLED, CUT_OFF = "cancelled", "cut off"
    OPEN = (WAITING, RUNNING)

    game = models.ForeignKey("games.Game", models.CASCADE, null=True, related_name="jobs")
    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=300)
    args = models.JSONField(default=dict)
    state = models.CharField(max_length=10, default=WAITING)
    done = models.BigIntegerField(default=0)
    total = models.BigIntegerField(default=0)
    note = models.CharField(max_length=300, default="", blank=True)
    error = models.JSONField(null=True)
    result = models.JSONField(default=dict)
    scratch = models.CharField(max_length=1000, default="", blank=True)
    cancel = models.BooleanField(default=False)
    worker = models.CharField(max_length=60, default="", blank=True)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        indexes = [models.Index(fields=["state", "created"])]

    def __str__(self) -> str:
        return f"{self.kind} {self.pk}: {self.state}"

    def clean_up(self) -> None:
        """Remove the folder in which the job was writing."""
        if self.scratch:
            shutil.rmtree(Path(self.scratch), ignore_errors=True)
