from django.apps import AppConfig


class ModsConfig(AppConfig):
    name = "server.mods"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from ..shelf.filters import tell_swapped
        from . import loops, many, rebuilding, services  # noqa: F401
        from .models import Swap

        tell_swapped(
            lambda game: Swap.objects.filter(mod__game=game, mod__removed=None, removed=None).values("locator")
        )
