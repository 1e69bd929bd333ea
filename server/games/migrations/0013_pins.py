import django.db.models.deletion
from django.db import migrations, models

TABLE = "games_pin"
WHAT = ("INSERT", "UPDATE", "DELETE")
UP = [
    f"CREATE TRIGGER made_{TABLE}_{what.lower()} AFTER {what} ON {TABLE} "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for what in WHAT
]
DOWN = [f"DROP TRIGGER made_{TABLE}_{what.lower()}" for what in WHAT]


class Migration(migrations.Migration):
    dependencies = [("games", "0012_way"), ("mods", "0003_journal")]

    operations = [
        migrations.CreateModel(
            name="Pin",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("path", models.CharField(blank=True, default="", max_length=2000)),
                ("slug", models.CharField(max_length=60)),
                (
                    "game",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="pins", to="games.game"
                    ),
                ),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("game", "path"), name="one_pin_a_place")],
            },
        ),
        migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN]),
    ]
