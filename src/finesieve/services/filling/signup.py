"""The public sign-up: opening the form, answering, sending, and confirming by mail."""

import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Final

from sqlalchemy import bindparam
from sqlmodel import col, select

from finesieve.core.commerce.port import PaymentRefused
from finesieve.core.errors import Conflict, InvalidInput, LinkEnded, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.by_itself import agreed
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.forms.fees import RENEW, fee_of, level_chosen, renews
from finesieve.core.forms.joining import Joining, joining_of
from finesieve.core.forms.outcome import Outcome, QuestionOutcome, Results
from finesieve.core.forms.rows import FormRow as AnswerRow
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import worded, wording_of
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.model.reader import reader_world
from finesieve.core.values import Value
from finesieve.services.commerce.carts import answers_with, cart_of, keep_answers, mark_ordered, ordered_with
from finesieve.services.commerce.charged import order_row, submission_of
from finesieve.services.commerce.checkouts import bill_or_why, cart_for_fee, evaluate_where_it_goes, still_to_choose
from finesieve.services.commerce.filled import filled_of
from finesieve.services.commerce.placing import note_submission, tell_placed
from finesieve.services.define.approval import approval_of
from finesieve.services.filling.approval import APPROVAL, tell_person
from finesieve.services.filling.confirming import (
    AddressView,
    Confirmation,
    ask_about_address,
    ask_about_answers,
    confirm_address,
    confirm_answers,
    read_address,
    read_answers,
)
from finesieve.services.filling.correcting import (
    begin_correction,
    correct_order,
    correction_of,
    key_of,
    why_not_corrected,
)
from finesieve.services.filling.decisions import let_wait, waits_for_approval
from finesieve.services.filling.destinations import Checkout, Received, Sending, receive
from finesieve.services.filling.kept import as_filled, as_sent
from finesieve.services.filling.levels import cards_of_levels, reads_levels, values_of_levels
from finesieve.services.filling.mapping import Sender, pass_on, sets_house_values
from finesieve.services.filling.open_form import Corrects, Filling, OpenForm, Sent, Thanks, Visit
from finesieve.services.filling.situation import (
    page_parameters,
    person_situation,
    sealed_results,
    shelf_for,
)
from finesieve.services.filling.texts import FormTexts, own_values
from finesieve.services.filling.wishes import ask_change, retire_record
from finesieve.services.kernel.arrivals import count_arrival
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Clock, Scope, Unit, public_scope
from finesieve.services.kernel.texts import refuse_texts
from finesieve.services.people.accounts import account_form, send_link
from finesieve.services.people.personal_links import LINK_SIGN, found_by, is_good, token_for, use_link_once
from finesieve.services.values.files import examine, send_file
from finesieve.services.values.known import known_by_email
from finesieve.services.values.sealing import seals
from finesieve.services.values.value_lines import fill_text
from finesieve.services.values.writing import taken_keys
from finesieve.standins.challenge import ChallengeService
from finesieve.store.connection.database import Store
from finesieve.store.definitions.state import mark_changed
from finesieve.store.files.keeping import FileStore
from finesieve.store.reading.submissions import form_by_slug
from finesieve.store.tables import Decision, FormRow, FormVersion, IssuedLink, OrderRow, Submission
from finesieve.store.values.submissions import insert_submission

__all__ = ["PublicForms"]

_MOST_PREPARED: Final = 128
_SENT_BEFORE: Final = select(Submission.id).where(
    col(Submission.form_id) == bindparam("form"), col(Submission.key) == bindparam("key")
)
_ENDED: Final = "It may have expired, been used already, or been withdrawn. Ask us for a new one."
_MOVE: Final = "move"
"""The address parameter by which somebody who is signed in is asked only what another level needs besides."""
_NO_PRICE: Final = "What this costs cannot be worked out at the moment. Please write to us."
_TEXTS: Final = ("title", "intro", "send_label", "thanks")
"""The texts of a form around its questions."""


@dataclass(frozen=True, slots=True)
class _Ready:
    """A form made ready to be filled in, and whether its answers set house values."""

    form: PreparedForm
    sets: bool


class PublicForms:
    """What the public pages may do. Nothing known of anybody is shown but to who follows a link in their mail."""

    def __init__(self, store: Store, clock: Clock, secret: str, files: FileStore | None = None) -> None:
        self.store = store
        self._files = files
        self._clock = clock
        self._secret = secret
        self._links = Links(secret)
        self._challenges = ChallengeService(secret)
        self._kept: dict[tuple[int, int, int, int], _Ready] = {}
        self._entered: dict[str, tuple[Scope, str]] = {}

    # Opening, answering, sending

    def open(self, workspace_slug: str, form_slug: str, visit: Visit | None = None) -> OpenForm:
        """Open the version in force. Raises NotFound where none is published."""
        visit = visit or Visit()
        scope, house = self._scope(workspace_slug)
        with scope.reading("public") as unit:
            row = self._any_form(unit, form_slug)
            begun_by = self._begun_by(unit, row, visit.me)
            if begun_by.order:
                return self._evaluated(unit, house, self._correcting(unit, begun_by), None, *visit.languages)
            self._form(unit, form_slug)
            if visit.person and not begun_by.person_id:
                moves = bool(visit.page.get(_MOVE) or visit.page.get(RENEW))
                begun_by = replace(
                    begun_by, person_id=visit.person, until=visit.until, signed_in=True, only_missing=moves
                )
            if row.channel == "account" and not begun_by.person_id:
                raise NotFound("There is no such page.")
            cart = visit.cart[:60]
            filling = replace(
                begun_by, version=row.published, key=secrets.token_urlsafe(16), page=visit.page, cart=cart
            )
            begun = answers_with(unit, cart) if visit.own else {}
            return self._evaluated(unit, house, filling, begun, *visit.languages)

    def opened_for(self, token: str) -> int:
        """Whom an open form was opened for, by its token; 0 for nobody known."""
        return self._told(token).person_id

    def begin_correction(self, scope: Scope, order_id: int) -> str:
        """See `correcting.begin_correction`."""
        return begin_correction(scope, self._secret, order_id)

    def _correcting(self, unit: Unit, filling: Filling) -> Filling:
        """The filling-in that corrects an order, under the version that it came by and the page that it came from."""
        row = order_row(unit, filling.order)
        sent = submission_of(unit, row)
        if sent is None or row.form_id != filling.form_id:
            raise NotFound("There is no such page.")
        return replace(filling, version=sent.version, key=key_of(row), page=filled_of(row).page)

    def answer(
        self,
        workspace_slug: str,
        form_slug: str,
        token: str,
        answers: Mapping[str, str],
        language: str = "",
        methods: Mapping[str, str] | None = None,
        person: int = 0,
    ) -> OpenForm:
        """Work out the form for the answers so far. Those of a checkout stay with its cart; else nothing is stored.

        `methods` are the ways of delivery and payment that have been chosen, `person` is who is signed in.
        """
        with_cart = bool(self._told(token).cart)
        scope, house = self._scope_to_write(workspace_slug) if with_cart else self._scope(workspace_slug)
        with scope.transaction("public") if with_cart else scope.reading("public") as unit:
            filling = self._filling(unit, form_slug, token, person)
            opened = self._evaluated(unit, house, filling, answers, language, methods=methods)
            if with_cart and opened.cart is not None:
                secret = {one.id for one in opened.outcome.walk() if one.field.type.kind == "secret"}
                kept = {name: text for name, text in answers.items() if name not in secret}
                keep_answers(unit, filling.cart, kept, opened.cart)
        return opened

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
        total: str = "",
        methods: Mapping[str, str] | None = None,
        person: int = 0,
        account: bool = False,
    ) -> OpenForm:
        """Send the form. `sent` tells whether it was taken; if not, the outcome says why.

        `asked` are the questions that the page showed: one that shows now and
        was not among them has to be asked first. `challenge` is a token and the
        answer to it; `came_from` the address it came from, which is counted; `total` what a checkout's page had shown:
        where that has changed, it is shown again first; `methods` are the ways of delivery and payment chosen there.
        `person` is who is signed in, `account` whether they wish to have an account.

        Sent twice, it counts once. An email that is known already changes
        nothing that is stored: the answers are held until the link in a message to
        that address is followed, or the staff decide. Raises TooOften.
        """
        scope, house = self._scope_to_write(workspace_slug)
        if came_from:
            count_arrival(scope, f"send:{form_slug}", came_from)
        by = self._told(token).by
        scope = replace(scope, actor=by) if by else scope
        sent = Sent(form_slug, token, answers, asked, language, challenge, total, methods, person, account)
        return self._sent(scope, house, sent)

    @seals
    def _sent(self, scope: Scope, house: str, sent: Sent) -> OpenForm:
        for last_try in (False, True):
            try:
                return self._send_once(scope, house, sent)
            except PaymentRefused as refused:
                return self._refused(scope, house, sent, str(refused))
            except Conflict:
                # Somebody sent the same key, or signed up with the same email, at the same moment;
                # the second look finds it.
                if last_try:
                    raise
        raise AssertionError("unreachable")

    def _refused(self, scope: Scope, house: str, sent: Sent, why: str) -> OpenForm:
        """The checkout again, with what the payment service said; nothing was ordered."""
        with scope.reading("public") as unit:
            filling = self._filling(unit, sent.form_slug, sent.token, sent.person)
            opened = self._evaluated(unit, house, filling, sent.answers, sent.language, methods=sent.methods)
            return replace(opened, unchosen={"payment" if opened.ways["payment"] else "totals": why})

    def _send_once(self, scope: Scope, house: str, sent: Sent) -> OpenForm:
        with scope.transaction("public") as unit:
            filling = self._filling(unit, sent.form_slug, sent.token, sent.person)
            opened = self._evaluated(
                unit, house, filling, sent.answers, sent.language, methods=sent.methods, texts=("title",)
            )
            answer = self._taken(unit, sent, filling, opened)
            # Mostly it is taken, and the page is not shown again: its texts, which may count people, are for the rest.
            return answer if answer.sent else self._with_texts(unit, filling, answer)

    def _taken(self, unit: Unit, sent: Sent, filling: Filling, opened: OpenForm) -> OpenForm:
        """Take what was sent, or say what is in the way."""
        done = replace(opened, sent=True)
        sent_before = unit.session.execute(_SENT_BEFORE, {"form": filling.form_id, "key": filling.key}).scalar()
        if sent_before is not None:
            receipt = self._links.give("sent", unit.moment.now, sent_before, False)
            return replace(done, receipt=receipt, order=self._order_of(unit, filling, opened))
        if opened.is_checkout and (ordered := ordered_with(unit, filling.cart)):
            # Sent from another page with the same cart: it is that order.
            return replace(done, order=self._links.give("order", unit.moment.now, ordered))
        unasked = frozenset(shown.id for shown in opened.outcome.showing) - sent.asked
        if unasked or opened.outcome.troubles or opened.unchosen:
            return replace(opened, unasked=unasked)
        if opened.sells and (opened.bill is None or sent.total != opened.total):
            return replace(opened, total_before="" if opened.bill is None else sent.total or "0")
        if filling.order:
            return self._corrected(unit, filling, opened)
        if opened.form.challenge and not self._challenges.passes(filling.key, *sent.challenge):
            return replace(opened, challenge_failed=bool(sent.challenge[1]))
        results = opened.outcome.results()
        values = results.of(PERSON)
        email = values.get("email")
        known = filling.person_id or (known_by_email(unit, email) if isinstance(email, str) else 0)
        more = _only_here(opened.outcome)
        # Whose address it is, is asked by mail; saying here that it is taken would tell strangers who is known.
        asked_of = {key: value for key, value in values.items() if key != "email"}
        taken = taken_keys(unit, known, asked_of, more)
        if taken:
            return replace(opened, outcome=worded(opened.outcome.taken(taken), opened.say))
        results = results.also(PERSON, _agreed(unit, filling, opened, values))
        receipt = self._store_answers(unit, filling, opened, sealed_results(unit, results), known, wished=sent.account)
        order = self._order_of(unit, filling, opened)
        if order and opened.bill is not None and not opened.bill.total:
            parts = self._links.read("order", unit.moment.now, order) or [0]
            tell_placed(unit, int(parts[0]), _order_link(unit, order))
        return replace(done, receipt=receipt, order=order)

    def _with_texts(self, unit: Unit, filling: Filling, opened: OpenForm) -> OpenForm:
        """The form with all its texts, which were left out as long as it might be taken."""
        theirs = None
        if filling.person_id:
            theirs = own_values(unit, person_situation(unit, filling.person_id, {}, None))
        texts = FormTexts(unit, self._ready(unit, filling).form, opened.say, theirs, opened.outcome.row)
        return replace(opened, form=opened.form.model_copy(update=texts.around(_TEXTS)))

    def _corrected(self, unit: Unit, filling: Filling, opened: OpenForm) -> OpenForm:
        """Correct an order by what was sent, where nobody else has meanwhile."""
        row = order_row(unit, filling.order, lock=True)
        assert opened.cart is not None and opened.bill is not None
        why = why_not_corrected(row, opened.cart, opened.bill)
        if key_of(row) != filling.key:
            why = "This order has been changed meanwhile. Look at it again before you correct it."
        if why:
            return replace(opened, unchosen={"totals": why})
        link = _order_link(unit, self._links.give("order", unit.moment.now, row.id))
        results = sealed_results(unit, opened.outcome.results())
        correct_order(unit, row, results, opened.outcome, (opened.cart, opened.bill), link)
        return replace(opened, sent=True)

    def _store_answers(
        self, unit: Unit, filling: Filling, opened: OpenForm, results: Results, known: int, *, wished: bool
    ) -> str:
        """Store what was sent; gives the token of the page after. `wished` is whether an account is.

        Raises Conflict where the link that led here was used meanwhile, and works only once.
        """
        if filling.link:
            use_link_once(unit, filling.link)
        answers = results.answers
        joining = joining_of(opened.form, opened.outcome)
        placing = None
        if opened.cart is not None and opened.bill is not None:
            placing = Checkout(filling.form_id, filling.key, opened.cart, opened.bill, opened.fee)
        received = receive(
            unit, Sending(opened.form, results, joining, filling.person_id, known, placing, opened.renews)
        )
        order_link = ""
        if received.order:
            order_link = _order_link(unit, self._links.give("order", unit.moment.now, received.order))
        if self._ready(unit, filling).sets:
            sender = Sender(received.person_id, bool(filling.person_id))
            pass_on(unit, filling.form_id, opened.form.title, answers, sender)
        submission = Submission(
            workspace_id=unit.workspace_id,
            form_id=filling.form_id,
            version=filling.version,
            key=filling.key,
            person_id=received.person_id,
            state=received.state,
            received_at=unit.moment.now,
            **as_sent(opened.outcome, results),
        )
        unit.session.flush()
        insert_submission(unit.session, submission)
        mark_changed(unit.session, unit.workspace_id, "submission", [])
        if received.order and opened.cart is not None:
            page, known = page_parameters(filling.page, opened.say.language), bool(filling.person_id)
            filled = as_filled(opened.outcome, results, opened.cart, page, known=known, added=received.records)
            note_submission(unit, received.order, submission.id or 0, filled)
            if opened.is_checkout:
                mark_ordered(unit, filling.cart, received.order)
        self._tell(unit, filling, opened, submission, received, order_link, joining, results)
        wanted = opened.form.account == "required" or (opened.form.account == "offered" and wished)
        if wanted and received.order and account_form(unit) is not None and not filling.signed_in:
            send_link(unit, received.person_id or known, opened.say)
        return self._links.give("sent", unit.moment.now, submission.id, bool(received.new_address))

    def _tell(
        self,
        unit: Unit,
        filling: Filling,
        opened: OpenForm,
        submission: Submission,
        received: Received,
        order_link: str,
        joining: Joining,
        results: Results,
    ) -> None:
        """Let wait what waits: for approval, for whose answers they are, for a new address; messages say so."""
        person_id, say = received.person_id, opened.say
        if received.waits:
            order = (received.order, order_link)
            let_wait(unit, person_id, filling.form_id, submission.id or 0, received.waits, say.language, order)
        if received.state == "held":
            email, passing = str(results.answers["email"]), results.passing
            ask_about_answers(unit, self._links, submission, opened.form, joining, passing, say, email, order_link)
        if received.new_address:
            ask_about_address(unit, self._links, filling.form_id, say, person_id, received.new_address)

    def _order_of(self, unit: Unit, filling: Filling, opened: OpenForm) -> str:
        """The link of the order that was placed, "" for none."""
        if not opened.is_checkout and not opened.levels:
            return ""
        query = select(OrderRow.id).where(col(OrderRow.form_id) == filling.form_id, col(OrderRow.key) == filling.key)
        order_id = unit.session.exec(query).first()
        return self._links.give("order", unit.moment.now, order_id) if order_id else ""

    def ask_more(self, scope: Scope, decision_id: int, text: str, once: str = "") -> None:
        """Ask somebody who waits for approval for more, as one of the staff: a message opens the form again for them.

        `once` is a key that the page was given: sent twice with it, it counts once. Raises NotFound, InvalidInput for
        no text, or one whose placeholders cannot work.
        """
        with scope.transaction("clerk") as unit:
            row = unit.session.get(Decision, decision_id, with_for_update=True)
            if row is None or row.kind != APPROVAL.key or row.state != "waiting":
                raise NotFound("There is nothing like this to decide.")
            if once and row.asked.get("once") == once:
                return
            if not text.strip() or len(text) > 2_000:
                raise InvalidInput({"text": "Write what you want to know, in at most 2,000 characters."})
            refuse_texts(unit, {"text": text}, reader_world(unit.catalogue))
            form = unit.session.get(FormRow, row.form_id)
            slug = unit.workspace.slug
            me = token_for(unit, row.form_id or 0, row.person_id)
            row.asked = {**row.asked, "once": once}
            unit.session.add(row)
            tell_person(unit, row, "asked", f"/join/{slug}/{form.slug if form else ''}?me={me}", text.strip())

    # On an account

    def ask_change(
        self, workspace_slug: str, form_slug: str, token: str, wish: tuple[str, str], person: int, language: str
    ) -> None:
        """See `wishes.ask_change`: for whoever is signed in and has the form open."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            filling, opened = self._account(unit, house, form_slug, token, person)
            ask_change(unit, filling.person_id, filling.form_id, opened.outcome, wish, language)

    def retire(self, workspace_slug: str, form_slug: str, token: str, section: str, record: int, person: int) -> None:
        """See `wishes.retire_record`."""
        scope, house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            _, opened = self._account(unit, house, form_slug, token, person)
            retire_record(unit, opened.outcome, section, record, f"form: {opened.form.title}")

    def _account(self, unit: Unit, house: str, form_slug: str, token: str, person: int) -> tuple[Filling, OpenForm]:
        """The open account of whoever is signed in. Raises NotFound for anybody else."""
        filling = self._filling(unit, form_slug, token, person)
        opened = self._evaluated(unit, house, filling, {})
        if opened.form.channel != "account" or not filling.person_id:
            raise NotFound("There is no such page.")
        return filling, opened

    # After sending

    def thank(self, workspace_slug: str, form_slug: str, sent: str = "", *languages: str) -> Thanks:
        """The page after sending; with the token that sending gave, its text knows what was sent."""
        scope, house = self._scope(workspace_slug)
        with scope.reading("public") as unit:
            form = self._form(unit, form_slug)
            parts = self._links.read("sent", unit.moment.now, sent)
            row = unit.session.get(Submission, parts[0]) if parts else None
            version = row.version if row is not None and row.form_id == form.id else form.published
            prepared = self._ready(unit, Filling(form.id or 0, version, "")).form
            document = prepared.form
            say = wording_of(document, *languages)
            known = _sent_values(unit, row) if row is not None and row.form_id == form.id else {}
            levels = values_of_levels(unit) if "level." in document.title + document.thanks else {}
            filled = FormTexts(unit, prepared, say, known, _Sent(known, levels))
            asks = bool(parts and parts[1])
            waits = row is not None and row.form_id == form.id and waits_for_approval(unit, row.id or 0)
            text = approval_of(unit).text("waiting") if waits else document.thanks
            text = fill_text(unit, say(text), values=known) if waits else filled(text)
            return Thanks(house, filled(document.title), text, say, asks, document.embed_on)

    # The links in letters

    def read_letter(self, workspace_slug: str, form_slug: str, letter: str, *languages: str) -> Confirmation:
        """See `confirming.read_answers`."""
        scope, _house = self._scope(workspace_slug)
        with scope.reading("public") as unit:
            return read_answers(unit, self._links, self._form(unit, form_slug), letter, *languages)

    def confirm(self, workspace_slug: str, form_slug: str, letter: str, *languages: str, mine: bool) -> Confirmation:
        """See `confirming.confirm_answers`."""
        scope, _house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            return confirm_answers(unit, self._links, self._form(unit, form_slug), letter, *languages, mine=mine)

    def read_address(self, workspace_slug: str, form_slug: str, letter: str) -> AddressView:
        """See `confirming.read_address`."""
        scope, _house = self._scope(workspace_slug)
        with scope.reading("public") as unit:
            return read_address(unit, self._links, self._form(unit, form_slug), letter)

    def confirm_address(self, workspace_slug: str, form_slug: str, letter: str, *, wanted: bool) -> AddressView:
        """See `confirming.confirm_address`."""
        scope, _house = self._scope(workspace_slug)
        with scope.transaction("public") as unit:
            return confirm_address(unit, self._links, self._form(unit, form_slug), letter, wanted=wanted)

    def _begun_by(self, unit: Unit, row: FormRow, me: str) -> Filling:
        """A filling-in as a link begins it: for whom and until when; of a signed one, which of the staff made it for
        themselves, and the order that they correct. Raises LinkEnded for a link that is none, or does not work any
        more."""
        new = Filling(row.id or 0, 0, "")
        if not me:
            return new
        if me.startswith(LINK_SIGN):
            link = found_by(unit, me)
            if link is None or link.form_id != row.id or not is_good(link, unit.moment.now):
                raise LinkEnded(_ENDED)
            end = int(link.ends_at.timestamp())
            return replace(new, person_id=link.person_id, until=end, link=link.id or 0, only_missing=link.only_missing)
        parts = self._links.read("me", unit.moment.now, me)
        if parts is None or parts[0] != row.id:
            raise LinkEnded(_ENDED)
        by, order = str(parts[2]) if len(parts) > 2 else "", int(parts[3]) if len(parts) > 3 else 0
        return replace(new, person_id=int(parts[1]), until=self._links.end_of(me), by=by, order=order)

    # What all of them need

    def _scope_to_write(self, workspace_slug: str) -> tuple[Scope, str]:
        """As `_scope`, without asking for a workspace that is known: the transaction that follows enters it anew.

        A workspace keeps its short name, and nobody else gets it.
        """
        if workspace_slug not in self._entered:
            scope, house = self._scope(workspace_slug)
            if len(self._entered) >= _MOST_PREPARED:
                self._entered.clear()
            self._entered[workspace_slug] = (scope, house)
        return self._entered[workspace_slug]

    def _scope(self, workspace_slug: str) -> tuple[Scope, str]:
        return public_scope(self.store, workspace_slug, self._clock)

    def _form(self, unit: Unit, form_slug: str) -> FormRow:
        row = self._any_form(unit, form_slug)
        if not row.published:
            raise NotFound("There is no such page.")
        return row

    def _any_form(self, unit: Unit, form_slug: str) -> FormRow:
        row = form_by_slug(unit.session, form_slug)
        if row is None:
            raise NotFound("There is no such page.")
        return row

    def _told(self, token: str) -> Filling:
        """What a token says, before anything is asked of the database; nothing for one that is not ours."""
        parts = self._links.read("form", self._clock(), token, ended=True)
        return Filling(*parts) if parts is not None else Filling(0, 0, "")

    def _filling(self, unit: Unit, form_slug: str, token: str, person: int = 0) -> Filling:
        """What the token says, see `_filled`. Raises NotFound for the account of nobody who is signed in."""
        row = self._any_form(unit, form_slug)
        filling = self._filled(unit, row, token, person)
        if row.channel == "account" and not filling.person_id:
            raise NotFound("You are not signed in any more. Sign in, then change it again.")
        return filling

    def _filled(self, unit: Unit, row: FormRow, token: str, person: int) -> Filling:
        """What the token says. One that is not ours begins a new filling-in, keeping the answers.

        So does one that has run out; but its key stays, so that what is sent twice with it counts once. One of whoever
        was signed in knows nobody any more, unless `person` is, again.
        """
        now = unit.moment.now
        parts = self._links.read("form", now, token, ended=True)
        filling = Filling(*parts) if parts is not None and parts[0] == row.id else None
        if filling is not None and filling.signed_in and filling.person_id != person:
            filling = replace(filling, person_id=0, until=0, signed_in=False)
        if filling is not None and filling.order and self._links.read("form", now, token) is not None:
            return filling
        if not row.published or (filling is not None and filling.order):
            raise NotFound("There is no such page.")
        if filling is None:
            return Filling(row.id or 0, row.published, secrets.token_urlsafe(16))
        gone = filling.link and not is_good(unit.session.get(IssuedLink, filling.link), now)
        if gone or self._links.read("form", now, token) is None:
            known = filling.person_id if filling.signed_in else 0
            return Filling(
                row.id or 0, row.published, filling.key, person_id=known, cart=filling.cart, signed_in=bool(known)
            )
        return filling

    def _evaluated(
        self,
        unit: Unit,
        house: str,
        filling: Filling,
        answers: Mapping[str, str] | None,
        *languages: str,
        methods: Mapping[str, str] | None = None,
        texts: Sequence[str] = _TEXTS,
    ) -> OpenForm:
        """The form for these answers, None for what an order to be corrected begins with. `texts` names those around
        the questions that are filled in."""
        prepared = self._ready(unit, filling).form
        form = prepared.form
        say = wording_of(form, *languages)
        page = page_parameters(filling.page, say.language)
        shelf = shelf_for(unit, form, answers or {}, filling.form_id)
        situation = (
            person_situation(unit, filling.person_id, page, shelf)
            if filling.person_id
            else Situation(page=page, shelf=shelf)
        )
        of_levels = values_of_levels(unit) if reads_levels(form) else {}
        situation = replace(situation, levels=of_levels) if of_levels else situation
        if filling.only_missing:
            situation = replace(situation, only_missing=True)
        corrects = None
        if filling.order:
            correction = correction_of(unit, filling.order, form, situation, methods)
            situation, row = correction.situation, correction.row
            corrects = Corrects(row.id or 0, row.number, row.total)
            answers = correction.typed if answers is None else answers
        elif form.channel == "checkout" and unit.catalogue.shop is not None:
            situation = replace(situation, cart=cart_of(unit, filling.cart, methods=methods))
        answers = answers or {}
        outcome, cart = evaluate_where_it_goes(unit, prepared, answers, unit.moment, situation)
        held = situation.stored.get("level")
        renewing = renews(unit.catalogue, level_chosen(outcome), held, filling.page)
        fee = fee_of(prepared.fees, outcome, held, unit.moment, renewing=renewing) if not filling.order else None
        bill, wrong = bill_or_why(cart, outcome)
        if fee is not None:
            cart = cart_for_fee(unit, cart, fee, outcome, methods or {}, say)
            bill, wrong = bill_or_why(cart, outcome) if cart is not None else (None, _NO_PRICE)
        theirs = own_values(unit, situation) if filling.person_id else None
        filled = FormTexts(unit, prepared, say, theirs, outcome.row)
        token = self._links.give(
            "form",
            unit.moment.now,
            filling.form_id,
            filling.version,
            filling.key,
            dict(filling.page),
            filling.person_id,
            filling.until,
            filling.cart,
            filling.by,
            filling.order,
            filling.signed_in,
            filling.link,
            filling.only_missing,
            until=filling.until,
        )
        return OpenForm(
            house,
            form.model_copy(update=filled.around(texts)),
            token,
            worded(outcome, filled),
            say,
            challenge=self._challenges.pose(filling.key) if form.challenge and not filling.order else None,
            known=bool(filling.person_id),
            manner=unit.manner,
            given=_parts_of(form, answers),
            cart=cart,
            bill=bill,
            cart_problem=wrong if form.channel == "checkout" or fee is not None else "",
            fee=fee,
            renews=renewing,
            unchosen=still_to_choose(cart, bill),
            corrects=corrects,
            person_id=filling.person_id,
            levels=cards_of_levels(unit, of_levels) if of_levels else {},
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
            prepared = self._ready(unit, Filling(row.id or 0, row.published, "")).form
            question = prepared.form.question(question_id.partition(".")[0])
            known = unit.catalogue.by_id.get(question.field_id) if question else None
            if self._files is None or known is None or known.type.kind != "file":
                raise InvalidInput({question_id: "No file is asked for here."})
        return send_file(scope, self._files, examine(known, name, data), row.id or 0)

    def _ready(self, unit: Unit, filling: Filling) -> "_Ready":
        """The compiled form, kept for as long as neither it nor the definitions change."""
        key = (unit.workspace_id, unit.catalogue.version, filling.form_id, filling.version)
        kept = self._kept.get(key)
        if kept is not None:
            return kept
        row = unit.session.get(FormVersion, (filling.form_id, filling.version))
        if row is None:
            raise NotFound("There is no such page.")
        prepared = prepare(Form.model_validate(row.document), unit.catalogue, lasting=True)
        made = _Ready(prepared, sets_house_values(unit, filling.form_id))
        while len(self._kept) >= _MOST_PREPARED:
            self._kept.pop(next(iter(self._kept)), None)
        self._kept[key] = made
        return made


def _order_link(unit: Unit, token: str) -> str:
    slug = unit.workspace.slug
    return f"/shop/{slug}/order/{token}"


class _Sent(Mapping[str, Value]):
    """What was sent, as the text that thanks for it reads it after `form.`, fields of the level chosen among it."""

    def __init__(self, sent: Mapping[str, Value], levels: Mapping[str, Mapping[str, Value]]) -> None:
        self._sent, self._level = sent, levels.get(str(sent.get("level") or ""), {})

    def __getitem__(self, name: str) -> Value:
        prefix, _, key = name.partition(".")
        if prefix != "form":
            return None
        return self._level.get(key.removeprefix("level.")) if key.startswith("level.") else self._sent.get(key)

    def __iter__(self) -> Iterator[str]:
        return iter(self._sent)

    def __len__(self) -> int:
        return len(self._sent)


def _sent_values(unit: Unit, row: Submission) -> dict[str, Value]:
    """What was sent, as far as it still fits, for the text that thanks for it; of a secret nothing."""
    found: dict[str, Value] = {}
    for key, data in row.answers.items():
        known = unit.catalogue.by_id.get(LEVEL_QUESTION) if key == "level" else unit.catalogue.by_key.get(key)
        if known is not None and known.type.kind != "secret":
            with suppress(ValueError):
                found[key] = known.from_kept(data)
    return found


def _agreed(unit: Unit, filling: Filling, opened: OpenForm, values: Mapping[str, Value]) -> dict[str, Value]:
    row = opened.outcome.row
    assert isinstance(row, AnswerRow)
    return agreed(unit.catalogue, unit.moment, opened.form, filling.version, opened.say, values, row.before)


def _parts_of(form: Form, answers: Mapping[str, str]) -> dict[str, str]:
    """The answers that are to questions of the form, or name the fillings of a section."""
    parts = {one.id for section in form.sections for one in (section, *section.items)}
    return {name: value for name, value in answers.items() if name.partition(".")[0] in parts}


def _only_here(outcome: Outcome) -> frozenset[str]:
    """The keys of fields that a check of this form, and not the field itself, wants unique."""

    def wants(one: QuestionOutcome) -> bool:
        return one.shows and any(check.check.kind == "unique" for check in one.checks)

    return frozenset(one.field.key for one in outcome.walk() if wants(one))
