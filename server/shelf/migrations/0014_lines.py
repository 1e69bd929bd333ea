"""What is spoken in a stream, who speaks it, and whether it is done: said of streams, and found by its words. Columns are added by SQL:
where Django makes a table anew, its triggers are lost."""

import importlib

from django.db import migrations, models

before = importlib.import_module("server.shelf.migrations.0009_words_said")
NEW: dict[str, tuple[str, models.Field]] = {
    "text": ("text NOT NULL DEFAULT ''", models.TextField(default="", blank=True)),
    "author": ("varchar(100) NOT NULL DEFAULT ''", models.CharField(max_length=100, default="", blank=True)),
    "done": ("bool NOT NULL DEFAULT 0", models.BooleanField(default=False)),
}


def triggers(words: str, columns: str, text: str) -> list[str]:
    """Those that keep the index of words up to date with some columns."""
    anew = before.anew("new").replace(before.TEXT, text)
    return [
        "DROP TRIGGER IF EXISTS shelf_words_said",
        "DROP TRIGGER IF EXISTS shelf_words_said_anew",
        "DROP TRIGGER IF EXISTS shelf_words_unsaid",
        f"CREATE TRIGGER shelf_words_said AFTER INSERT ON shelf_given WHEN {words} <> '' BEGIN {anew} END",
        f"CREATE TRIGGER shelf_words_said_anew AFTER UPDATE OF {columns} ON shelf_given BEGIN {anew} END",
        "CREATE TRIGGER shelf_words_unsaid AFTER DELETE ON shelf_given BEGIN "
        f"{before.anew('old').replace(before.TEXT, text)} END",
    ]


SPOKEN = before.TEXT.replace("g.notes FROM", "g.notes || char(10) || g.text FROM")
UP = triggers("new.name || new.notes || new.text", "name, notes, text", SPOKEN)
DOWN = triggers("new.name || new.notes", "name, notes", before.TEXT)


class Migration(migrations.Migration):
    dependencies = [("shelf", "0013_groups")]

    operations = [
        *(
            migrations.RunSQL(
                f"ALTER TABLE shelf_{model} ADD COLUMN {name} {kind}",
                f"ALTER TABLE shelf_{model} DROP COLUMN {name}",
                [migrations.AddField(model, name, field)],
            )
            for model in ("given", "unsaid")
            for name, (kind, field) in NEW.items()
        ),
        migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN]),
    ]
