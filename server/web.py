"""Middleware, errors as answers, and the page that carries the front end."""

from __future__ import annotations

import functools
import logging
import sys
from collections.abc import Callable

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.middleware.csrf import CsrfViewMiddleware, get_token

from zubret_core.base import ZubretError

from .errors import of_system

log = logging.getLogger("zubret")


class HostCheck:
    """Refuses every request that is addressed to another host name (DNS rebinding)."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        try:
            request.get_host()
        except DisallowedHost:
            return problem(400, "This address is not Zubret's own.", next="Open the address that the launcher printed.")
        return self.get_response(request)


class StrictCsrf(CsrfViewMiddleware):
    """CSRF for every changing request, the API's included, whose views Django would exempt."""

    def process_view(self, request, callback, callback_args, callback_kwargs):
        return super().process_view(request, _never_exempt, callback_args, callback_kwargs)

    def _reject(self, request, reason):
        return problem(403, "The request carries no valid token of this page.", next="Reload the page and try again.")


def _never_exempt(request: HttpRequest) -> HttpResponse:
    """Stands for any view when CSRF is checked."""
    return HttpResponse()


def problem(status: int, what: str, where: str = "", next: str = "") -> JsonResponse:
    """An error as the API gives it: what, where, what to do next."""
    return JsonResponse({"what": what, "where": where, "next": next}, status=status)


def problem_of(request: HttpRequest, error: Exception) -> JsonResponse:
    """What the core found wrong, for the person to act on; a fault of ours is logged in full and told in short."""
    error = of_system(error) or error
    if isinstance(error, ZubretError):
        return problem(getattr(error, "status", 422), error.what, error.where, error.next or "")
    log.error("%s %s failed", request.method, request.path, exc_info=error)
    return problem(
        500,
        f"Zubret made a mistake here ({type(error).__name__}).",
        request.path,
        "Try again; the log has the details.",
    )


def not_understood(request: HttpRequest, exception: Exception) -> JsonResponse:
    """A request that no view could look at."""
    return problem(400, "The request can't be understood.", request.path, "Reload the page and try again.")


def not_there(request: HttpRequest, exception: Exception) -> JsonResponse:
    """An address that there is not."""
    return problem(404, "There is nothing at this address.", request.path, "Reload the page and try again.")


def not_done(request: HttpRequest) -> JsonResponse:
    """What failed before a view was reached, as an upload does for which there is no room."""
    error = sys.exc_info()[1]
    return problem_of(request, error if isinstance(error, Exception) else RuntimeError("no answer"))


def plain(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """A view beside the API's router that tells errors as the API does."""

    @functools.wraps(view)
    def told(request: HttpRequest, *args: object, **kwargs: object) -> HttpResponse:
        try:
            return view(request, *args, **kwargs)
        except Exception as error:
            return problem_of(request, error)

    return told


def page(request: HttpRequest) -> HttpResponse:
    """The one page of the front end; also sets the CSRF cookie."""
    get_token(request)
    index = settings.WEB_DIST / "index.html"
    if not index.is_file():
        return HttpResponse("The front end is not built. Run: python zubret.py run", status=503)
    response = HttpResponse(index.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    response["Content-Security-Policy"] = settings.CONTENT_POLICY
    return response
