"""Several mods of a game: which is worked on, which take part in which order, and what they say of themselves; a rebuild is one of
several. Columns of tables with triggers are added by SQL: where Django makes a table anew, its triggers are lost."""

import django.db.models.deletion
from django.db import migrations, models

COLUMNS: dict[str, tuple[str, models.Field]] = {
    "current": ("bool NOT NULL DEFAULT 0", models.BooleanField(default=False)),
    "used": ("bool NOT NULL DEFAULT 1", models.BooleanField(default=True)),
    "place": ("integer NOT NULL DEFAULT 0", models.IntegerField(default=0)),
    "version": ("varchar(40) NOT NULL DEFAULT ''", models.CharField(max_length=40, default="", blank=True)),
    "author": ("varchar(200) NOT NULL DEFAULT ''", models.CharField(max_length=200, default="", blank=True)),
    "licence": ("varchar(200) NOT NULL DEFAULT ''", models.CharField(max_length=200, default="", blank=True)),
    "note": ("text NOT NULL DEFAULT ''", models.TextField(default="", blank=True)),
    "removed": ("datetime NULL", models.DateTimeField(null=True)),
}
FIRST = "UPDATE mods_mod SET current = 1 WHERE id IN (SELECT min(id) FROM mods_mod GROUP BY game_id)"
COUNTED = [
    f"CREATE TRIGGER made_mods_turn_{what.lower()} AFTER {what} ON mods_turn "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for what in ("INSERT", "UPDATE", "DELETE")
]


def game(name: str, null: bool = False) -> models.ForeignKey:
    return models.ForeignKey("games.game", django.db.models.deletion.CASCADE, related_name=name, null=null)



def fill(apps, schema_editor):
    """A rebuild is of the one mod that it was made of."""
    for build in apps.get_model("mods", "Build").objects.select_related("mod"):
        build.game_id, build.mods = build.mod.game_id, [build.mod_id]
        build.save(update_fields=["game", "mods"])


class Migration(migrations.Migration):
    dependencies = [("mods", "0008_presets"), ("games", "0007_fill_totals")]

    operations = [
        *(
            migrations.RunSQL(
                f"ALTER TABLE mods_mod ADD COLUMN {name} {kind}",
                f"ALTER TABLE mods_mod DROP COLUMN {name}",
                [migrations.AddField("mod", name, field)],
            )
            for name, (kind, field) in COLUMNS.items()
        ),
        migrations.RunSQL(FIRST, migrations.RunSQL.noop),
        migrations.CreateModel(
            name="Turn",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("locator", models.TextField()),
                ("game", game("turns")),
                ("mod", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to="mods.mod")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=["game", "locator"], name="mods_turn_one_winner")]},
        ),
        migrations.RunSQL([(line, None) for line in COUNTED], migrations.RunSQL.noop),
        migrations.RunSQL("DELETE FROM mods_plan", migrations.RunSQL.noop),
        migrations.RemoveField("plan", "mod"),
        migrations.AddField("plan", "game", game("plans")),
        migrations.AddField("plan", "mods", models.JSONField(default=list)),
        migrations.AddField("build", "game", game("builds", True)),
        migrations.AddField("build", "mods", models.JSONField(default=list)),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AlterField("build", "game", game("builds")),
        migrations.RemoveField("build", "mod"),
    ]
