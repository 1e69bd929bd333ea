"""Words of streams are taken in by who writes the streams, thousands at once, no longer by a trigger for each."""

from django.db import migrations

UP = "DROP TRIGGER shelf_words_new"
DOWN = """
    CREATE TRIGGER shelf_words_new AFTER INSERT ON shelf_stream BEGIN
    INSERT INTO shelf_words(rowid, words)
    SELECT s.id, s.name || char(10) || s.stream_id || char(10) || b.entry_path || char(10) || a.path
    FROM shelf_stream s JOIN shelf_bank b ON b.id = s.bank_id JOIN shelf_archive a ON a.id = s.archive_id
    WHERE s.id = new.id; END
"""


class Migration(migrations.Migration):
    dependencies = [("shelf", "0007_broken_banks")]

    operations = [migrations.RunSQL([(UP, None)], [(DOWN, None)])]
