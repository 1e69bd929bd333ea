from django.apps import AppConfig


class LayoutsConfig(AppConfig):
    name = "server.layouts"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import services  # noqa: F401
