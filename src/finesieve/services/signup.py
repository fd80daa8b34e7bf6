"""The public sign-up: opening the form, answering, sending, and confirming by mail."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta
from decimal import Decimal
from typing import Final

from babel.numbers import format_currency
from itsdangerous import BadData, URLSafeSerializer
from sqlmodel import col, select

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.forms.outcome import Outcome, QuestionOutcome, SectionOutcome
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import Wording, worded, wording_of
from finesieve.core.values import Value
from finesieve.services.arrivals import count_arrival
from finesieve.services.files import examine, send_file
from finesieve.services.filling import (
    keep_records,
    page_parameters,
    person_situation,
    records_to_json,
    shelf_for,
    store_records,
)
from finesieve.services.held import apply_held
from finesieve.services.lines import fill_text, record_lines, show_past
from finesieve.services.mapping import pass_on
from finesieve.services.scope import Clock, Scope, Unit
from finesieve.services.values import add_person, change_person, hash_secrets, taken_keys
from finesieve.standins.challenge import Challenge, ChallengeService
from finesieve.standins.mail import Letter, post
from finesieve.store.database import Store
from finesieve.store.files import FileStore
from finesieve.store.rows import find_by_email
from finesieve.store.tables import FormRow, FormVersion, Submission, Workspace

__all__ = ["Confirmation", "OpenForm", "PublicForms", "Visit"]

_MOST_PREPARED: Final = 128
_PERSONAL_LINK: Final = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class Visit:
    """What a browser brings when it opens a form: address parameters, a wished language, a personal link."""

    page: Mapping[str, str] = field(default_factory=dict)
    language: str = ""
    me: str = ""


@dataclass(frozen=True, slots=True)
class OpenForm:
    """A published form somebody has opened, its texts in their language.

    `token` carries the version and the key of this one filling-in; posted
    back, it makes a second sending count as the first. `unasked` names the
    questions that the answers brought up after the page was made. `challenge` is
    what tells people from robots, where the form wants that; `given` are the
    answers that came, those to questions that do not show now included.
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

    def money(self, amount: Decimal) -> str:
        """An amount as people read it, in the currency of the house."""
        return str(format_currency(amount, self.manner.currency, locale=self.manner.language))

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
class Confirmation:
    """A held sign-up, as the one who follows the link in the letter sees it: what they sent, nothing else."""

    house: str
    title: str
    lines: tuple[tuple[str, str], ...]
    decided: bool
    me: str = ""


@dataclass(frozen=True, slots=True)
class _Filling:
    form_id: int
    version: int
    key: str
    page: Mapping[str, str] = field(default_factory=dict)
    person_id: int = 0


class PublicForms:
    """What the public pages may do. Nothing known of anybody is shown but to who follows a link in their mail."""

    def __init__(self, store: Store, clock: Clock, secret: str, files: FileStore | None = None) -> None:
        self._store = store
        self._files = files
        self._clock = clock
        self._signer = URLSafeSerializer(secret, salt="form")
        self._links = URLSafeSerializer(secret, salt="mail")
        self._challenges = ChallengeService(secret)
        self._kept: dict[tuple[int, int, int, int], PreparedForm] = {}

    # Opening, answering, sending

    def open(self, workspace_slug: str, form_slug: str, visit: Visit | None = None) -> OpenForm:
        """Open the version in force. Raises NotFound where none is published."""
        visit = visit or Visit()
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            row = self._form(unit, form_slug)
            person_id = self._person_of(unit, row, visit.me)
            filling = _Filling(row.id or 0, row.published, secrets.token_urlsafe(16), visit.page, person_id)
            return self._evaluated(unit, house, filling, {}, visit.language)

    def answer(
        self, workspace_slug: str, form_slug: str, token: str, answers: Mapping[str, str], language: str = ""
    ) -> OpenForm:
        """Work out the form for the answers so far; stores nothing."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            return self._evaluated(unit, house, self._filling(unit, form_slug, token), answers, language)

    def send(
        self,
        workspace_slug: str,
        form_slug: str,
        token: str,
        answers: Mapping[str, str],
        asked: frozenset[str],
        *,
        language: str = "",
        challenge: tuple[str, str] = ("", ""),
        came_from: str = "",
    ) -> OpenForm:
        """Send the form. `sent` tells whether it was taken; if not, the outcome says why.

        `asked` are the questions that the page showed: one that shows now and
        was not among them has to be asked first. `challenge` is a token and the
        answer to it; `came_from` the address it came from, which is counted.

        Sent twice, it counts once. An email that is known already changes
        nothing that is stored: the answers are held until the link in a letter to
        that address is followed, or the staff decide. Raises TooOften.
        """
        scope, house = self._scope(workspace_slug)
        if came_from:
            count_arrival(scope, f"send:{form_slug}", came_from)
        for last_try in (False, True):
            try:
                return self._send_once(scope, house, form_slug, token, answers, asked, language, challenge)
            except Conflict:
                # Somebody sent the same key, or signed up with the same email, at the same moment;
                # the second look finds it.
                if last_try:
                    raise
        raise AssertionError("unreachable")

    def _send_once(
        self,
        scope: Scope,
        house: str,
        form_slug: str,
        token: str,
        answers: Mapping[str, str],
        asked: frozenset[str],
        language: str,
        challenge: tuple[str, str],
    ) -> OpenForm:
        with scope.transaction("public") as unit:
            filling = self._filling(unit, form_slug, token)
            opened = self._evaluated(unit, house, filling, answers, language)
            done = replace(opened, sent=True)
            earlier = select(Submission.id).where(
                col(Submission.form_id) == filling.form_id, col(Submission.key) == filling.key
            )
            if unit.session.exec(earlier).first() is not None:
                return done
            unasked = frozenset(shown.id for shown in opened.outcome.showing) - asked
            if unasked or opened.outcome.troubles:
                return replace(opened, unasked=unasked)
            if opened.form.challenge and not self._challenges.passes(filling.key, *challenge):
                return replace(opened, challenge_failed=bool(challenge[1]))
            values = opened.outcome.to_store
            taken = taken_keys(unit, filling.person_id or self._known(unit, values), values, _only_here(opened.outcome))
            if taken:
                return replace(opened, outcome=worded(opened.outcome.taken(taken), opened.say))
            self._store_answers(unit, filling, opened, values)
            return done

    def _known(self, unit: Unit, values: Mapping[str, Value]) -> int:
        email = values.get("email")
        return (find_by_email(unit.session, unit.definitions, email) or 0) if isinstance(email, str) else 0

    def _store_answers(self, unit: Unit, filling: _Filling, opened: OpenForm, values: Mapping[str, Value]) -> None:
        values = hash_secrets(unit, PERSON, values)
        records = keep_records(unit, opened.outcome)
        source = f"form: {opened.form.title}"
        person_id, held = filling.person_id, False
        if person_id:
            change_person(unit, person_id, values, source)
        else:
            known = self._known(unit, values)
            held = bool(known)
            person_id = known or add_person(unit, {**values, "signed_up_on": unit.moment.today}, source)
        if not held:
            store_records(unit, person_id, records, source)
        pass_on(unit, filling.form_id, opened.form.title, values)
        submission = Submission(
            workspace_id=unit.workspace_id,
            form_id=filling.form_id,
            version=filling.version,
            key=filling.key,
            person_id=person_id,
            state="held" if held else "stored",
            received_at=unit.moment.now,
            answers={key: to_json(value) for key, value in values.items()},
            records=records_to_json(records),
        )
        unit.session.add(submission)
        if held:
            unit.session.flush()
            self._write_to(unit, submission, opened, str(values["email"]))

    def _write_to(self, unit: Unit, submission: Submission, opened: OpenForm, email: str) -> None:
        """The letter that asks whether these answers are theirs; it says nothing of what is known."""
        row = unit.session.get(FormRow, submission.form_id)
        workspace = unit.session.get(Workspace, unit.workspace_id)
        token = self._links.dumps(["held", submission.id])
        link = f"/join/{workspace.slug if workspace else ''}/{row.slug if row else ''}/confirm?letter={token}"
        body = (
            f"Somebody has filled in “{opened.form.title}” with your address. If it was you, follow the link "
            "and say so; then the answers count. If it was not, do nothing: nothing changes."
        )
        letter = Letter("confirm", email, f"Your answers to {opened.house}", body, link)
        post(unit.session, unit.workspace_id, submission.person_id, letter, unit.moment.now)

    # The link in the letter

    def read_letter(self, workspace_slug: str, form_slug: str, letter: str) -> Confirmation:
        """What a letter's link leads to. Raises NotFound for one that is not ours."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            row, form = self._letter(unit, form_slug, letter)
            lines = [
                (known.label, show_past(known, row.answers[known.key]))
                for known in unit.catalogue.stored_about(PERSON)
                if known.key in row.answers and known.type.kind != "secret"
            ]
            lines += record_lines(unit, row.records, lambda known: known.type.kind != "secret")
            return Confirmation(house, str(form.draft["title"]), tuple(lines), row.state != "held")

    def confirm(self, workspace_slug: str, form_slug: str, letter: str, *, mine: bool) -> Confirmation:
        """Let held answers count, or set them aside; once only. Raises NotFound, and Conflict where one fits no more.

        `me` of the result is a personal link's token: whoever reads this mailbox may see what is kept of them.
        """
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            row, form = self._letter(unit, form_slug, letter)
            if row.state == "held":
                apply_held(unit, row, "form, confirmed by mail", apply=mine)
            until = int((unit.moment.now + _PERSONAL_LINK).timestamp())
            me = str(self._links.dumps(["me", row.form_id, row.person_id, until])) if mine else ""
            return Confirmation(house, str(form.draft["title"]), (), True, me)

    def _letter(self, unit: Unit, form_slug: str, letter: str) -> tuple[Submission, FormRow]:
        form = self._form(unit, form_slug)
        try:
            what, submission_id = self._links.loads(letter)
        except (BadData, ValueError, TypeError):
            raise NotFound("This link is not complete; copy it from the letter once more.") from None
        row = unit.session.get(Submission, submission_id, with_for_update=True) if what == "held" else None
        if row is None or row.form_id != form.id:
            raise NotFound("This link is not complete; copy it from the letter once more.")
        return row, form

    def _person_of(self, unit: Unit, row: FormRow, me: str) -> int:
        """Whom a personal link is of; 0 for one that is not ours, not of this form, or has run out."""
        if not me:
            return 0
        try:
            what, form_id, person_id, until = self._links.loads(me)
        except (BadData, ValueError, TypeError):
            return 0
        good = what == "me" and form_id == row.id and unit.moment.now.timestamp() <= until
        return int(person_id) if good else 0

    # What all of them need

    def _scope(self, workspace_slug: str) -> tuple[Scope, str]:
        with self._store.transaction() as session:
            workspace = session.exec(select(Workspace).where(col(Workspace.slug) == workspace_slug)).first()
        if workspace is None:
            raise NotFound("There is no such page.")
        return Scope(self._store, workspace.id or 0, "the person", "public", self._clock), workspace.name

    def _form(self, unit: Unit, form_slug: str) -> FormRow:
        row = unit.session.exec(select(FormRow).where(col(FormRow.slug) == form_slug)).first()
        if row is None or not row.published:
            raise NotFound("There is no such page.")
        return row

    def _filling(self, unit: Unit, form_slug: str, token: str) -> _Filling:
        """What the token says. One that is not ours begins a new filling-in, keeping the answers."""
        row = self._form(unit, form_slug)
        fresh = _Filling(row.id or 0, row.published, secrets.token_urlsafe(16))
        try:
            form_id, version, key, *more = self._signer.loads(token)
        except (BadData, ValueError, TypeError):
            return fresh
        page, person_id = more if len(more) == 2 else ({}, 0)
        return _Filling(form_id, version, key, page, person_id) if form_id == row.id else fresh

    def _evaluated(
        self, unit: Unit, house: str, filling: _Filling, answers: Mapping[str, str], language: str
    ) -> OpenForm:
        prepared = self._prepared(unit, filling)
        form = prepared.form
        say = wording_of(form, language)
        page = page_parameters(filling.page, say.language)
        shelf = shelf_for(unit, form, answers, filling.form_id)
        situation = (
            person_situation(unit, filling.person_id, page, shelf)
            if filling.person_id
            else Situation(page=page, shelf=shelf)
        )
        outcome = prepared.evaluate(answers, unit.moment, situation)
        texts = {name: fill_text(unit, say(getattr(form, name))) for name in ("title", "intro", "send_label", "thanks")}
        token = self._signer.dumps(
            [filling.form_id, filling.version, filling.key, dict(filling.page), filling.person_id]
        )
        return OpenForm(
            house,
            form.model_copy(update=texts),
            str(token),
            worded(outcome, lambda text: fill_text(unit, say(text))),
            say,
            challenge=self._challenges.pose(filling.key) if form.challenge else None,
            known=bool(filling.person_id),
            manner=unit.manner,
            given={name: value for name, value in answers.items() if _is_part(form, name)},
        )

    def take_file(
        self, workspace_slug: str, form_slug: str, question_id: str, name: str, data: bytes, came_from: str = ""
    ) -> str:
        """Take a file for a question; gives the token that is its answer. Raises ValueError with a sentence."""
        scope, _house = self._scope(workspace_slug)
        if came_from:
            count_arrival(scope, f"file:{form_slug}", came_from)
        with scope.transaction("public") as unit:
            row = self._form(unit, form_slug)
            prepared = self._prepared(unit, _Filling(row.id or 0, row.published, ""))
            question = prepared.form.question(question_id.partition(".")[0])
            known = unit.catalogue.by_id.get(question.field_id) if question else None
            if self._files is None or known is None or known.type.kind != "file":
                raise InvalidInput({question_id: "No file is asked for here."})
        return send_file(scope, self._files, examine(known, name, data), row.id or 0)

    def _prepared(self, unit: Unit, filling: _Filling) -> PreparedForm:
        """The compiled form, kept for as long as neither it nor the definitions change."""
        key = (unit.workspace_id, unit.catalogue.version, filling.form_id, filling.version)
        kept = self._kept.get(key)
        if kept is not None:
            return kept
        row = unit.session.get(FormVersion, (filling.form_id, filling.version))
        if row is None:
            raise NotFound("There is no such page.")
        made = prepare(Form.model_validate(row.document), unit.catalogue, lasting=True)
        while len(self._kept) >= _MOST_PREPARED:
            self._kept.pop(next(iter(self._kept)), None)
        self._kept[key] = made
        return made


def _is_part(form: Form, name: str) -> bool:
    """Whether an answer is to a question of the form, or names the fillings of a section."""
    place = name.partition(".")[0]
    return form.question(place) is not None or form.section(place) is not None


def _only_here(outcome: Outcome) -> frozenset[str]:
    """The keys of fields that a check of this form, and not the field itself, wants unique."""

    def wants(one: QuestionOutcome) -> bool:
        return one.shows and any(check.check.kind == "unique" for check in one.checks)

    return frozenset(one.field.key for one in outcome.walk() if wants(one))
