"""Many rows at once, as fast as SQLite takes them."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any

from django.db import connection, transaction
from django.db.models import Model
from django.db.models.expressions import RawSQL

BATCH = 2_500
"""Rows in one transaction: short enough that a cancel can be written in between."""


def insert(model: type[Model], fields: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Insert rows (values in the order of `fields`), within the caller's transaction.

    Django's bulk_create spends ten times as long on 200,000 rows (measured); here table and
    columns come from the model and the rows go to the driver as they are.
    """
    if not rows:
        return
    columns = {f.name: f.column for f in model._meta.concrete_fields}
    names = [columns[f] for f in fields]
    quoted = ", ".join(connection.ops.quote_name(n) for n in names)
    table = connection.ops.quote_name(model._meta.db_table)
    with connection.cursor() as cursor:
        cursor.executemany(f"INSERT INTO {table} ({quoted}) VALUES ({', '.join(['%s'] * len(names))})", rows)


def insert_from(table: str, model: type[Model], values: Mapping[str, str], parameters: Mapping[str, Any]) -> None:
    """Insert a row for each row of a table, by an SQL expression for each field; `%(name)s` stands for a parameter.

    One statement for some thousand rows takes a fifth of what as many rows from Python take (measured).
    """
    columns = {f.name: connection.ops.quote_name(f.column) for f in model._meta.concrete_fields}
    names, terms = ", ".join(columns[f] for f in values), ", ".join(values.values())
    with connection.cursor() as cursor:
        into = connection.ops.quote_name(model._meta.db_table)
        cursor.execute(f"INSERT INTO {into} ({names}) SELECT {terms} FROM {table} ORDER BY rowid", parameters)


def bulk_insert(model: type[Model], fields: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[int]:
    """Insert rows in short transactions; gives the number done after each batch."""
    source, done = iter(rows), 0
    while batch := list(islice(source, BATCH)):
        with transaction.atomic():
            insert(model, fields, batch)
        done += len(batch)
        yield done


def among(values: Collection[int] | Collection[str]) -> RawSQL:
    """For `pk__in` and the like: any number of values as one parameter, since SQLite takes some ten thousand parameters at
    most."""
    return RawSQL("SELECT value FROM json_each(%s)", [json.dumps(list(values))])


def next_number(model: type[Model]) -> int:
    """A primary key that no row of the table has or had."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT seq FROM sqlite_sequence WHERE name = %s", [model._meta.db_table])
        row = cursor.fetchone()
    return (row[0] if row else 0) + 1
