"""What sending a form stores besides its answers: moments, the language, and what words a consent was given to."""

from collections.abc import Mapping
from datetime import datetime

from finesieve.core.fields.built_in import CONSENTS, Consent
from finesieve.core.forms.definition import Form
from finesieve.core.forms.wording import Wording
from finesieve.core.language.program import Moment
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import Value, tidy_text

__all__ = ["agreed", "consent_follows", "joined", "joining_days", "level_ends", "seen"]


def seen(catalogue: Catalogue, moment: Moment, stored: Mapping[str, Value], *, new: bool) -> dict[str, Value]:
    """What is kept of somebody who sends something, to the minute; of facts that the house has taken into use."""
    now = moment.now.replace(second=0, microsecond=0)
    wanted: dict[str, Value] = {"last_seen": now}
    if stored.get("first_seen") is None:
        wanted["first_seen"] = now
    if new:
        wanted["signed_up_on"] = moment.today
    return {key: value for key, value in wanted.items() if _in_use(catalogue, key)}


def agreed(
    catalogue: Catalogue,
    moment: Moment,
    form: Form,
    version: int,
    say: Wording,
    answered: Mapping[str, Value],
    stored: Mapping[str, Value],
) -> dict[str, Value]:
    """What follows from the answers: the moment and the words of each consent, and the language that was spoken."""
    found: dict[str, Value] = {}
    for consent in CONSENTS:
        if consent.given in answered and _in_use(catalogue, consent.given):
            given = answered[consent.given]
            text = _words(catalogue, consent, form, version, say) if given else None
            if given != stored.get(consent.given) or text != stored.get(consent.text):
                found |= consent_follows(catalogue, consent, moment.now, text)
    language = catalogue.by_key.get("preferred_language")
    if language is not None and language.built_in and "preferred_language" not in answered:
        offered = {option.stored_value for option in language.offered}
        if stored.get("preferred_language") is None and say.language in offered:
            found["preferred_language"] = say.language
    return found


def consent_follows(catalogue: Catalogue, consent: Consent, at: datetime, text: Value = None) -> dict[str, Value]:
    """The moment when a consent was given or taken back, and the words agreed to."""
    return {key: value for key, value in ((consent.at, at), (consent.text, text)) if _in_use(catalogue, key)}


def joined(catalogue: Catalogue, moment: Moment, was: Value, now: Value) -> dict[str, Value]:
    """The days that are kept of joining lists, where the lists that somebody is on change from `was` to `now`."""
    before, after = set(_keys(was)), set(_keys(now))
    days = joining_days(catalogue)
    return {key: moment.today if name in after else None for key, name in days.items() if name in before ^ after}


def level_ends(catalogue: Catalogue, moment: Moment, level: Value) -> dict[str, Value]:
    """The last day of a level that somebody gets today, blank without one; where the house has taken that into use."""
    lasts = next((one.lasts for one in catalogue.levels if one.key == level), None)
    return {LEVEL_ENDS: lasts.last_day(moment.today) if lasts else None} if _in_use(catalogue, LEVEL_ENDS) else {}


def joining_days(catalogue: Catalogue) -> dict[str, str]:
    """The lists whose day of joining is kept, by the key of the field that keeps it."""
    names = {one.id: one.key for one in catalogue.lists}
    fields = (field for field in catalogue.stored if field.by_itself and field.settings.joined_list in names)
    return {field.key: names[field.settings.joined_list or 0] for field in fields}


def _keys(value: Value) -> tuple[str, ...]:
    return tuple(str(one) for one in value) if isinstance(value, tuple | list) else ()


def _in_use(catalogue: Catalogue, key: str) -> bool:
    known = catalogue.by_key.get(key)
    return known is not None and known.built_in


def _words(catalogue: Catalogue, consent: Consent, form: Form, version: int, say: Wording) -> Value:
    """What the page said beside the tick, and where: `I want news by email. (Join us, version 3)`."""
    known = catalogue.by_key[consent.given]
    asked = next((one for one in form.questions if one.field_id == known.id), None)
    label = (asked.label if asked else "") or known.label
    help_ = (asked.help if asked else "") or known.help
    words = "\n".join(say(text) for text in (label, help_) if text)
    return tidy_text(f"{words}\n({say(form.title)}, version {version})")
