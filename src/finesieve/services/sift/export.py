"""The people of a segment taken along: CSV, JSON Lines or a workbook, with chosen columns, all of them or a sample."""

import json
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, islice
from typing import IO, Annotated, Final, Literal

import xlsxwriter
from pydantic import Field as Bounds

from finesieve.core.cells import safe_cell
from finesieve.core.errors import InvalidExpression, InvalidInput
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.sheets import csv_lines
from finesieve.services.sift.segments import SECONDS_FOR_EXPORT, meshes_of, segment_named, worked_out_in
from finesieve.store.reading.exporting import is_written_here
from finesieve.store.reading.people import (
    Person,
    count_one,
    count_people,
    people_as_csv,
    sample_of_people,
    stream_people,
)

__all__ = [
    "MOST_CELLS",
    "ExportInput",
    "Wanted",
    "cells_of",
    "columns_to_export",
    "export_segment",
    "lines_of",
    "people_of",
    "wanted_of",
    "workbook_of_segment",
    "write_workbook",
]

MOST_CELLS: Final = 400_000
"""So many cells a workbook holds; beyond them a spreadsheet is no pleasure, and CSV does it."""
MOST_SAMPLED: Final = 100_000


class ExportInput(Input):
    """What is taken along: columns by key, none for all; `sample` people by chance, the same for the same `seed`."""

    kind: Literal["csv", "jsonl", "xlsx"] = "csv"
    columns: tuple[Annotated[str, Bounds(max_length=60)], ...] = ()
    sample: int = Bounds(default=0, ge=0, le=MOST_SAMPLED)
    seed: str = Bounds(default="", max_length=60)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What an export is of: the checked condition, its meshes, the fields, how it was asked; and how many `seconds` it
    may take."""

    condition: Typed | None
    typed: tuple[Typed, ...]
    fields: tuple[Field, ...]
    asked: ExportInput
    seconds: float = SECONDS_FOR_EXPORT


def columns_to_export(scope: Scope) -> tuple[Field, ...]:
    """The fields that can be taken along, as this role sees them."""
    with scope.reading("reader") as unit:
        return _columns(unit)


def _columns(unit: Unit) -> tuple[Field, ...]:
    fields = (one for one in unit.catalogue.fields if one.key not in unit.catalogue.broken)
    return tuple(one for one in fields if unit.sees(one) and (one.stores or one.derived))


def export_segment(scope: Scope, segment_id: int, asked: ExportInput | None = None) -> tuple[str, Iterator[str]]:
    """The name of a segment and its people as lines of text, as they come: CSV, or JSON Lines.

    In CSV field keys stand at the top, and texts that a spreadsheet would run as a formula get a quote before them.
    Raises NotFound, InvalidExpression where the condition has problems, and InvalidInput where the database cannot work
    it out.
    """
    with scope.reading("reader") as unit:
        name, wanted = wanted_of(unit, segment_id, asked or ExportInput())
    lines = lines_of(scope, wanted)
    # The first people now, so that what cannot be worked out is said before the file begins.
    return name, chain(list(islice(lines, 2)), lines)


def workbook_of_segment(scope: Scope, segment_id: int, asked: ExportInput) -> tuple[str, bytes]:
    """The name of a segment and its people as a workbook. Raises as `export_segment`, and InvalidInput for too many
    cells."""
    with scope.reading("reader") as unit:
        name, wanted = wanted_of(unit, segment_id, asked)
        if people_of(unit, wanted) * len(wanted.fields) > MOST_CELLS:
            message = (
                f"A workbook taken at once holds {MOST_CELLS:,} cells. Take fewer columns or a sample, or prepare it."
            )
            raise InvalidInput({"kind": message})
    with tempfile.SpooledTemporaryFile(max_size=8_000_000) as kept:
        write_workbook(kept, cells_of(scope, wanted))
        kept.seek(0)
        return name, kept.read()


def wanted_of(unit: Unit, segment_id: int, asked: ExportInput) -> tuple[str, Wanted]:
    """The name of a segment, and what an export of it is of. Raises NotFound, InvalidExpression."""
    row = segment_named(unit, segment_id)
    _, typed, problems = meshes_of(unit, row.expression)
    if problems:
        raise InvalidExpression(problems)
    known = _columns(unit)
    fields = tuple(one for one in known if one.key in asked.columns) or known
    condition = unit.catalogue.check_segment(row.expression).typed if row.expression else None
    return row.name, Wanted(condition, typed, fields, asked)


def people_of(unit: Unit, wanted: Wanted) -> int:
    """How many people it is of; everybody, where that cannot be told in time."""
    counted = count_one(unit.session, unit.definitions, wanted.condition, unit.moment) if wanted.condition else None
    people = count_people(unit.session, unit.definitions) if counted is None else counted
    return min(people, wanted.asked.sample) if wanted.asked.sample else people


def _people(unit: Unit, wanted: Wanted) -> Iterator[Person]:
    keys = [field.key for field in wanted.fields]
    with worked_out_in(unit, wanted.seconds):
        if wanted.asked.sample:
            yield from sample_of_people(
                unit.session, unit.definitions, unit.moment, keys, wanted.typed, wanted.asked.sample, wanted.asked.seed
            )
        else:
            yield from stream_people(unit.session, unit.definitions, unit.moment, keys, wanted.typed)


def lines_of(scope: Scope, wanted: Wanted) -> Iterator[str]:
    """The people as lines of text: CSV with the keys of the fields at the top, or JSON Lines."""
    if wanted.asked.kind == "csv":
        quickly = not wanted.asked.sample and len(wanted.fields) > 1 and all(map(is_written_here, wanted.fields))
        yield from _written_by_the_database(scope, wanted) if quickly else csv_lines(_rows(scope, wanted))
        return
    with scope.separate("reader") as unit:
        for person in _people(unit, wanted):
            values = {field.key: _data(field, person.values[field.key]) for field in wanted.fields}
            yield json.dumps({"id": person.id, **values}, ensure_ascii=False) + "\n"


def _written_by_the_database(scope: Scope, wanted: Wanted) -> Iterator[str]:
    yield from csv_lines([[field.key for field in wanted.fields]])
    with scope.separate("reader") as unit, worked_out_in(unit, wanted.seconds):
        yield from people_as_csv(unit.session, unit.definitions, unit.moment, wanted.fields, wanted.typed)


def _data(field: Field, value: Value) -> object:
    return field.plain(value) if field.type.kind in ("secret", "file") and not field.derived else to_json(value)


def _rows(scope: Scope, wanted: Wanted) -> Iterator[list[str]]:
    yield [field.key for field in wanted.fields]
    with scope.separate("reader") as unit:
        for person in _people(unit, wanted):
            yield [field.plain(person.values[field.key]) for field in wanted.fields]


def write_workbook(file: IO[bytes], cells: Iterator[Sequence[str | float]]) -> None:
    """Write a workbook of one sheet: figures as figures, everything else as text."""
    # What cannot be worked out is said before a file of rows is begun, which nobody would close.
    rows = chain(list(islice(cells, 2)), cells)
    plainly = {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    book = xlsxwriter.Workbook(file, plainly)
    sheet = book.add_worksheet()
    sheet.freeze_panes(1, 0)
    try:
        for place, row in enumerate(rows):
            for column, cell in enumerate(row):
                if isinstance(cell, float):
                    sheet.write_number(place, column, cell)
                elif cell:
                    sheet.write_string(place, column, cell)
    finally:
        book.close()


def cells_of(scope: Scope, wanted: Wanted) -> Iterator[Sequence[str | float]]:
    """The people as cells of a workbook, the labels of the fields first."""
    yield [field.label for field in wanted.fields]
    with scope.separate("reader") as unit:
        for person in _people(unit, wanted):
            yield [_cell(field, person.values[field.key]) for field in wanted.fields]


def _cell(field: Field, value: Value) -> str | float:
    if field.value_type.kind in ("number", "money") and value is not None:
        return float(str(value))
    return safe_cell(field.plain(value))[:32_000]
