from django.apps import AppConfig


class SurveysConfig(AppConfig):
    name = "server.surveys"

    def ready(self) -> None:
        """Make the app's kinds of work known."""
        from . import contents, surveying  # noqa: F401
