"""A form's texts in the language of the person, and what of them is not translated yet."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace

from finesieve.core.forms.definition import Form, Question, Remark, Section
from finesieve.core.forms.outcome import Filling, Outcome, QuestionOutcome, RemarkOutcome, SectionOutcome
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.phrases import Phrase
from finesieve.core.shipped import sentences, shipped

__all__ = [
    "TextToSay",
    "Wording",
    "texts_to_say",
    "untranslated",
    "worded",
    "wording_of",
    "wording_without_form",
]


@dataclass(frozen=True)
class Wording:
    """Says texts in one language; what is not translated it says as it is."""

    language: str
    phrases: Mapping[str, str]

    def __call__(self, text: str) -> str:
        if type(text) is str or not isinstance(text, Phrase):  # nearly all of it, and there is much
            return self.phrases.get(text, text) if text else text
        parts = {name: self(part) for name, part in text.parts.items()}
        return Phrase(text.template, parts).said_as(self.phrases.get(text.template, text.template))


def wording_without_form(*wished: str) -> Wording:
    """What the pages say by themselves in the first language that ships, where no form's texts are at hand."""
    language = next((one for one in wished if one == "en" or shipped(one)), "en")
    return Wording(language, shipped(language))


def wording_of(form: Form, *wished: str) -> Wording:
    """The wording of a form in the first language of those wished for that it has; else in its own."""
    language = next((one for one in wished if one in form.languages), form.languages[0])
    own = form.phrases.get(language, {}) if language != form.languages[0] else {}
    return Wording(language, {**shipped(language), **own})


def worded(outcome: Outcome, say: Callable[[str], str]) -> Outcome:
    """An outcome with every text that people read passed through `say`."""
    if isinstance(say, Wording) and not say.phrases:
        return outcome  # all is said as it is

    def question(one: QuestionOutcome) -> QuestionOutcome:
        was = {"label": one.label, "help": one.help, "sample": one.sample}
        texts = {part: say(text) for part, text in was.items()}
        labels, message = [say(option.label) for option in one.offered], say(one.message)
        # Most is said as it is, on every round trip of a page; what stays the same is not made anew.
        asked = one.question if texts == was else one.question.model_copy(update=texts)
        pairs = list(zip(one.offered, labels, strict=True))
        if all(option.label == label for option, label in pairs):
            return (
                one
                if asked is one.question and message == one.message
                else replace(one, question=asked, message=message)
            )
        offered = tuple(replace(option, label=label) for option, label in pairs)
        return replace(one, question=asked, offered=offered, message=message)

    def item(one: QuestionOutcome | RemarkOutcome) -> QuestionOutcome | RemarkOutcome:
        if isinstance(one, QuestionOutcome):
            return question(one) if one.shows or one.locked else one
        return replace(one, remark=one.remark.model_copy(update={"text": say(one.remark.text)}))

    def filling(one: Filling) -> Filling:
        return replace(one, items=tuple(item(part) for part in one.items))

    def section(one: SectionOutcome) -> SectionOutcome:
        texts = {"title": say(one.section.title), "intro": say(one.section.intro)}
        if one.section.repeat:
            repeat = one.section.repeat.model_copy(update={"one": say(one.section.repeat.one)})
            texts["repeat"] = repeat  # type: ignore[assignment]  # a part, not a text
        made = one.section.model_copy(update=texts)
        return replace(one, section=made, fillings=tuple(filling(part) for part in one.fillings))

    return replace(outcome, sections=tuple(section(one) for one in outcome.sections))


@dataclass(frozen=True, slots=True)
class TextToSay:
    """A text that people read, and where it stands first; `own` is false for what the pages say themselves."""

    text: str
    where: str
    own: bool = True


def texts_to_say(form: Form, catalogue: Catalogue) -> tuple[TextToSay, ...]:
    """Every text that the form shows, each once, in order: its own, those of its fields and options."""
    found: dict[str, TextToSay] = {}
    for where, text in _texts(form, catalogue):
        if text.strip() and text not in found:
            found[text] = TextToSay(text, where)
    return tuple(found.values())


def _texts(form: Form, catalogue: Catalogue) -> Iterator[tuple[str, str]]:
    yield "title", form.title
    yield "introduction", form.intro
    for section in form.sections:
        yield from _section_texts(section)
        for item in section.items:
            if isinstance(item, Remark):
                yield item.kind, item.text
            else:
                yield from _question_texts(item, catalogue)
    yield "button", form.send_label
    yield "title for who is known", form.title_known
    yield "button for who is known", form.send_known
    yield "after sending", form.thanks


def _section_texts(section: Section) -> Iterator[tuple[str, str]]:
    yield "section", section.title
    yield "section introduction", section.intro
    if section.repeat:
        yield "one of them", section.repeat.one


def _question_texts(question: Question, catalogue: Catalogue) -> Iterator[tuple[str, str]]:
    known = catalogue.by_id.get(question.field_id)
    yield "question", question.label or (known.label if known else "")
    yield "help", question.help or (known.help if known else "")
    yield "sample text", question.sample or (known.settings.sample_text if known else "")
    yield "unit", known.unit if known else ""
    for option in known.offered if known else ():
        yield "option", option.label
    for line in question.menu:
        yield "option", line
    for check in question.checks:
        named = catalogue.checks.get(check.check_id) if check.kind == "named" else None
        yield "message", check.message or (named.check.message if named else "")
    for surcharge in question.surcharges:
        yield "surcharge", surcharge.label


def untranslated(form: Form, catalogue: Catalogue, language: str) -> tuple[TextToSay, ...]:
    """The texts without a translation into a language; last what the product says itself, where it lacks that one."""
    said = wording_of(form, language).phrases
    own = [text for text in texts_to_say(form, catalogue) if text.text not in said]
    built_in = [TextToSay(text, "said by the page", own=False) for text in sentences() if text not in said]
    return (*own, *built_in)
