"""Totals, folders and places for surveys that were made before there were any."""

from django.db import migrations
from django.db.models import Count, F, Q, Sum
from django.db.models.functions import Coalesce, NullIf


def fill(apps, schema_editor):
    Archive, Stream = apps.get_model("shelf", "Archive"), apps.get_model("shelf", "Stream")
    Bank = apps.get_model("shelf", "Bank")
    Survey, File = apps.get_model("games", "Survey"), apps.get_model("games", "SurveyFile")
    apps.get_model("games", "Comparison").objects.update(ready=False)  # its numbers meant something else
    counted = Stream.objects.order_by().values("archive").annotate(n=Count("pk"), s=Sum("seconds"), b=Sum("stored"))
    for row in counted.iterator():
        Archive.objects.filter(pk=row["archive"]).update(
            stream_count=row["n"], seconds=row["s"] or 0, stream_bytes=row["b"] or 0
        )
    for survey in Survey.objects.filter(finished__isnull=False).iterator():
        folders: dict[str, list[int]] = {}
        places = []
        for file in File.objects.filter(survey=survey).select_related("archive").iterator():
            file.streams = file.archive.stream_count if file.archive else 0
            file.within = file.path.rpartition(" › " if file.inside else "/")[0]
            places.append(file)
            place = "" if file.inside else file.within
            while place:
                folder = folders.setdefault(place, [0, 0])
                folder[0] += file.size
                folder[1] += 1
                place = place.rpartition("/")[0]
        File.objects.bulk_update(places, ["within", "streams"], batch_size=1000)
        File.objects.bulk_create(
            (
                File(survey=survey, path=path, within=path.rpartition("/")[0], size=size, mtime_ns=0, what="folder",
                     count=count)
                for path, (size, count) in folders.items()
            ),
            batch_size=1000,
        )  # fmt: skip
        outside = Q(inside=False) & ~Q(what__in=("companion", "folder"))
        totals = File.objects.filter(survey=survey).aggregate(
            unpacked=Sum(Coalesce(NullIf(F("archive__unpacked"), 0), F("size")), filter=outside),
            archives=Count("archive", filter=Q(inside=False)),
            locked=Count("pk", filter=Q(what="locked")),
            nested=Count("pk", filter=Q(inside=True)),
            holders=Count("pk", filter=Q(streams__gt=0)),
            entries=Sum("archive__entry_count"),
            held=Sum("streams"),
            seconds=Sum("archive__seconds"),
            stored=Sum("archive__stream_bytes"),
        )
        totals["streams"] = totals.pop("held")
        spoken = Bank.objects.filter(archive__seen_in__survey=survey).exclude(language="").order_by()
        survey.languages = sorted(spoken.values_list("language", flat=True).distinct())
        survey.save(update_fields=["languages"])
        Survey.objects.filter(pk=survey.pk).update(**{name: value or 0 for name, value in totals.items()})


class Migration(migrations.Migration):
    dependencies = [("games", "0006_totals"), ("shelf", "0005_totals")]

    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
