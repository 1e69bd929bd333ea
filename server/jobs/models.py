"""The row of a long piece of work."""

from __future__ import annotations

import shutil
from datetime import timedelta
from pathlib import Path

from django.db import models
from django.utils import timezone

from .heartbeat import DEAD_AFTER

CUT_OFF = {
    "what": "The work was cut off: the process that did it ended.",
    "where": "",
    "next": "Start it again. Nothing half-written was left behind.",
}


class JobManager(models.Manager["Job"]):
    def reap(self) -> int:
        """Mark running jobs whose lease has run out as cut off, and remove what they left half-written."""
        count = 0
        for job in self.filter(state=Job.RUNNING, lease_until__lt=timezone.now()):
            taken = self.filter(pk=job.pk, state=Job.RUNNING, lease_until__lt=timezone.now()).update(
                state=Job.CUT_OFF, error=CUT_OFF, finished=timezone.now()
            )
            if taken:
                job.clean_up()
                count += 1
        return count


class Job(models.Model):
    """kind and title; state; done of total with a note; error (what, where, next); result (JSON)."""

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
    lease_until = models.DateTimeField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    objects = JobManager()

    class Meta:
        indexes = [models.Index(fields=["state", "created"])]

    def __str__(self) -> str:
        return f"{self.kind} {self.pk}: {self.state}"

    @staticmethod
    def new_lease():
        """The moment until which a running job is believed to live."""
        return timezone.now() + timedelta(seconds=DEAD_AFTER)

    def clean_up(self) -> None:
        """Remove the folder in which the job was writing."""
        if self.scratch:
            shutil.rmtree(Path(self.scratch), ignore_errors=True)
