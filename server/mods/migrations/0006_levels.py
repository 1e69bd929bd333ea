"""The original's whole level in the place of its peak; it is measured anew when a swap is next prepared. By SQL: where Django makes a
table anew, its triggers are lost."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("mods", "0005_sources")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE mods_swap ADD COLUMN original_level text NULL CHECK (JSON_VALID(original_level) OR original_level IS NULL)",
            "ALTER TABLE mods_swap DROP COLUMN original_level",
            [migrations.AddField("swap", "original_level", models.JSONField(null=True))],
        ),
        migrations.RunSQL(
            "ALTER TABLE mods_swap DROP COLUMN original_peak",
            "ALTER TABLE mods_swap ADD COLUMN original_peak real NULL",
            [migrations.RemoveField("swap", "original_peak")],
        ),
    ]
