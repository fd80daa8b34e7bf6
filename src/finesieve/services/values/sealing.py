"""Secrets become hashes here and nowhere else, and in no transaction: hashing is slow on purpose."""

import functools
from collections.abc import Callable, Mapping
from contextvars import ContextVar
from typing import Final, ParamSpec, TypeVar

from pwdlib.hashers.argon2 import Argon2Hasher

from finesieve.core.values import Secret, Value
from finesieve.services.kernel.hashing import Hasher
from finesieve.services.kernel.scope import Unit

__all__ = ["sealed", "seals"]

_P = ParamSpec("_P")
_R = TypeVar("_R")
_hasher: Final = Hasher(Argon2Hasher(time_cost=2, memory_cost=19_456, parallelism=1))
_hashes: ContextVar[dict[str, str] | None] = ContextVar("hashes of secrets", default=None)


class _Unsealed(Exception):
    """Secrets met in a transaction whose hashes are not known yet."""

    def __init__(self, texts: list[str]) -> None:
        self.texts = texts


def sealed(unit: Unit, about: str, values: Mapping[str, Value]) -> dict[str, Value]:
    """The values, with a hash for each that is to be kept in a field for secrets; what is a hash already stays one."""
    secret = {key for key, field in unit.catalogue.keys_of(about).items() if field.type.kind == "secret"}
    open_ = {
        key: str(getattr(value, "text", value)) for key, value in values.items() if key in secret and _is_open(value)
    }
    if not open_:
        return dict(values)
    known = _hashes.get()
    if known is None:  # nobody waits for this: a task, the demo
        known = {text: _hasher.hash(text) for text in open_.values()}
    missing = [text for text in open_.values() if text not in known]
    if missing:
        raise _Unsealed(missing)
    return {**values, **{key: Secret(known[text], hashed=True) for key, text in open_.items()}}


def _is_open(value: Value) -> bool:
    return value is not None and not (isinstance(value, Secret) and value.hashed)


def seals(command: Callable[_P, _R]) -> Callable[_P, _R]:
    """A command of one transaction that may meet secrets: it is broken off, they are hashed, it begins again."""

    @functools.wraps(command)
    def run(*args: _P.args, **kwargs: _P.kwargs) -> _R:
        known: dict[str, str] = {}
        token = _hashes.set(known)
        try:
            while True:
                try:
                    return command(*args, **kwargs)
                except _Unsealed as met:
                    known.update({text: _hasher.hash(text) for text in met.texts})
        finally:
            _hashes.reset(token)

    return run
