"""Errors of the server that are not the core's."""

from __future__ import annotations

import errno
import shutil
from typing import TypeVar

from django.conf import settings
from django.core.exceptions import RequestDataTooBig
from django.db import OperationalError
from django.db.models import Model, QuerySet

from zubret_core.base import ZubretError
from zubret_core.base.wording import spaced

M = TypeVar("M", bound=Model)


def stopped(status: int, what: str, next: str, where: str | None = None) -> ZubretError:
    """An error with an HTTP status of its own."""
    error = ZubretError(what, file=where, next=next)
    error.status = status  # type: ignore[attr-defined]
    return error


def of_system(error: BaseException) -> ZubretError | None:
    """What the system could not do, in words for the person who can help: a full disk, a busy database, a number or
    a request beyond its size. None for any other error."""
    full = isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)
    if isinstance(error, OperationalError):
        full = any(sign in str(error) for sign in ("disk is full", "disk I/O", "unable to open"))
        if not full:
            return stopped(503, "Zubret's database is busy.", "Try again in a moment.")
    if isinstance(error, RequestDataTooBig):
        most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE >> 20
        return stopped(413, f"The request is larger than {most} MiB.", "Send less at once: cut the list into parts.")
    if isinstance(error, OverflowError) and "SQLite INTEGER" in str(error):
        return stopped(422, "A number in the request is beyond all that there can be.", "Correct this number.")
    if not full:
        return None
    free = spaced(shutil.disk_usage(settings.DATA_DIR).free)
    return stopped(
        507,
        f"The disk is full: {free} B are free where Zubret keeps its data.",
        "Free some room there, by emptying the system's bin or forgetting games that are done, then try again. "
        "Nothing that was finished is lost.",
        str(settings.DATA_DIR),
    )


def one(rows: QuerySet[M], pk: int) -> M:
    """The row with this key, or a 404 that says what is missing."""
    row = rows.filter(pk=pk).first()
    if row is None:
        name = rows.model._meta.verbose_name
        raise stopped(404, f"There is no {name} with number {pk}.", "Go back and choose it from the list.")
    return row
