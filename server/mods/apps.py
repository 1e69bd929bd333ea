from django.apps import AppConfig


class ModsConfig(AppConfig):
    name = "server.mods"
    default_auto_field = "django.db.models.BigAutoField"
