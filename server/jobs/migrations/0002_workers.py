from django.db import migrations, models

SQL = [
    # Whoever did these has gone: the first worker that looks ends them.
    "UPDATE jobs_job SET worker = 'long 0 before' WHERE state = 'running'",
    # The queue that there was before, a table of its own.
    "DROP TABLE IF EXISTS django_tasks_database_dbtaskresult",
    "DELETE FROM django_migrations WHERE app = 'django_tasks_database'",
]


class Migration(migrations.Migration):
    dependencies = [("jobs", "0001_initial")]

    operations = [
        migrations.RemoveField("job", "lease_until"),
        migrations.AddField("job", "worker", models.CharField(blank=True, default="", max_length=60)),
        *(migrations.RunSQL(line, migrations.RunSQL.noop) for line in SQL),
    ]
