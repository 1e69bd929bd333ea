"""Payloads that are taken as they are stored; pictures of mods. By SQL: where Django makes a table anew, its triggers are lost."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("mods", "0010_judged")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE mods_swap ADD COLUMN source_format text NULL CHECK (JSON_VALID(source_format) OR source_format IS NULL)",
            "ALTER TABLE mods_swap DROP COLUMN source_format",
            [migrations.AddField("swap", "source_format", models.JSONField(null=True))],
        ),
        migrations.RunSQL(
            "ALTER TABLE mods_mod ADD COLUMN picture varchar(60) NOT NULL DEFAULT ''",
            "ALTER TABLE mods_mod DROP COLUMN picture",
            [migrations.AddField("mod", "picture", models.CharField(blank=True, default="", max_length=60))],
        ),
    ]
