from django.apps import AppConfig


class LayoutsConfig(AppConfig):
    name = "server.layouts"
    default_auto_field = "django.db.models.BigAutoField"
