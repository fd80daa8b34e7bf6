"""The texts of a form as the one who fills it in reads them, with what they answer and what is known of them."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from finesieve.core.fields.about import LEVEL, ORDER, PERSON, record_about
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm
from finesieve.core.forms.rows import Situation
from finesieve.core.language.placeholders import fill
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import HISTORY
from finesieve.core.model.catalogue import hidden_groups
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit

__all__ = ["FormTexts", "own_values"]


def own_values(unit: Unit, situation: Situation) -> dict[str, Value]:
    """What a known person may read of themself in texts: not what is private to staff; with what their derived values
    are worked out from, records and the past."""
    hidden = hidden_groups(unit.catalogue)
    known = unit.catalogue.by_key
    links = unit.catalogue.collections_of(PERSON)
    rows: dict[str, Any] = {HISTORY + key: lines for key, lines in situation.history.items()}
    for name, held in situation.records.items():
        about = record_about(links[name].record_type_id) if name in links else ORDER
        derivation = unit.catalogue.derivation_of(about)
        rows[name] = tuple(derivation.row(values, unit.moment) for _, values in held)
    told = {
        key: value
        for key, value in situation.stored.items()
        if key not in known or not (known[key].settings.private or known[key].group_id in hidden)
    }
    return {**told, **rows}


class _TextRow(Mapping[str, Value]):
    """What placeholders of a form read: a bare name is what is known of the person, all else what the form knows."""

    def __init__(self, own: Mapping[str, Value], said: Mapping[str, Value], hidden: frozenset[tuple[str, str]]) -> None:
        self._own, self._said, self._hidden = own, said, hidden

    def __getitem__(self, name: str) -> Value:
        prefix, point, key = name.partition(".")
        if not point or prefix == "person":
            return self._own[key or name]
        of_level = key.removeprefix("level.") if prefix == "form" and key.startswith("level.") else key
        if (prefix == "level" or of_level != key) and (LEVEL, of_level) in self._hidden:
            return None
        return self._said[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._own)

    def __len__(self) -> int:
        return len(self._own)


class FormTexts:
    """Fills in the texts of one form for somebody: `theirs` is what they may read of themself, None for nobody known,
    `said` the row that the rules of the form read."""

    def __init__(
        self,
        unit: Unit,
        prepared: PreparedForm,
        say: Callable[[str], str],
        theirs: Mapping[str, Value] | None,
        said: Mapping[str, Value],
        moment: Moment | None = None,
    ) -> None:
        self._moment = moment or unit.moment
        self._unit, self._prepared, self._say, self._known = unit, prepared, say, theirs is not None
        own = unit.catalogue.derivation.row(theirs, self._moment) if theirs else {}
        self._row = _TextRow(own, said, unit.catalogue.not_for_the_person)

    def __call__(self, text: str) -> str:
        """A text in the language of the page, filled in."""
        text = self._say(text)
        if "{" not in text and "}" not in text:
            return text  # as most texts are, on every round trip of a form
        catalogue = self._unit.catalogue
        return fill(text, self._prepared.check_text, self._row, self._moment, partial(show_typed, catalogue))

    def around(self, names: Sequence[str]) -> dict[str, str]:
        """The texts of these names that stand around the questions."""
        form = self._prepared.form
        shown = {name: str(getattr(form, name)) for name in names}
        if self._known:
            shown |= {name: text for name, text in _for_the_known(form).items() if text and name in names}
        return {name: self(text) for name, text in shown.items()}


def _for_the_known(form: Form) -> dict[str, str]:
    """The texts that stand in for others where somebody changes what is kept of them; empty ones stand in for none."""
    return {"title": form.title_known, "send_label": form.send_known}
