from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "server.bench"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import services, sifting  # noqa: F401
