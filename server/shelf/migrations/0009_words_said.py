"""What was said of streams is in the index of words, too, kept up to date by the database."""

from django.db import migrations

TEXT = """
    SELECT s.id,
        CASE WHEN instr(b.entry_path, s.name) THEN '' ELSE s.name || char(10) END || s.stream_id || char(10) ||
        CASE WHEN instr(a.path, b.entry_path) THEN '' ELSE b.entry_path || char(10) END || a.path ||
        COALESCE((SELECT char(10) || g.name || char(10) || g.notes FROM shelf_given g
            WHERE g.game_id = a.game_id AND g.locator = s.locator), '')
    FROM shelf_stream s JOIN shelf_bank b ON b.id = s.bank_id JOIN shelf_archive a ON a.id = s.archive_id
"""


def anew(side: str) -> str:
    """The words of all streams of which something is said."""
    streams = (
        "SELECT s.id FROM shelf_stream s JOIN shelf_archive a ON a.id = s.archive_id "
        f"WHERE s.locator = {side}.locator AND a.game_id = {side}.game_id"
    )
    return (
        f"DELETE FROM shelf_words WHERE rowid IN ({streams}); "
        f"INSERT INTO shelf_words(rowid, words) {TEXT} WHERE s.locator = {side}.locator AND a.game_id = {side}.game_id;"
    )


UP = [
    "DELETE FROM shelf_words",
    f"INSERT INTO shelf_words(rowid, words) {TEXT}",
    "CREATE TRIGGER shelf_words_said AFTER INSERT ON shelf_given WHEN new.name || new.notes <> '' "
    f"BEGIN {anew('new')} END",
    f"CREATE TRIGGER shelf_words_said_anew AFTER UPDATE OF name, notes ON shelf_given BEGIN {anew('new')} END",
    f"CREATE TRIGGER shelf_words_unsaid AFTER DELETE ON shelf_given BEGIN {anew('old')} END",
]
DOWN = ["DROP TRIGGER shelf_words_said", "DROP TRIGGER shelf_words_said_anew", "DROP TRIGGER shelf_words_unsaid"]


class Migration(migrations.Migration):
    dependencies = [("shelf", "0008_words_at_once")]

    operations = [migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN])]
