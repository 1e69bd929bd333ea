"""The web server: waitress, on this machine's own address only."""

from __future__ import annotations

import os
import sys
from importlib import import_module


def main() -> None:
    """The server as a process by itself."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from django.conf import settings

    from .ready import make_ready

    import_module(settings.ROOT_URLCONF)  # else the first request does
    make_ready()
    serve()


def serve() -> None:
    """Answer requests until the launcher ends."""
    import waitress
    from django.conf import settings

    from .body import given_back
    from .ready import end_with_launcher
    from .wsgi import application

    end_with_launcher()
    try:
        waitress.serve(
            given_back(application),
            host="127.0.0.1",
            port=settings.PORT,
            threads=8,
            ident=None,
            max_request_body_size=settings.UPLOAD_BYTES,
            channel_timeout=300,
            # Audio is sent as it is decoded; waitress would else buffer a whole response.
            send_bytes=1 << 16,
        )
    except OSError as e:
        sys.exit(f"Port {settings.PORT} is in use ({e.strerror}). Set ZUBRET_PORT to another number, then start again.")


if __name__ == "__main__":
    main()
