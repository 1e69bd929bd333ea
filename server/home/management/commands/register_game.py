"""Register a game folder from the command line and have it surveyed."""

from django.core.management.base import BaseCommand

from server.home.registry import register
from server.surveys.surveying import start_survey


class Command(BaseCommand):
    help = "Register a game folder; the worker surveys it as soon as it runs."

    def add_arguments(self, parser):
        parser.add_argument("folder")
        parser.add_argument("--name", default="")

    def handle(self, *args, **options):
        game = register(options["folder"], options["name"])
        survey = game.current_survey()
        if survey is None or survey.files == 0:
            start_survey(game)
