import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("mods", "0003_journal"), ("jobs", "0002_workers")]

    operations = [
        migrations.CreateModel(
            name="Plan",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("tight", models.BooleanField()),
                ("made_of", models.CharField(max_length=40)),
                ("files", models.JSONField()),
                ("count", models.IntegerField()),
                (
                    "mod",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="plans", to="mods.mod"
                    ),
                ),
            ],
        ),
        # Jobs held whole plans before.
        migrations.RunSQL("DELETE FROM jobs_job WHERE kind = 'plan'", migrations.RunSQL.noop),
    ]
