"""What reading and showing a value has to know of its field."""

from typing import Protocol

from finesieve.core.fields.manner import Manner
from finesieve.core.fields.options import Option
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.values import StoredFile

__all__ = ["Asked", "Files"]


class Asked(Protocol):
    """A field, as far as its type asks about it."""

    @property
    def options(self) -> tuple[Option, ...]: ...

    @property
    def settings(self) -> FieldSettings: ...

    @property
    def manner(self) -> Manner: ...

    @property
    def unit(self) -> str: ...


class Files(Protocol):
    """Files that have been sent and wait to be kept; found by the token of their upload."""

    def sent(self, token: str) -> StoredFile | None: ...
