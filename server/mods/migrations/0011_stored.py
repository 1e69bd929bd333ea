"""Payloads that are taken as they are stored. By SQL: where Django makes a table anew, its triggers are lost."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("mods", "0010_judged")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE mods_swap ADD COLUMN source_format text NULL CHECK (JSON_VALID(source_format) OR source_format IS NULL)",
            "ALTER TABLE mods_swap DROP COLUMN source_format",
            [migrations.AddField("swap", "source_format", models.JSONField(null=True))],
        ),
    ]
