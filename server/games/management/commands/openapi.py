"""Write the API's OpenAPI document, from which the front end's types are made."""

import json
from pathlib import Path

from django.conf import settings
from django.core.management.base import BaseCommand

from server.api import api


def document() -> str:
    """The document as it is committed."""
    return json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True, default=str) + "\n"


class Command(BaseCommand):
    help = "Write web/openapi.json; then run `npm run types` in web/."

    def handle(self, *args, **options):
        (Path(settings.ROOT) / "web" / "openapi.json").write_text(document(), "utf-8")
