import django.db.models.deletion
from django.db import migrations, models

TABLE = "shelf_savedsearch"
WHAT = ("INSERT", "UPDATE", "DELETE")
UP = [
    f"CREATE TRIGGER made_{TABLE}_{what.lower()} AFTER {what} ON {TABLE} "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for what in WHAT
]
DOWN = [f"DROP TRIGGER made_{TABLE}_{what.lower()}" for what in WHAT]


class Migration(migrations.Migration):
    dependencies = [("games", "0010_allowed"), ("mods", "0003_journal"), ("shelf", "0010_sayings")]

    operations = [
        migrations.CreateModel(
            name="SavedSearch",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=100)),
                ("search", models.TextField()),
                (
                    "game",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="searches", to="games.game"
                    ),
                ),
            ],
            options={
                "verbose_name_plural": "saved searches",
                "constraints": [models.UniqueConstraint(fields=("game", "name"), name="one_search_a_name")],
            },
        ),
        migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN]),
    ]
