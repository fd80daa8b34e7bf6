"""A chat script made ready: its rules, formulas and texts checked and compiled against what the house has defined."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from typing import Any, Final

from finesieve.core.chat.flow import Flow
from finesieve.core.chat.replies import Offer
from finesieve.core.chat.script import Ask, Choose, EachRecord, Passing, Script
from finesieve.core.fields.about import HOUSE, LEVEL, PERSON, record_about
from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.forms.prepare import CompiledCheck, can_ask, compile_checks
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.names import Place, World
from finesieve.core.language.placeholders import Template
from finesieve.core.language.program import Program
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue, hidden_groups
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value

__all__ = ["PASSING", "PreparedScript", "Subject", "passing_field", "script_world"]


@dataclass(frozen=True, slots=True)
class Subject:
    """What a line asks or changes: a field of the person, of the house or of a record, or a passing value; by its key.

    `of` says whose it is: a record's by what its type is called inside, as in "record:3".
    """

    of: str
    field: Field

    @property
    def key(self) -> str:
        return self.field.key

    @property
    def of_record(self) -> bool:
        return self.of not in (PERSON, HOUSE, PASSING)


PASSING: Final = "passing"
_NOT_TYPED: Final = ("secret", "file", "structured")
"""Kinds of values that nobody types in a conversation: they are given on a page of their own."""


def passing_field(one: Passing, catalogue: Catalogue) -> Field:
    """A passing value as the field that reads and shows it."""
    options = tuple(Option(label, label) for label in one.options)
    return Field(0, one.key, one.label, one.type_key, 0, unit=one.unit, options=options, manner=catalogue.manner)


def _about_of(catalogue: Catalogue, collection: str) -> str:
    link = catalogue.collections_of(PERSON).get(collection)
    return record_about(link.record_type_id) if link is not None else ""


def script_world(script: Script, catalogue: Catalogue, collection: str = "") -> World:
    """All that rules, formulas and texts of a script may name: a person's names, passing values, and `form.`,
    `person.`, `house.`, `level.`; first of all the names of a record, where it is about one of a `collection`.

    A bare name is what was answered, else what is stored of a confirmed person; `form.x` is the answer alone.
    """
    base = catalogue.world(PERSON)
    passing = {one.key: passing_field(one, catalogue).value_type for one in script.passing}
    of_levels = base.members[LEVEL].names if LEVEL in base.members else {}
    stored = {one.key: one.value_type for one in catalogue.stored_about(PERSON)}
    prefixes = {"form": {**stored, **passing}, "person": base.base.names, "level": of_levels}
    names = {**passing, **base.base.names}
    about = _about_of(catalogue, collection)
    inner = (base.members.get(about, Place(about, {})),) if about else ()
    here = replace(base.base, names=names)
    return replace(base, base=here, prefixes={**base.prefixes, **prefixes}, inner=inner, remembered=frozenset())


class PreparedScript:
    """A script ready to be run, for as long as neither it nor the definitions change."""

    def __init__(self, script: Script, catalogue: Catalogue, collection: str = "") -> None:
        """With a `collection`, as lines about one of its records have it: their names first."""
        self.script, self.catalogue, self.collection = script, catalogue, collection
        self.flow = Flow(script)
        self.world = script_world(script, catalogue, collection)
        self.record_about = _about_of(catalogue, collection)
        self.passing: Mapping[str, Field] = {one.key: passing_field(one, catalogue) for one in script.passing}
        self._hidden_groups = hidden_groups(catalogue)
        blank: dict[str, Value] = {one.key: None for one in catalogue.stored}
        self.stranger = Situation({**blank, "tags": (), "lists": (), "level": None})
        self.links = catalogue.collections_of(PERSON)
        self.reads_levels = "level." in script.model_dump_json()
        self.check: Callable[[str], Checked] = lru_cache(maxsize=1_024)(
            partial(check, names=self.world, zone=catalogue.zone)
        )
        self.template: Callable[[str], Template] = lru_cache(maxsize=2_048)(self._template)
        self.program: Callable[[str], Program | None] = lru_cache(maxsize=1_024)(self._program)
        self.subject: Callable[[int, str], Subject | None] = lru_cache(maxsize=512)(self._subject)
        self.checks: Callable[[Ask], tuple[CompiledCheck, ...]] = lru_cache(maxsize=512)(self._checks)

        self.wording: Callable[[str], Wording] = lru_cache(maxsize=12)(self._wording)
        self._about_records: dict[str, PreparedScript] = {}
        self._asked: dict[tuple[int, str], Subject | None] = {}
        self._on_a_page: dict[str, tuple[Field, ...]] = {}
        self.steady_offers: dict[tuple[str, str], tuple[Offer, ...]] = {}
        """What lines offer that is the same for everybody, by line and language."""

    def within(self, collection: str) -> "PreparedScript":
        """The script as lines about a record of a collection have it."""
        if collection not in self.links:
            return self
        if collection not in self._about_records:
            self._about_records[collection] = PreparedScript(self.script, self.catalogue, collection)
        return self._about_records[collection]

    def collection_at(self, step_id: str) -> str:
        """The collection that a line speaks of a record of, "" for none; one that goes through all speaks of each."""
        line = self.flow.by_id.get(self.flow.block(step_id))
        if line is None or (line.id == step_id and line.which != "each"):
            return ""
        return self.collection_of(line)

    def collection_of(self, step: EachRecord) -> str:
        """The collection that a line about records goes by, "" where it is gone."""
        return next((name for name, link in self.links.items() if link.id == step.link_id), "")

    def at(self, step_id: str) -> "PreparedScript":
        """The script as a line has it."""
        collection = self.collection_at(step_id)
        return self.within(collection) if collection else self

    def _wording(self, language: str) -> Wording:
        """What texts are called in a language: the script’s own words over those that ship."""
        return Wording(language, {**wording_without_form(language).phrases, **self.script.phrases.get(language, {})})

    def _template(self, text: str) -> Template:
        return Template(text, self.check)

    def show(self, typed: Typed, value: Value) -> str:
        """The value of a placeholder as people read it; what is private to staff is blank."""
        return "" if self.is_private(typed) else show_typed(self.catalogue, typed, value)

    def is_private(self, typed: Typed) -> bool:
        """Whether an expression reads what is private to staff: of the person, of their records, of the house."""
        return not typed.reads.isdisjoint(self.catalogue.not_for_the_person)

    def _program(self, text: str) -> Program | None:
        typed = self.check(text).typed
        return compile_python(typed) if typed is not None else None

    def _subject(self, field_id: int, passing: str) -> Subject | None:
        """What a line is about; None for what is gone, resting, private to staff, or worked out."""
        if passing:
            known = self.passing.get(passing)
            return Subject(PASSING, known) if known is not None else None
        field = self.catalogue.by_id.get(field_id)
        if field is None or not field.stores or field.settings.resting:
            return None
        return Subject(field.about, field) if field.about in (PERSON, HOUSE, self.record_about) else None

    def texts_to_say(self) -> tuple[str, ...]:
        """Every text that people read, each once: the script’s own, then labels and options of what it asks."""
        found = dict.fromkeys(self.script.texts_to_say())
        for step in self.flow.lines:
            subject = self.at(step.id).subject_of(step) if isinstance(step, Ask | Choose) else None
            if subject is not None:
                found |= dict.fromkeys([subject.field.label, *(option.label for option in subject.field.offered)])
        return tuple(text for text in found if text.strip())

    def can_ask(self, field: Field) -> bool:
        """Whether a conversation asks a field at all."""
        about = field.about if field.about == self.record_about else PERSON
        return field.id == 0 or can_ask(field, self._hidden_groups, about)

    def page_fields(self, step: Ask) -> tuple[Field, ...]:
        """The fields of a question that is answered on a page of its own: all lines of an address, a file, data, a
        secret; none for what is typed."""
        if step.id not in self._on_a_page:
            self._on_a_page[step.id] = self._page_fields(step)
        return self._on_a_page[step.id]

    def _page_fields(self, step: Ask) -> tuple[Field, ...]:
        if step.address:
            lines = (self.catalogue.by_key.get(key) for key in address_keys(step.address).values())
            return tuple(one for one in lines if one is not None and one.built_in and self.can_ask(one))
        subject = self.subject_of(step)
        return (subject.field,) if subject is not None and subject.field.type.kind in _NOT_TYPED else ()

    def _checks(self, step: Ask) -> tuple[CompiledCheck, ...]:
        subject = self.subject(step.field_id, step.passing)
        return compile_checks(step.checks, subject.field, self.world, self.catalogue) if subject is not None else ()

    def subject_of(self, step: Any) -> Subject | None:
        """What a line asks; None where it asks nothing, or nothing that can be asked."""
        # Asked for several times at each reply, and the same each time.
        asked = step.field_id, step.passing
        if asked not in self._asked:
            found = self.subject(*asked)
            self._asked[asked] = found if found is not None and self.can_ask(found.field) else None
        return self._asked[asked]
