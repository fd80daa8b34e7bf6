"""How long texts may be: one table for pages, files and keys, so that whatever is saved can be exported and loaded."""

from typing import Final

__all__ = [
    "DESCRIPTION",
    "EXPRESSION",
    "HELP",
    "KEY",
    "LABEL",
    "NAME",
    "NOUN",
    "OPTION",
    "SLUG",
    "SYMBOL",
    "TEXT",
    "TITLE",
    "UNIT",
]

KEY: Final = 60
"""By which expressions call a field, a record type, a list, a level."""
SLUG: Final = 60
"""The part of an address that names a form or a workspace."""
LABEL: Final = 120
"""Of a field, a segment, a surcharge."""
NAME: Final = 80
"""Of a group, a list, a level, a list of options, a check, a case, a workspace."""
NOUN: Final = 60
"""What a record is called, one or several; what the two sides of a link call each other."""
SYMBOL: Final = 4
UNIT: Final = 20
TITLE: Final = 200
"""Of a form, a section, a question, a workspace's setup."""
DESCRIPTION: Final = 500
"""One sentence on what something is for."""
HELP: Final = 500
OPTION: Final = 200
"""The label of an option, and its stored value."""
TEXT: Final = 2_000
"""What people read on a form."""
EXPRESSION: Final = 4_000
