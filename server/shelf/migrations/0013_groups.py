"""Streams by their banks and folders, with sums; written for the surveys that were made before, too."""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models
from django.db.models import Count, Min, Sum

IN = " › "
OF_BANK = ("archive__path", "archive__kind", "bank__layout", "bank__entry_path", "bank__name", "bank__language")


def parted(path):
    around, _, name = path.rpartition("/")
    return name, around


def place_of(path, kind, layout, entry, name):
    file, around = parted(path)
    if layout:
        return (path, "bank", name or file, around) if kind == "file" else (f"{path}{IN}{entry}", "bank", name, path)
    if kind == "file":
        return f"{around}/", "folder", *parted(around)
    inner = parted(entry)[1]
    if not inner:
        return f"{path}{IN}/", "folder", file, around
    folder, outer = parted(inner)
    return f"{path}{IN}{inner}/", "folder", folder, f"{path}{IN}{outer}" if outer else path


def fill(apps, schema_editor):
    Stream, Group = apps.get_model("shelf", "Stream"), apps.get_model("shelf", "SurveyGroup")
    for survey in apps.get_model("games", "Survey").objects.filter(finished__isnull=False):
        rows = Stream.objects.filter(archive__seen_in__survey=survey).order_by().values("bank")
        rows = rows.annotate(n=Count("pk"), s=Sum("seconds"), b=Sum("stored"), l=Count("loop_start"))
        found: dict[str, Any] = {}
        for bank, n, s, b, l, *texts, language in rows.values_list("bank", "n", "s", "b", "l", *map(Min, OF_BANK)):
            place, what, name, within = place_of(*texts)
            new = Group(
                survey_id=survey.pk, bank=bank, place=place, what=what, name=name, within=within, language=language,
                streams=0, seconds=0.0, bytes=0, looped=0,
            )  # fmt: skip
            group = found.setdefault(place, new)
            group.streams += n
            group.seconds += s
            group.bytes += b
            group.looped += l
        Group.objects.bulk_create(found.values(), batch_size=1000)


class Migration(migrations.Migration):
    dependencies = [("games", "0010_allowed"), ("shelf", "0012_leaner_words")]

    operations = [
        migrations.CreateModel(
            name="SurveyGroup",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("bank", models.IntegerField()),
                ("place", models.CharField(max_length=2000)),
                ("what", models.CharField(max_length=6)),
                ("name", models.CharField(blank=True, max_length=300)),
                ("within", models.CharField(blank=True, max_length=2000)),
                ("language", models.CharField(blank=True, max_length=60)),
                ("streams", models.IntegerField()),
                ("seconds", models.FloatField()),
                ("bytes", models.BigIntegerField()),
                ("looped", models.IntegerField()),
                (
                    "survey",
                    models.ForeignKey(
                        db_index=False,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="groups",
                        to="games.survey",
                    ),
                ),
            ],
            options={
                "indexes": [models.Index(fields=["survey", "place"], name="shelf_surve_survey__66b1ae_idx")],
            },
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]
