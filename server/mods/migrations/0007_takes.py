"""Several takes of one swap, one of them chosen; the stream that a take begins from; the steps that can be undone. Columns are added by
SQL: where Django makes a table anew, its triggers are lost."""

from django.db import migrations, models

COLUMNS: dict[str, tuple[str, models.Field]] = {
    "chosen": ("bool NOT NULL DEFAULT 1", models.BooleanField(default=True)),
    "source_locator": ("text NOT NULL DEFAULT ''", models.TextField(default="", blank=True)),
    "step": ("integer NOT NULL DEFAULT 0", models.IntegerField(default=0)),
    "undos": ("integer NOT NULL DEFAULT 0", models.IntegerField(default=0)),
    "redos": ("integer NOT NULL DEFAULT 0", models.IntegerField(default=0)),
}


class Migration(migrations.Migration):
    dependencies = [("mods", "0006_levels")]

    operations = [
        *(
            migrations.RunSQL(
                f"ALTER TABLE mods_swap ADD COLUMN {name} {kind}",
                f"ALTER TABLE mods_swap DROP COLUMN {name}",
                [migrations.AddField("swap", name, field)],
            )
            for name, (kind, field) in COLUMNS.items()
        ),
        migrations.CreateModel(
            name="SwapStep",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.IntegerField()),
                ("treatment", models.JSONField()),
                ("swap", models.ForeignKey(on_delete=models.CASCADE, related_name="steps", to="mods.swap")),
            ],
        ),
        migrations.RunSQL(
            "CREATE UNIQUE INDEX mods_swapstep_number ON mods_swapstep (swap_id, number)",
            "DROP INDEX mods_swapstep_number",
            [
                migrations.AddConstraint(
                    "swapstep", models.UniqueConstraint(fields=["swap", "number"], name="mods_swapstep_number")
                )
            ],
        ),
        migrations.RunSQL(
            "CREATE UNIQUE INDEX mods_swap_one_chosen ON mods_swap (mod_id, locator) WHERE chosen AND removed IS NULL",
            "DROP INDEX mods_swap_one_chosen",
            [
                migrations.AddConstraint(
                    "swap",
                    models.UniqueConstraint(
                        fields=["mod", "locator"],
                        condition=models.Q(chosen=True, removed__isnull=True),
                        name="mods_swap_one_chosen",
                    ),
                )
            ],
        ),
    ]
