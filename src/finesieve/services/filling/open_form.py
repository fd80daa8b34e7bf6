"""An open form, and what is known of the one filling-in that it is."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.forms.definition import Form
from finesieve.core.forms.outcome import Outcome, QuestionOutcome, SectionOutcome
from finesieve.core.forms.wording import Wording
from finesieve.standins.challenge import Challenge

__all__ = ["Filling", "OpenForm", "Sent", "Thanks", "Visit"]


@dataclass(frozen=True, slots=True)
class Visit:
    """What a browser brings when it opens a form: address parameters, languages (the most wished first), a link."""

    page: Mapping[str, str] = field(default_factory=dict)
    languages: tuple[str, ...] = ()
    me: str = ""


@dataclass(frozen=True, slots=True)
class OpenForm:
    """A published form somebody has opened, its texts in their language.

    `token` carries the version and the key of this one filling-in; posted
    back, it makes a second sending count as the first. `unasked` names the
    questions that the answers brought up after the page was made. `challenge` is
    what tells people from robots, where the form wants that; `given` are the
    answers that came, those to questions that do not show now included. `receipt`, once it is sent, is
    the token of the page after.
    """

    house: str
    form: Form
    token: str
    outcome: Outcome
    say: Wording
    sent: bool = False
    unasked: frozenset[str] = frozenset()
    challenge: Challenge | None = None
    challenge_failed: bool = False
    known: bool = False
    manner: Manner = PLAIN
    given: Mapping[str, str] = field(default_factory=dict)
    receipt: str = ""

    @property
    def language(self) -> str:
        """The locale of the house."""
        return self.manner.language

    def money(self, amount: Decimal) -> str:
        """An amount as people read it, in the currency of the house."""
        return self.manner.money(amount)

    def name_of(self, question: QuestionOutcome) -> str:
        """How a question is named away from its place: with the filling it is in, where there are several."""
        for shown in self.outcome.sections:
            if shown.section.repeat and len(shown.fillings) > 1:
                for number, filling in enumerate(shown.fillings, 1):
                    if question.id in [one.id for one in filling.questions]:
                        return f"{shown.section.repeat.one or shown.section.title} {number}: {question.label}"
        return question.label

    @property
    def steps(self) -> tuple[SectionOutcome, ...]:
        """The sections that show; in a form of steps, one after the other."""
        return tuple(section for section in self.outcome.sections if section.shows)


@dataclass(frozen=True, slots=True)
class Thanks:
    """The page after sending. `asks_about_address`: letters went to the old address and to the new one."""

    house: str
    title: str
    text: str
    say: Wording
    asks_about_address: bool = False


@dataclass(frozen=True, slots=True)
class Sent:
    """What a browser sends: the answers, the questions that its page `asked`, the language of the page.

    `challenge` is a token and the answer to it.
    """

    form_slug: str
    token: str
    answers: Mapping[str, str]
    asked: frozenset[str]
    language: str = ""
    challenge: tuple[str, str] = ("", "")


@dataclass(frozen=True, slots=True)
class Filling:
    """One filling-in, by its key; for whom and until when, where a personal link led here."""

    form_id: int
    version: int
    key: str
    page: Mapping[str, str] = field(default_factory=dict)
    person_id: int = 0
    until: int = 0
