from django.apps import AppConfig


class GamesConfig(AppConfig):
    name = "server.games"
    default_auto_field = "django.db.models.BigAutoField"
