"""Errors of the server that are not the core's."""

from __future__ import annotations

from typing import TypeVar

from django.db.models import Model, QuerySet

from zubret_core.base import ZubretError

M = TypeVar("M", bound=Model)


def stopped(status: int, what: str, next: str, where: str | None = None) -> ZubretError:
    """An error with an HTTP status of its own."""
    error = ZubretError(what, file=where, next=next)
    error.status = status  # type: ignore[attr-defined]
    return error


def one(rows: QuerySet[M], pk: int) -> M:
    """The row with this key, or a 404 that says what is missing."""
    row = rows.filter(pk=pk).first()
    if row is None:
        name = rows.model._meta.verbose_name
        raise stopped(404, f"There is no {name} with number {pk}.", "Go back and choose it from the list.")
    return row
