"""Layouts that users write."""

from __future__ import annotations

from django.db import models


class UserLayout(models.Model):
    """A layout of the user's. `draft` is what stands in the editor; surveys use the newest version."""

    name = models.CharField(max_length=100)
    draft = models.TextField()
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return self.name


class LayoutVersion(models.Model):
    """A layout as it was saved: it had no fault then."""

    layout = models.ForeignKey(UserLayout, models.CASCADE, related_name="versions")
    slug = models.CharField(max_length=60, db_index=True)
    text = models.TextField()
    saved = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.slug} of {self.saved:%Y-%m-%d %H:%M}"
