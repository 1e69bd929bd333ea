"""Treatments under names; what users made of them is counted, as all else that they make is."""

from django.db import migrations, models

UP = [
    f"CREATE TRIGGER made_mods_preset_{what.lower()} AFTER {what} ON mods_preset "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for what in ("INSERT", "UPDATE", "DELETE")
]
DOWN = [f"DROP TRIGGER made_mods_preset_{what}" for what in ("insert", "update", "delete")]


class Migration(migrations.Migration):
    dependencies = [("mods", "0007_takes")]

    operations = [
        migrations.CreateModel(
            name="Preset",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=100, unique=True)),
                ("steps", models.JSONField()),
            ],
        ),
        migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN]),
    ]
