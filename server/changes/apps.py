from django.apps import AppConfig


class ChangesConfig(AppConfig):
    name = "server.changes"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import comparing  # noqa: F401
