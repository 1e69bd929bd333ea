from django.apps import AppConfig


class GamesConfig(AppConfig):
    name = "server.games"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import changes, digesting, keyring, sounds_out, surveying, taking_out  # noqa: F401
