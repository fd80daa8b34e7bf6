"""What the office and the front share: templates, security, reading requests, error pages."""

from typing import ClassVar

from starlette.convertors import IntegerConvertor, register_url_convertor


class _Id(IntegerConvertor):
    """A number in an address, of at most fifteen digits; with more there is no such page."""

    regex: ClassVar[str] = "[0-9]{1,15}"


# Here, because a route reads its address when it is made, and every module of routes imports from this package.
register_url_convertor("int", _Id())
