"""Which sites may show a sign-up within pages of their own: a change of its draft."""

import re
from typing import Any

from finesieve.core.errors import InvalidInput
from finesieve.core.forms.definition import EMBEDDER, Form
from finesieve.services.forms.drafting import change_draft
from finesieve.services.kernel.scope import Scope, Unit

__all__ = ["embed_on"]

_MOST = 20


def embed_on(scope: Scope, form_id: int, revision: int, typed: str) -> int:
    """Name the sites, one a line, as `https://example.org`; gives the id for undoing. Raises InvalidInput (`sites`)."""

    def change(_unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        sites = [line.strip().rstrip("/") for line in typed.split("\n") if line.strip()]
        wrong = next((one for one in sites if not re.fullmatch(EMBEDDER, one)), "")
        if wrong:
            raise InvalidInput({"sites": f"“{wrong[:80]}” is no site; write it as https://example.org, one a line."})
        if len(sites) > _MOST:
            raise InvalidInput({"sites": f"At most {_MOST} sites."})
        if form.channel != "sign-up" and sites:
            raise InvalidInput({"sites": "Only a sign-up can stand within pages of other sites."})
        return f"Changed which sites may embed {form.title}", {"embed_on": tuple(dict.fromkeys(sites))}

    return change_draft(scope, form_id, revision, change, "")
