"""The index of words: a full-text table of trigrams over what streams are found by, kept up to date by the database."""

from django.db import migrations

WORDS = """
    SELECT s.id, s.name || char(10) || s.stream_id || char(10) || b.entry_path || char(10) || a.path
    FROM shelf_stream s JOIN shelf_bank b ON b.id = s.bank_id JOIN shelf_archive a ON a.id = s.archive_id
"""
UP = [
    "CREATE VIRTUAL TABLE shelf_words USING fts5(words, tokenize = 'trigram')",
    f"INSERT INTO shelf_words(rowid, words) {WORDS}",
    "CREATE TRIGGER shelf_words_new AFTER INSERT ON shelf_stream BEGIN "
    f"INSERT INTO shelf_words(rowid, words) {WORDS} WHERE s.id = new.id; END",
    "CREATE TRIGGER shelf_words_gone AFTER DELETE ON shelf_stream BEGIN "
    "DELETE FROM shelf_words WHERE rowid = old.id; END",
]
DOWN = [
    "DROP TRIGGER shelf_words_new",
    "DROP TRIGGER shelf_words_gone",
    "DROP TABLE shelf_words",
]


class Migration(migrations.Migration):
    dependencies = [("shelf", "0005_totals")]

    operations = [migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN])]
