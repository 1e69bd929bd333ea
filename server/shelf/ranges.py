"""HTTP Range requests over a source (RFC 9110, sections 13.1.5 and 14)."""

from __future__ import annotations

import re

from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse

from zubret_core.source import Source

from ..web import problem

_RANGE = re.compile(r"bytes=(\d*)-(\d*)$")


def ranged(request: HttpRequest, source: Source, content_type: str, etag: str, name: str) -> HttpResponseBase:
    """The whole source (200), one part of it (206), or 416 where the part does not exist."""
    tag, size = f'"{etag}"', source.size
    wanted = request.headers.get("Range")
    if wanted and request.headers.get("If-Range", tag) != tag:
        wanted = None  # the client's half belongs to another version: send all
    start, end, status = 0, size, 200
    if wanted:
        match = _RANGE.match(wanted.strip())
        span = _span(match, size) if match else None
        if span is None:
            response: HttpResponseBase = problem(
                416, "This part of the file does not exist.", wanted, f"Ask for bytes 0 to {size - 1}."
            )
            response["Content-Range"] = f"bytes */{size}"
            return response
        (start, end), status = span, 206
    if request.method == "HEAD":
        response = HttpResponse(content_type=content_type)
    else:
        pieces = source.chunks(start, end - start, step=1 << 16)
        response = StreamingHttpResponse(pieces, status=status, content_type=content_type)
    response["Content-Length"] = str(end - start)
    response["Accept-Ranges"] = "bytes"
    response["ETag"] = tag
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    response["Content-Disposition"] = f'inline; filename="{_plain(name)}"'
    if status == 206:
        response["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    return response


def _span(match: re.Match[str], size: int) -> tuple[int, int] | None:
    first, last = match.groups()
    if first:
        start, end = int(first), min(size, int(last) + 1) if last else size
    elif last and int(last):
        start, end = max(0, size - int(last)), size
    else:
        return None
    return (start, end) if start < end else None


def _plain(name: str) -> str:
    """A file name that is safe in a header and on every file system."""
    return re.sub(r"[^A-Za-z0-9._ -]", "_", name).strip(" .") or "sound"
