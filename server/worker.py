"""A worker process: python -m server.worker QUEUE."""

from __future__ import annotations

import os
import sys


def main() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from django.core.management import call_command

    from .jobs.heartbeat import show_signs
    from .jobs.models import Job
    from .ready import make_ready

    queue = sys.argv[1]
    make_ready()
    show_signs(queue)
    Job.objects.reap()
    call_command("db_worker", queue_name=queue, interval=0.1, startup_delay=False, verbosity=0)


if __name__ == "__main__":
    main()
