"""What became of a mod's originals in a new build. The swap's column by SQL: where Django makes a table anew, its triggers are lost."""

import django.db.models.deletion
from django.db import migrations, models


def key() -> models.BigAutoField:
    return models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")


def of(name: str, null: bool = False) -> models.ForeignKey:
    return models.ForeignKey(null=null, on_delete=django.db.models.deletion.CASCADE, to=f"mods.{name}")


class Migration(migrations.Migration):
    dependencies = [("mods", "0009_together")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE mods_swap ADD COLUMN original text NULL CHECK (JSON_VALID(original) OR original IS NULL)",
            "ALTER TABLE mods_swap DROP COLUMN original",
            [migrations.AddField("swap", "original", models.JSONField(null=True))],
        ),
        migrations.CreateModel(
            name="Judgement",
            fields=[
                ("id", key()),
                ("survey", models.IntegerField()),
                ("made", models.DateTimeField(auto_now_add=True)),
                (
                    "mod",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE, related_name="judgement", to="mods.mod"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Judged",
            fields=[
                ("id", key()),
                ("verdict", models.CharField(max_length=10)),
                ("was", models.TextField(blank=True, default="")),
                ("now", models.TextField(blank=True, default="")),
                ("source", models.TextField(blank=True, default="")),
                ("stored", models.BigIntegerField(null=True)),
                ("detail", models.CharField(blank=True, default="", max_length=1000)),
                ("open", models.BooleanField(default=True)),
                ("before", models.JSONField(null=True)),
                ("file", of("entryfile", True)),
                (
                    "judgement",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="rows", to="mods.judgement"
                    ),
                ),
                ("swap", of("swap", True)),
            ],
        ),
    ]
