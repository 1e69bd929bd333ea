"""The language of each stream, which may be another than its bank's, and what else its bank says of it. Columns are added by SQL: where
Django makes a table anew, its triggers are lost."""

from django.db import migrations, models

NEW: dict[str, tuple[str, models.Field]] = {
    "language": ("varchar(60) NOT NULL DEFAULT ''", models.CharField(max_length=60, default="", blank=True)),
    "said": ("text NOT NULL DEFAULT '{}'", models.JSONField(default=dict)),
}
OF_BANKS = """UPDATE shelf_stream SET language = (SELECT b.language FROM shelf_bank b WHERE b.id = bank_id)
WHERE bank_id IN (SELECT id FROM shelf_bank WHERE language <> '')"""


class Migration(migrations.Migration):
    dependencies = [("shelf", "0015_beaten")]

    operations = [
        *(
            migrations.RunSQL(
                f"ALTER TABLE shelf_stream ADD COLUMN {name} {kind}",
                f"ALTER TABLE shelf_stream DROP COLUMN {name}",
                [migrations.AddField("stream", name, field)],
            )
            for name, (kind, field) in NEW.items()
        ),
        migrations.RunSQL(OF_BANKS, migrations.RunSQL.noop),
    ]
