"""Of folders and archives, how many streams are below them; counted for surveys that were made before."""

from django.db import migrations, models

IN = " › "


def count(apps, schema_editor):
    File = apps.get_model("games", "SurveyFile")
    for survey in apps.get_model("games", "Survey").objects.all():
        rows = {row.path: row for row in File.objects.filter(survey=survey).only("path", "within", "streams", "held")}
        for row in rows.values():
            around, streams = row, row.streams
            while around is not None and streams:
                around.held += streams
                around = rows.get(around.within) if around.within else None
        with schema_editor.connection.cursor() as cursor:
            held = [(row.held, row.pk) for row in rows.values() if row.held]
            cursor.executemany(f"UPDATE {File._meta.db_table} SET held = %s WHERE id = %s", held)


class Migration(migrations.Migration):
    dependencies = [("games", "0010_allowed"), ("shelf", "0012_leaner_words")]

    operations = [
        migrations.AddField("surveyfile", "held", models.IntegerField(default=0)),
        migrations.RunPython(count, migrations.RunPython.noop),
    ]
