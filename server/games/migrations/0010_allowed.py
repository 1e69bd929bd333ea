from django.db import migrations, models

TABLE = "games_allowedfolder"
WHAT = ("INSERT", "UPDATE", "DELETE")
UP = [
    f"CREATE TRIGGER made_{TABLE}_{what.lower()} AFTER {what} ON {TABLE} "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for what in WHAT
]
DOWN = [f"DROP TRIGGER made_{TABLE}_{what.lower()}" for what in WHAT]


class Migration(migrations.Migration):
    dependencies = [("games", "0009_loose"), ("mods", "0003_journal")]

    operations = [
        migrations.CreateModel(
            name="AllowedFolder",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("path", models.CharField(max_length=2000, unique=True)),
                ("since", models.DateTimeField(auto_now_add=True)),
            ],
        ),
        migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN]),
    ]
