"""Findings about what things mean: two facts that are one, what can be worked out, what nobody can come to."""

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Final

from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Catalogue

__all__ = ["alike", "meaning_of", "numbered", "statuses_beside_dates", "title_twins", "unjoined", "untyped_records"]

_SAME: Final[Mapping[str, str]] = {
    word: meaning
    for meaning, words in {
        "birthday": "birthday born birthdate dob geburtstag geburtsdatum",
        "phone": "phone telephone mobile cell tel telefon handy",
        "postcode": "postcode zip plz postleitzahl",
        "town": "town city ort stadt",
        "company": "company firm organisation organization firma employer",
        "comment": "comment comments remark remarks note notes bemerkung notiz",
        "picture": "picture photo image photograph foto bild",
        "website": "website homepage webpage site url",
        "quantity": "quantity amount number count anzahl",
        "children": "children kids kinder",
        "job": "job occupation profession beruf",
    }.items()
    for word in words.split()
}
"""Words that people use for one and the same thing, by the word that stands for it."""
_TOGETHER: Final = (
    (re.compile(r"\b(date|day) of birth\b|\bbirth (date|day)\b"), "birthday"),
    (re.compile(r"\bpost(al)? code\b|\bzip code\b"), "postcode"),
    (re.compile(r"\b(phone|telephone|mobile|cell) (number|no|nr|phone)\b"), "phone"),
    (re.compile(r"\bweb (site|page|address)\b|\bhome page\b"), "website"),
)
_SAYS_NOTHING: Final = frozenset("your the my their of on a an for in is no nr please".split())


def meaning_of(label: str) -> str:
    """What a label means, as far as its words tell: the same for “Birthday”, “Date of birth” and “Born”."""
    text = re.sub(r"\be[\s-]mail\b", "email", label.lower().replace("_", " "))
    for pattern, word in _TOGETHER:
        text = pattern.sub(word, text)
    words = [word for word in re.findall(r"[^\W_]+", text) if word not in _SAYS_NOTHING]
    return " ".join(sorted({_SAME.get(word, word) for word in words}))


def alike(fields: Iterator[Field]) -> Iterator[tuple[Field, Field]]:
    """Pairs of fields about the same thing that seem to mean the same."""
    seen: dict[tuple[str, str], Field] = {}
    for known in fields:
        other = seen.setdefault((known.about, meaning_of(known.label)), known)
        if other is not known:
            yield known, other


def title_twins(catalogue: Catalogue) -> Iterator[tuple[Field, Field]]:
    """A field of a record that says again what names it: “Plot name” beside the title “Name”, with the title."""
    for known in catalogue.record_types:
        title = catalogue.by_id.get(known.title_field)
        if title is None:
            continue
        own = {meaning_of(title.label), meaning_of(f"{known.singular} {title.label}"), meaning_of(known.singular)}
        for field in catalogue.fields_about(known.about):
            if field.id != title.id and field.stores and meaning_of(field.label) in own:
                yield field, title


def untyped_records(catalogue: Catalogue) -> Iterator[Field]:
    """Choices among records whose kind is gone, or was never said."""
    for field in catalogue.all_fields:
        if field.type_key == "record" and field.settings.record_type not in catalogue.record_types_by_id:
            yield field


_STATUS: Final = frozenset("status state active inactive expired valid current overdue due lapsed".split())
_ENDS: Final = frozenset("until till ends end expires expiry due since from started start renewal renewed by".split())


def statuses_beside_dates(catalogue: Catalogue) -> Iterator[tuple[Field, Field]]:
    """A status that is kept by hand beside the date that decides it, with the date: “Active” beside “Member until”."""
    for field in catalogue.all_fields:
        if field.type_key not in ("choice", "yes_no", "progress") or not _words(field) & _STATUS:
            continue
        dates = (
            one
            for one in catalogue.fields_about(field.about)
            if one.stores and one.type_key in ("date", "datetime") and _words(one) & _ENDS
        )
        deciding = next(dates, None)
        if deciding is not None:
            yield field, deciding


def _words(field: Field) -> set[str]:
    return set(re.findall(r"[^\W_]+", field.label.lower()))


def unjoined(catalogue: Catalogue, joined: frozenset[int]) -> Iterator[str]:
    """Names of lists that no form puts anybody on."""
    for known in catalogue.lists:
        if known.id not in joined:
            yield known.name


def numbered(fields: Iterable[Field]) -> dict[int, tuple[str, list[Field]]]:
    """Fields that are numbered alike, `Bed 1`, `Bed 2`: by the id of each, what they are called and all of them."""
    groups: dict[str, list[tuple[int, Field]]] = {}
    stems: dict[str, str] = {}
    for known in fields:
        match = re.fullmatch(r"(.*?)[\s_-]*([1-9][0-9]?)", known.label)
        if match and match[1].strip() and known.stores:
            key = match[1].strip().lower()
            stems.setdefault(key, match[1].strip())
            groups.setdefault(key, []).append((int(match[2]), known))
    found: dict[int, tuple[str, list[Field]]] = {}
    for key, twins in groups.items():
        ordered = [field for _, field in sorted(twins, key=lambda one: (one[0], one[1].id))]
        found |= {field.id: (stems[key], ordered) for field in ordered if len(ordered) > 1}
    return found
