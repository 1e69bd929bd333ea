"""How a game takes changes. By SQL: where Django makes a table anew, its triggers are lost."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("games", "0011_held")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE games_game ADD COLUMN way varchar(60) NOT NULL DEFAULT ''",
            "ALTER TABLE games_game DROP COLUMN way",
            [migrations.AddField("game", "way", models.CharField(blank=True, default="", max_length=60))],
        ),
        migrations.RunSQL(
            "ALTER TABLE games_game ADD COLUMN ticked text NOT NULL DEFAULT '[]' CHECK (JSON_VALID(ticked))",
            "ALTER TABLE games_game DROP COLUMN ticked",
            [migrations.AddField("game", "ticked", models.JSONField(default=list))],
        ),
    ]
