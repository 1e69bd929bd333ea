"""Write what is made from the code: the API's OpenAPI document, and the JSON Schemas of layouts, of load rules and of a mod's package."""

import json
from pathlib import Path

from django.conf import settings
from django.core.management.base import BaseCommand

from server.api import api
from zubret_core import package
from zubret_core.layout import Layout, LoadRules


def document() -> str:
    """The document as it is committed."""
    return json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True, default=str) + "\n"


def schema_document() -> str:
    """The JSON Schema of the layout language as it is committed."""
    return json.dumps(Layout.model_json_schema(), indent=1) + "\n"


def rules_document() -> str:
    """The JSON Schema of load rules as it is committed."""
    return json.dumps(LoadRules.model_json_schema(), indent=1) + "\n"


class Command(BaseCommand):
    help = "Write web/openapi.json and the JSON Schemas in docs/; then run `npm run types` in web/."

    def handle(self, *args, **options):
        root = Path(settings.ROOT)
        (root / "web" / "openapi.json").write_text(document(), "utf-8")
        (root / "docs" / "layout.schema.json").write_text(schema_document(), "utf-8")
        (root / "docs" / "load-rules.schema.json").write_text(rules_document(), "utf-8")
        (root / "docs" / "mod-package.schema.json").write_text(package.schema(), "utf-8")
