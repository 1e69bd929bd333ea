"""Every change of what users made is counted, so that it is known when their journal has to be written anew."""

from django.db import migrations

TABLES = (
    "games_game", "games_key", "games_keychoice", "games_namelist", "games_exportfolder", "shelf_given",
    "layouts_userlayout", "layouts_layoutversion", "mods_mod", "mods_swap", "mods_entryfile",
)  # fmt: skip
UP = ["CREATE TABLE home_made (number integer NOT NULL)", "INSERT INTO home_made VALUES (0)"]
UP += [
    f"CREATE TRIGGER made_{table}_{what.lower()} AFTER {what} ON {table} "
    "BEGIN UPDATE home_made SET number = number + 1; END"
    for table in TABLES
    for what in ("INSERT", "UPDATE", "DELETE")
]
DOWN = [f"DROP TRIGGER made_{table}_{what}" for table in TABLES for what in ("insert", "update", "delete")]
DOWN += ["DROP TABLE home_made"]


class Migration(migrations.Migration):
    dependencies = [
        ("mods", "0002_entry_files"),
        ("games", "0007_fill_totals"),
        ("shelf", "0007_broken_banks"),
        ("layouts", "0001_initial"),
    ]

    operations = [migrations.RunSQL([(line, None) for line in UP], [(line, None) for line in DOWN])]
