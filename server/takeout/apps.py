from django.apps import AppConfig


class TakeoutConfig(AppConfig):
    name = "server.takeout"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import entries, sounds  # noqa: F401
