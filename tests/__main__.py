"""Runs the tests with Django's runner and closes with one line of counts: python -m tests [LABELS]."""

import os
import sys
from pathlib import Path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
os.environ.setdefault("ZUBRET_JOBS", "at once")

import django
from django.conf import settings
from django.test.runner import DiscoverRunner


class Runner(DiscoverRunner):
    """Django's runner; keeps the result, so that the counts can be told."""

    def run_suite(self, suite, **kwargs):
        self.result = super().run_suite(suite, **kwargs)
        return self.result


def main() -> None:
    django.setup()
    Path(settings.FILE_UPLOAD_TEMP_DIR).mkdir(parents=True, exist_ok=True)
    runner = Runner(verbosity=1, interactive=False)
    runner.run_tests(sys.argv[1:] or ["tests"])
    result = runner.result
    # A class that could not be set up has errors but no tests that ran.
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    print(
        f"{max(0, result.testsRun - failed - skipped)} passed, {failed} failed"
        + (f", {skipped} skipped" if skipped else "")
    )
    sys.exit(1 if failed or not result.testsRun else 0)


if __name__ == "__main__":
    main()
