from django.apps import AppConfig


class ModsConfig(AppConfig):
    name = "server.mods"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import rebuilding, services  # noqa: F401
