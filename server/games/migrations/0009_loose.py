"""Loose sounds are counted by themselves, and no longer as archives; surveys that were made before are counted again."""

from django.db import migrations, models
from django.db.models import Count, Q


def count(apps, schema_editor):
    Survey, File = apps.get_model("games", "Survey"), apps.get_model("games", "SurveyFile")
    for survey in Survey.objects.filter(finished__isnull=False):
        loose = Q(inside=False, what="sound")
        found = File.objects.filter(survey=survey).aggregate(
            archives=Count("archive", filter=Q(inside=False) & ~loose), loose=Count("pk", filter=loose)
        )
        Survey.objects.filter(pk=survey.pk).update(**found)


class Migration(migrations.Migration):
    dependencies = [("games", "0008_listing")]

    operations = [
        migrations.AddField("survey", "loose", models.IntegerField(default=0)),
        migrations.RunPython(count, migrations.RunPython.noop),
    ]
