"""The public sign-up: opening the form, answering, sending."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Final

from itsdangerous import BadData, URLSafeSerializer
from sqlmodel import col, select

from finesieve.core.catalogue import hidden_groups
from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Shelf
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.definition import Form
from finesieve.core.forms.outcome import Outcome, PreparedForm, prepare
from finesieve.core.language.placeholders import fill
from finesieve.services.files import send_file, shelf_of
from finesieve.services.lines import show_typed
from finesieve.services.mapping import pass_on
from finesieve.services.scope import Clock, Scope, Unit
from finesieve.services.values import add_person, hash_secrets, taken_keys
from finesieve.store.database import Store
from finesieve.store.files import FileStore
from finesieve.store.rows import find_by_email, titles_of
from finesieve.store.tables import FormRow, FormVersion, Submission, Workspace

__all__ = ["OpenForm", "PublicForms"]

_MOST_PREPARED: Final = 128


@dataclass(frozen=True, slots=True)
class OpenForm:
    """A published form somebody has opened.

    `token` carries the version and the key of this one filling-in; posted
    back, it makes a second sending count as the first. `unasked` names the
    questions that the answers brought up after the page was made.
    """

    house: str
    form: Form
    token: str
    outcome: Outcome
    sent: bool = False
    unasked: frozenset[str] = frozenset()


def _shelf(unit: Unit, prepared: PreparedForm, answers: Mapping[str, str]) -> Shelf | None:
    """What the answers may point at: the files that they name, and the records of choices among records."""
    fields = {question.id: unit.catalogue.by_id.get(question.field_id) for question in prepared.form.questions}
    tokens = [answers.get(name, "") for name, field in fields.items() if field and field.type.kind == "file"]
    types = {field.settings.record_type for field in fields.values() if field and field.type_key == "record"}
    titles = {one: titles_of(unit.session, unit.definitions, record_about(one)) for one in types if one}
    if not titles and not any(tokens):
        return None
    return replace(shelf_of(unit, [token for token in tokens if token]), titles=titles)


def _filled(unit: Unit, text: str) -> str:
    """A text with its placeholders filled: house values, as they are at this moment."""
    return fill(text, unit.catalogue.check, {}, unit.moment, partial(show_typed, unit.catalogue)) if text else text


@dataclass(frozen=True, slots=True)
class _Filling:
    form_id: int
    version: int
    key: str


class PublicForms:
    """What the public pages may do. Nothing known of anybody is ever shown here."""

    def __init__(self, store: Store, clock: Clock, secret: str, files: FileStore | None = None) -> None:
        self._store = store
        self._files = files
        self._clock = clock
        self._signer = URLSafeSerializer(secret, salt="form")
        self._kept: dict[tuple[int, int, int, int], PreparedForm] = {}

    def open(self, workspace_slug: str, form_slug: str) -> OpenForm:
        """Open the version in force. Raises NotFound where none is published."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            row = self._form(unit, form_slug)
            filling = _Filling(row.id or 0, row.published, secrets.token_urlsafe(16))
            return self._evaluated(unit, house, filling, {})

    def answer(self, workspace_slug: str, form_slug: str, token: str, answers: Mapping[str, str]) -> OpenForm:
        """Work out the form for the answers so far; stores nothing."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            return self._evaluated(unit, house, self._filling(unit, form_slug, token), answers)

    def send(
        self, workspace_slug: str, form_slug: str, token: str, answers: Mapping[str, str], asked: frozenset[str]
    ) -> OpenForm:
        """Send the form. `sent` tells whether it was taken; if not, the outcome says why.

        `asked` are the questions that the page showed: one that shows now and
        was not among them has to be asked first.

        Sent twice, it counts once. An email that is known already changes
        nothing that is stored: the answers are held for the staff to decide.
        """
        scope, house = self._scope(workspace_slug)
        for last_try in (False, True):
            try:
                return self._send_once(scope, house, form_slug, token, answers, asked)
            except Conflict:
                # Somebody sent the same key, or signed up with the same email, at the same moment;
                # the second look finds it.
                if last_try:
                    raise
        raise AssertionError("unreachable")

    def _send_once(
        self, scope: Scope, house: str, form_slug: str, token: str, answers: Mapping[str, str], asked: frozenset[str]
    ) -> OpenForm:
        with scope.transaction("public") as unit:
            filling = self._filling(unit, form_slug, token)
            opened = self._evaluated(unit, house, filling, answers)
            done = replace(opened, sent=True)
            earlier = select(Submission.id).where(
                col(Submission.form_id) == filling.form_id, col(Submission.key) == filling.key
            )
            if unit.session.exec(earlier).first() is not None:
                return done
            values = opened.outcome.to_store
            email = values.get("email")
            unasked = frozenset(shown.question.id for shown in opened.outcome.showing) - asked
            if unasked or opened.outcome.troubles or not isinstance(email, str):
                return replace(opened, unasked=unasked)
            known = find_by_email(unit.session, unit.definitions, email)
            taken = taken_keys(unit, known or 0, values)
            if taken:
                return replace(opened, outcome=opened.outcome.taken(taken))
            values = hash_secrets(unit, PERSON, values)
            person_id = known or add_person(
                unit, values | {"signed_up_on": unit.moment.today}, f"form: {opened.form.title}"
            )
            pass_on(unit, filling.form_id, opened.form.title, values)
            submission = Submission(
                workspace_id=unit.workspace_id,
                form_id=filling.form_id,
                version=filling.version,
                key=filling.key,
                person_id=person_id,
                state="held" if known else "stored",
                received_at=unit.moment.now,
                answers={key: to_json(value) for key, value in values.items()},
            )
            unit.session.add(submission)
            return done

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
        try:
            form_id, version, key = self._signer.loads(token)
        except (BadData, ValueError, TypeError):
            return _Filling(row.id or 0, row.published, secrets.token_urlsafe(16))
        if form_id != row.id:
            return _Filling(row.id or 0, row.published, secrets.token_urlsafe(16))
        return _Filling(form_id, version, key)

    def _evaluated(self, unit: Unit, house: str, filling: _Filling, answers: Mapping[str, str]) -> OpenForm:
        prepared = self._prepared(unit, filling)
        token = self._signer.dumps([filling.form_id, filling.version, filling.key])
        reword = partial(_filled, unit)
        texts = {name: reword(getattr(prepared.form, name)) for name in ("title", "intro", "send_label", "thanks")}
        outcome = prepared.evaluate(answers, unit.moment, shelf=_shelf(unit, prepared, answers))
        return OpenForm(house, prepared.form.model_copy(update=texts), str(token), outcome.reworded(reword))

    def take_file(self, workspace_slug: str, form_slug: str, question_id: str, name: str, data: bytes) -> str:
        """Take a file for a question; gives the token that is its answer. Raises ValueError with a sentence."""
        scope, _house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            row = self._form(unit, form_slug)
            prepared = self._prepared(unit, _Filling(row.id or 0, row.published, ""))
            question = prepared.form.question(question_id)
            field = unit.catalogue.by_id.get(question.field_id) if question else None
            if self._files is None or field is None or field.type.kind != "file":
                raise InvalidInput({question_id: "No file is asked for here."})
            return send_file(unit, self._files, field, name, data)

    def _prepared(self, unit: Unit, filling: _Filling) -> PreparedForm:
        """The compiled form, kept for as long as neither it nor the definitions change."""
        key = (unit.workspace_id, unit.catalogue.version, filling.form_id, filling.version)
        kept = self._kept.get(key)
        if kept is not None:
            return kept
        row = unit.session.get(FormVersion, (filling.form_id, filling.version))
        if row is None:
            raise NotFound("There is no such page.")
        catalogue = unit.catalogue
        form = Form.model_validate(row.document)
        made = prepare(
            form,
            catalogue.by_id,
            catalogue.lasting_world,
            catalogue.zone,
            catalogue.derivation,
            hidden_groups(catalogue),
        )
        while len(self._kept) >= _MOST_PREPARED:
            self._kept.pop(next(iter(self._kept)), None)
        self._kept[key] = made
        return made
