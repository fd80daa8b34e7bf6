"""Where a request came from."""

from functools import lru_cache
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Final

from fastapi import Request

from finesieve.web.site import site_of

__all__ = ["address_of"]

_Networks = tuple[IPv4Network | IPv6Network, ...]
_SIX_BITS: Final = 64
"""Of an IPv6 address, what belongs to one household or host."""


@lru_cache(maxsize=8)
def _networks(setting: str) -> _Networks:
    return tuple(ip_network(part.strip(), strict=False) for part in setting.split(",") if part.strip())


def _read(text: str) -> IPv4Address | IPv6Address | None:
    try:
        return ip_address(text.strip())
    except ValueError:
        return None


def address_of(request: Request) -> str:
    """The address that a request is counted under.

    `X-Forwarded-For` is believed as far as machines named in the settings have written it, and no further.
    """
    trusted = _networks(site_of(request).settings.proxies)
    here = request.client.host if request.client else ""
    said = [part for line in request.headers.getlist("x-forwarded-for") for part in line.split(",")][-20:]
    while said and (known := _read(here)) is not None and any(known in network for network in trusted):
        here = said.pop().strip()
    known = _read(here)
    if isinstance(known, IPv6Address):
        return str(ip_network((known, _SIX_BITS), strict=False))
    return str(known) if known is not None else "unknown"
