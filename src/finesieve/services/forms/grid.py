"""The grid: a form over all combinations of a few circumstances, and which questions show where."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.errors import InvalidInput
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.problems import label_of, rule_of
from finesieve.services.forms.forms import form_of
from finesieve.services.forms.rehearsing import Circumstances, run
from finesieve.services.kernel.scope import Scope, Unit

__all__ = ["MOST_COMBINATIONS", "Axis", "Grid", "GridRow", "grid_axes", "make_grid"]

MOST_COMBINATIONS: Final = 96
_MOST_VALUES: Final = 24


@dataclass(frozen=True, slots=True)
class Axis:
    """A circumstance and its values, as (value, label) pairs; the first is that of nothing said."""

    key: str
    label: str
    values: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class GridRow:
    """A question and its verdict in each combination. `always` and `never` say so of all of them."""

    place: str
    label: str
    verdicts: tuple[bool | None, ...]

    @property
    def always(self) -> bool:
        return all(verdict is True for verdict in self.verdicts)

    @property
    def never(self) -> bool:
        return all(verdict is not True for verdict in self.verdicts)


@dataclass(frozen=True, slots=True)
class Grid:
    """The table: `columns` are the combinations, a label an axis."""

    title: str
    axes: tuple[Axis, ...]
    chosen: tuple[Axis, ...]
    columns: tuple[tuple[str, ...], ...]
    rows: tuple[GridRow, ...]
    combinations: int

    @property
    def too_many(self) -> bool:
        return self.combinations > MOST_COMBINATIONS


def grid_axes(unit: Unit, form: Form) -> tuple[Axis, ...]:
    """The circumstances that a grid can run over: level, lists, tags, language, and questions with few answers."""
    catalogue = unit.catalogue
    axes = []
    if catalogue.levels:
        axes.append(Axis("level", "Level", (("", "none"), *((one.key, one.name) for one in catalogue.levels))))
    if len(form.languages) > 1:
        axes.append(Axis("language", "Language", tuple((one, one) for one in form.languages)))
    axes += [Axis(f"list:{one.key}", f"On {one.name}", (("", "no"), ("yes", "yes"))) for one in catalogue.lists[:20]]
    axes += [Axis(f"tag:{tag}", f"Tagged {tag}", (("", "no"), ("yes", "yes"))) for tag in catalogue.tags[:20]]
    for section in form.sections:
        for question in section.questions if not section.repeat else ():
            known = catalogue.by_id.get(question.field_id)
            if known is None:
                continue
            values: tuple[tuple[str, str], ...] = ()
            if known.type_key == "yes_no":
                values = (("yes", "yes"), ("no", "no"))
            elif known.type.kind == "choice" and known.offered:
                values = tuple((option.stored_value, option.label) for option in known.offered[:_MOST_VALUES])
            if values:
                axes.append(Axis(question.id, label_of(form, catalogue, question.id), (("", "blank"), *values)))
    return tuple(axes)


def make_grid(scope: Scope, form_id: int, keys: Sequence[str] | None = None) -> Grid:
    """Run the draft over all combinations of the named circumstances; of those that its rules name, where none are.

    Raises NotFound, InvalidInput for no such circumstance.
    """
    with scope.reading("reader") as unit:
        form = Form.model_validate(form_of(unit, form_id).draft)
        axes = grid_axes(unit, form)
        by_key = {axis.key: axis for axis in axes}
        keys = _that_rules_name(unit, form, axes) if keys is None else keys
        if any(key not in by_key for key in keys):
            raise InvalidInput({"axis": "There is no such circumstance."})
        chosen = tuple(by_key[key] for key in dict.fromkeys(keys))
        combinations = 1
        for axis in chosen:
            combinations *= len(axis.values)
        if combinations > MOST_COMBINATIONS:
            return Grid(form.title, axes, chosen, (), (), combinations)
        prepared = prepare(form, unit.catalogue)
        found: dict[str, list[bool | None]] = {}
        columns = []
        for values in itertools.product(*(axis.values for axis in chosen)):
            columns.append(tuple(label for _, label in values))
            at = dict(zip((axis.key for axis in chosen), (value for value, _ in values), strict=True))
            outcome = run(unit, form_id, prepared, *_circumstances(at)).outcome
            for section in outcome.sections:
                found.setdefault(section.section.id, []).append(section.verdict)
                if not section.section.repeat:
                    for one in section.fillings[0].questions:
                        found.setdefault(one.id, []).append(one.shows or (None if one.verdict is None else False))
        rows = tuple(
            GridRow(place, label_of(form, unit.catalogue, place), tuple(verdicts))
            for section in form.sections
            for place in (*((section.id,) if section.repeat else ()), *(one.id for one in section.questions))
            if (verdicts := found.get(place))
        )
        return Grid(form.title, axes, chosen, tuple(columns), rows, combinations)


_FIRST: Final = 3
"""So many circumstances a grid begins with."""


def _that_rules_name(unit: Unit, form: Form, axes: Sequence[Axis]) -> list[str]:
    """The circumstances that the rules of a form read, in the order of the axes, as many as give a table to look at."""
    read: set[str] = set()
    for place, _, text in form.walk_rules():
        typed = rule_of(text, form, unit.catalogue, form.section_of(place) or form.section(place))
        read |= {name.rpartition(".")[2] for name in typed.names} if typed is not None else set()
    asked = {question.id: unit.catalogue.by_id.get(question.field_id) for question in form.questions}
    found: list[str] = []
    combinations = 1
    for axis in axes:
        known = asked.get(axis.key)
        word = (
            known.key
            if known is not None
            else {"list": "lists", "tag": "tags"}.get(axis.key.partition(":")[0], axis.key)
        )
        if word in read and len(found) < _FIRST and combinations * len(axis.values) <= MOST_COMBINATIONS:
            found.append(axis.key)
            combinations *= len(axis.values)
    return found


def _circumstances(at: Mapping[str, str]) -> tuple[Circumstances, dict[str, str]]:
    answers = {key: value for key, value in at.items() if key[:1] == "q" and key[1:].isdigit() and value}
    lists = tuple(key.removeprefix("list:") for key, value in at.items() if key.startswith("list:") and value)
    tags = tuple(key.removeprefix("tag:") for key, value in at.items() if key.startswith("tag:") and value)
    return (
        Circumstances(level=at.get("level", ""), language=at.get("language", ""), lists=lists, tags=tags),
        answers,
    )
