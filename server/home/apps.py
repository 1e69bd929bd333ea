from django.apps import AppConfig


class HomeConfig(AppConfig):
    name = "server.home"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import tidy  # noqa: F401
