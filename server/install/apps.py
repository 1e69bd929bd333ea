from django.apps import AppConfig


class InstallConfig(AppConfig):
    name = "server.install"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import installing  # noqa: F401
