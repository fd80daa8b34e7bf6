"""What happens in conversations by itself: a wait is over, a silence has lasted long enough."""

from typing import Final

from sqlmodel import col, select

from finesieve.core.chat.journal import read_state
from finesieve.core.chat.machine import close
from finesieve.services.chat.consents import withdraw_by_number
from finesieve.services.chat.holding import come_of_wait, due_at, scripts_of, take_turn, world_of
from finesieve.services.kernel.scope import Scope
from finesieve.store.tables import Conversation

__all__ = ["let_time_pass"]

_MOST: Final = 200
"""So many in one minute; the others come in the next."""


def let_time_pass(scope: Scope) -> int:
    """Let conversations go on, or end, that are due; each in a transaction of its own. Gives how many.

    Run twice, it does no harm: what is done is due no more.
    """
    with scope.reading("owner") as unit:
        query = select(Conversation.id).where(col(Conversation.due_at) <= unit.moment.now)
        due = unit.session.exec(query.order_by(col(Conversation.due_at)).limit(_MOST)).all()
    return sum(_go_on(scope, one or 0) for one in due)


def _go_on(scope: Scope, conversation_id: int) -> int:
    with scope.transaction("owner") as unit:
        row = unit.session.get(Conversation, conversation_id, with_for_update={"skip_locked": True})
        if row is None or row.due_at is None or row.due_at > unit.moment.now:
            return 0
        scripts, now = scripts_of(unit, row), unit.moment.now
        if row.mode == "stopped":
            withdraw_by_number(unit, row, scripts[read_state(row.state).script].script.title)
            row.due_at = None
            unit.session.add(row)
            return 1
        if come_of_wait(unit, row, scripts):
            return 1
        state = read_state(row.state)
        row.due_at = due_at(scripts, state, row.last_at, now)
        if row.due_at is None or row.due_at > now:
            unit.session.add(row)
            return 0
        world = world_of(unit, row.person_id, confirmed=row.confirmed)
        take_turn(unit, row, scripts, close(scripts, world, state))
        return 1
