"""The facts that come with the product, and what they do that a hand-made twin would not."""

import re
from dataclasses import dataclass, field
from typing import Final

from finesieve.core.fields.options import Option
from finesieve.core.fields.settings import FieldSettings

__all__ = [
    "ADDRESSES",
    "ALWAYS",
    "BUILT_IN",
    "BUILT_IN_BY_KEY",
    "CONSENTS",
    "KEPT_BY_ITSELF",
    "PARTS",
    "BuiltIn",
    "Consent",
    "Part",
    "address_keys",
    "twin_of",
]


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """One fact; `behaviour` is what a hand-made twin would lack, `alike` what else people call it.

    `by_itself` is kept by the product when something happens, and no form asks it.
    """

    key: str
    label: str
    type_key: str
    behaviour: str
    alike: tuple[str, ...] = ()
    help: str = ""
    required: bool = False
    by_itself: bool = False
    options: tuple[Option, ...] = ()
    settings: FieldSettings = field(default_factory=FieldSettings)

    @property
    def objection(self) -> str:
        """What to say to who would make it again by hand."""
        return f"“{self.label}” is built in. {self.behaviour} A field of your own would lack that."


@dataclass(frozen=True, slots=True)
class Part:
    """Built-in facts that are taken into use together, in a group of this name."""

    key: str
    name: str
    group: str
    what: str
    fields: tuple[BuiltIn, ...]


_WHO: Final = "Who they are"
ALWAYS: Final = "basics"
"""The part that every workspace has from the start."""

_BASICS: Final = (
    BuiltIn(
        "email",
        "Email",
        "email",
        "Messages go there, each person has their own, and it tells who is who.",
        ("email address", "mail", "mail address", "contact email", "email contact"),
        required=True,
    ),
    BuiltIn(
        "first_name",
        "First name",
        "short_text",
        "Messages greet people by it, and the list and the search know it.",
        ("forename", "given name", "name", "full name", "christian name", "firstname", "name first"),
    ),
    BuiltIn(
        "last_name",
        "Last name",
        "short_text",
        "The list of people sorts by it, and the search knows it.",
        ("surname", "family name", "lastname", "name last"),
    ),
    BuiltIn(
        "phone",
        "Phone",
        "phone",
        "Numbers are checked, kept in one form, and text messages go there.",
        (
            "phone number",
            "telephone",
            "mobile",
            "mobile number",
            "telephone number",
            "mobile phone",
            "cell phone",
            "tel",
            "contact number",
        ),
    ),
    BuiltIn(
        "signed_up_on",
        "Signed up on",
        "date",
        "It is set by itself on the day of the first form.",
        (
            "sign up date",
            "signup date",
            "joined on",
            "date joined",
            "joining date",
            "member since",
            "registration date",
            "registered on",
            "joined",
        ),
        "The day they first sent a form; set by the house.",
        by_itself=True,
    ),
)

_WORK: Final = (
    BuiltIn(
        "company",
        "Company",
        "short_text",
        "Addresses print it above the street, and the search knows it.",
        ("company name", "organisation", "organization", "firm", "business", "business name", "employer"),
        settings=FieldSettings(searchable=True),
    ),
    BuiltIn(
        "role",
        "Role",
        "choice",
        "Rules and prices tell trade from private customers by it; everybody has one role at most.",
        ("customer type", "kind of customer", "customer role", "customer group", "type of customer", "account type"),
        "What kind of customer they are.",
        options=(
            Option("Private", "private"),
            Option("Trade", "trade"),
            Option("School", "school"),
            Option("Community group", "community"),
        ),
    ),
)

_LANGUAGE: Final = (
    BuiltIn(
        "preferred_language",
        "Preferred language",
        "choice",
        "Messages go out in it where the form knows it, and a form sent in one of its languages sets it.",
        ("language", "spoken language", "mother tongue", "language spoken", "correspondence language"),
        options=(Option("English", "en"), Option("German", "de")),
    ),
)

_SEEN: Final = (
    BuiltIn(
        "first_seen",
        "First seen",
        "datetime",
        "It is set by itself, to the minute.",
        ("first contact", "first visit", "created at", "created on"),
        "When they first sent something; set by the house.",
        by_itself=True,
    ),
    BuiltIn(
        "last_seen",
        "Last seen",
        "datetime",
        "It is set by itself whenever they send something.",
        ("last contact", "last visit", "last active", "last activity"),
        "When they last sent something; set by the house.",
        by_itself=True,
    ),
)

_MEMBERSHIP: Final = (
    BuiltIn(
        "level_ends",
        "Level ends on",
        "date",
        "It is set by itself when the level changes, and the level ends after that day.",
        ("membership ends", "membership end", "membership end date", "member until", "level until", "membership until"),
        "The last day of the level that they hold; set by the house, and extended by hand.",
        by_itself=True,
    ),
)


def _address(kind: str, label: str) -> tuple[BuiltIn, ...]:
    country = f"{kind}_country"
    checked = "The address is checked and printed as its country writes it."
    plain = kind == "billing"  # a bare “Street” means the address that everybody has

    def alike(*words: str) -> tuple[str, ...]:
        return (*words, *(f"{kind} {word}" for word in words)) if plain else tuple(f"{kind} {word}" for word in words)

    return (
        BuiltIn(
            f"{kind}_street",
            f"{label} street",
            "short_text",
            checked,
            alike("street", "street address", "address", "address line 1", "house number", "street and number"),
        ),
        BuiltIn(
            f"{kind}_extra",
            f"{label} address, second line",
            "short_text",
            checked,
            alike("address line 2", "second line", "flat", "building", "apartment"),
        ),
        BuiltIn(f"{kind}_town", f"{label} town", "short_text", checked, alike("town", "city", "place", "village")),
        BuiltIn(
            f"{kind}_region",
            f"{label} region",
            "region",
            f"The regions of the chosen country are offered. {checked}",
            alike("region", "county", "state", "province"),
            settings=FieldSettings(country_from=country),
        ),
        BuiltIn(
            f"{kind}_postcode",
            f"{label} postcode",
            "postcode",
            f"It is checked against the chosen country. {checked}",
            alike("postcode", "post code", "postal code", "zip", "zip code"),
            settings=FieldSettings(country_from=country),
        ),
        BuiltIn(
            country,
            f"{label} country",
            "country",
            f"Regions and postcodes follow it. {checked}",
            alike("country", "nation"),
        ),
    )


@dataclass(frozen=True, slots=True)
class Consent:
    """A consent by its channel: the keys of the consent, of its moment and of the text that was agreed to."""

    channel: str
    given: str
    at: str
    text: str


def _consent(channel: str, label: str, *alike: str) -> tuple[BuiltIn, ...]:
    key, words = f"consent_{channel}", f"Consent to {label}"
    return (
        BuiltIn(
            key,
            words,
            "agreement",
            "The moment and the text that was agreed to are kept with it.",
            alike,
            "You can take it back at any time.",
        ),
        BuiltIn(
            f"{key}_at",
            f"{words}, since",
            "datetime",
            "It is set by itself when the consent changes.",
            help="When it was given or taken back; set by the house.",
            by_itself=True,
        ),
        BuiltIn(
            f"{key}_text",
            f"{words}, text",
            "long_text",
            "It is set by itself to the words of the form.",
            help="The words that were agreed to, with the form and its version; set by the house.",
            by_itself=True,
        ),
    )


PARTS: Final = (
    Part(ALWAYS, "Names and how to reach them", _WHO, "", _BASICS),
    Part("work", "Company and role", _WHO, "For businesses that sell to trade customers, schools or groups.", _WORK),
    Part("billing", "Billing address", "Billing address", "Where invoices go.", _address("billing", "Billing")),
    Part("delivery", "Delivery address", "Delivery address", "Where parcels go.", _address("delivery", "Delivery")),
    Part("language", "Preferred language", _WHO, "For houses that write in more than one language.", _LANGUAGE),
    Part("membership", "End of a membership level", "Membership", "For levels that are held for a time.", _MEMBERSHIP),
    Part("seen", "First and last seen", _WHO, "When somebody first and last sent something.", _SEEN),
    Part(
        "consent_email",
        "Consent to email",
        "Consent",
        "Whether they want news by email, since when, and to what words they agreed.",
        _consent(
            "email",
            "email",
            "consent to newsletter",
            "newsletter",
            "newsletter consent",
            "email consent",
            "wants newsletter",
            "marketing consent",
            "email opt in",
            "opt in",
            "subscribe",
            "subscribed",
        ),
    ),
    Part(
        "consent_phone",
        "Consent to calls and texts",
        "Consent",
        "The same for calls and text messages.",
        _consent(
            "phone",
            "calls and texts",
            "phone consent",
            "consent to calls",
            "consent to text messages",
            "sms consent",
            "text message consent",
        ),
    ),
    Part(
        "consent_post",
        "Consent to post",
        "Consent",
        "The same for letters and parcels of samples.",
        _consent("post", "post", "post consent", "postal consent", "consent to letters"),
    ),
)
BUILT_IN: Final = tuple(known for part in PARTS for known in part.fields)
BUILT_IN_BY_KEY: Final = {known.key: known for known in BUILT_IN}
KEPT_BY_ITSELF: Final = frozenset(known.key for known in BUILT_IN if known.by_itself)
"""The keys of those that no form asks."""
CONSENTS: Final = tuple(
    Consent(channel, f"consent_{channel}", f"consent_{channel}_at", f"consent_{channel}_text")
    for channel in ("email", "phone", "post")
)
ADDRESSES: Final = ("billing", "delivery")
_LINES: Final = ("street", "extra", "town", "region", "postcode", "country")


def address_keys(kind: str) -> dict[str, str]:
    """The keys of an address, by what each is: street, extra, town, region, postcode, country."""
    return {line: f"{kind}_{line}" for line in _LINES}


def twin_of(label: str) -> tuple[BuiltIn, Part] | None:
    """The built-in field that a label seems to repeat, in any spelling and order of words, and its part; or None."""
    return _TWINS.get(_words_of(label))


_EMPTY: Final = frozenset(("your", "the", "my", "of", "on", "a", "for", "customer", "member", "person", "no", "nr"))


def _words_of(label: str) -> frozenset[str]:
    """The words that say something, whatever their order: “E-mail address” and “Address (email)” are the same."""
    plain = re.sub(r"\be[\s-]mail\b", "email", label.lower())
    words = frozenset(re.findall(r"[^\W_]+", plain))
    return words - _EMPTY or words


_TWINS: Final = {
    _words_of(label): (known, part)
    for part in reversed(PARTS)  # of two that are called alike, the first counts
    for known in part.fields
    for label in (known.label, *known.alike)
}
