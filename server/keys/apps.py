from django.apps import AppConfig


class KeysConfig(AppConfig):
    name = "server.keys"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import keyring  # noqa: F401
