"""A rule in an editor: a sentence with changeable words, or its text, one click apart."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from finesieve.core.language.parser import has_comments
from finesieve.core.language.problems import Problem
from finesieve.office.shared.sentences import SentenceDraft, Vocabulary, draft_from_text, read_sentence
from finesieve.web.posted import PostedForm

__all__ = ["RuleEditor", "posted_rule", "stored_rule"]


@dataclass(frozen=True, slots=True)
class RuleEditor:
    """One rule: `name` is that of its inputs, `label` what it is, `words` what its sentence may speak of."""

    name: str
    label: str
    words: Vocabulary
    text: str
    sentence: SentenceDraft
    as_text: bool = False
    problems: tuple[Problem, ...] = ()

    @property
    def loses_comments(self) -> bool:
        """Whether a change of the sentence would drop comments that the text has."""
        return not self.as_text and has_comments(self.text)

    @property
    def complete(self) -> bool:
        """Whether nothing is lacking in its sentence."""
        return self.as_text or self.sentence.complete

    def flipped(self) -> "RuleEditor":
        """The same the other way: as text, or as a sentence."""
        return stored_rule(self.name, self.label, self.text, self.words, as_text=not self.as_text)

    def with_problems(self, problems: Sequence[Problem]) -> "RuleEditor":
        """The same with what is wrong with it."""
        return replace(self, problems=tuple(problems))


def stored_rule(name: str, label: str, text: str, words: Vocabulary, *, as_text: bool) -> RuleEditor:
    """A rule as it is stored."""
    return RuleEditor(name, label, words, text, draft_from_text(text, words), as_text)


def posted_rule(form: PostedForm, name: str, label: str, words: Vocabulary) -> RuleEditor:
    """A rule as it was posted, by sentence or as text."""
    if f"{name}_clauses" in form:
        sentence = read_sentence(form, words, f"{name}_")
        return RuleEditor(name, label, words, sentence.expression(words), sentence)
    if name not in form:
        return stored_rule(name, label, "", words, as_text=False)
    text = form.text(name).strip()
    return RuleEditor(name, label, words, text, draft_from_text(text, words), as_text=True)
