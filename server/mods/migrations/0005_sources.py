"""What a swap begins from. The column is added by SQL: where Django makes a table anew, its triggers are lost."""

from django.db import migrations, models

COLUMN = "ALTER TABLE mods_swap ADD COLUMN source varchar(10) NOT NULL DEFAULT 'file'"


class Migration(migrations.Migration):
    dependencies = [("mods", "0004_plans")]

    operations = [
        migrations.RunSQL(
            COLUMN,
            "ALTER TABLE mods_swap DROP COLUMN source",
            [
                migrations.AddField("swap", "source", models.CharField(max_length=10, default="file")),
                migrations.AlterField("swap", "source_path", models.CharField(max_length=1000, blank=True)),
            ],
        )
    ]
