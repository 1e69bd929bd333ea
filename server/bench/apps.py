from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "server.bench"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import services  # noqa: F401
