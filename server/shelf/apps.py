from django.apps import AppConfig


class ShelfConfig(AppConfig):
    name = "server.shelf"
    default_auto_field = "django.db.models.BigAutoField"
