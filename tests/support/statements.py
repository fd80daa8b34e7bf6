"""What a piece of work asks of the database: its statements, and how many transactions it took."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from sqlalchemy import Engine, event

__all__ = ["Asked", "asked_of"]


@dataclass
class Asked:
    """Statements as they were sent, setting up the transaction among them, and how many transactions there were."""

    statements: list[str] = field(default_factory=list)
    transactions: int = 0


@contextmanager
def asked_of(*engines: Engine) -> Iterator[Asked]:
    """Count what the block asks of these engines."""
    asked = Asked()

    def count(*args: object) -> None:
        asked.statements.append(str(args[2]))

    def begin(*_args: object) -> None:
        asked.transactions += 1

    for engine in engines:
        event.listen(engine, "before_cursor_execute", count)
        event.listen(engine, "begin", begin)
    try:
        yield asked
    finally:
        for engine in engines:
            event.remove(engine, "before_cursor_execute", count)
            event.remove(engine, "begin", begin)
