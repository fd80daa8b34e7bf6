"""Made-up people, uneven and with gaps. The same seed gives the same people."""

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Final

from finesieve.core.values import Value

__all__ = ["MadeUp", "make_people"]

_FIRST: Final = (
    "Odette Piers Wren Tamsin Lis Maud Corin Hester Jory Nerys Alder Bryony Cato Della Edric Fern Gwil "
    "Hazel Idris Junia Kester Linnet Merrin Nevin Orla Perran Quilla Rowan Sorrel Teasel Ula Verity "
    "Wystan Yarrow Zennor Ansel Briar Clem Dorcas Ewan Flora Garth Hollis Isolde Jessamy Kit Lowen Mabyn "
).split()
_LAST: Final = (
    "Marram Hallowby Castellan Orrell Tarn Ellery Fenwood Garrick Holloway-Pike Ironmere Jessop "
    "Kettlewell Larkrise Mossop Netherby Oxlade Pellow Quarrington Ravensdale Sallowfield Thistlethwaite "
    "Underhay Vennor Wetherell Yeo Ashgrove Bellwether Crakehall Dunnock Eskdale Furrow Gorseman "
    "Hathersage Inglewood Juniperson Kelder "
).split()
_HOSTS: Final = ("hedgerow.example", "lowfold.example", "postbag.example", "allotment.example", "brackenmail.example")
_VARIETIES: Final = (
    "Painted Lady bean",
    "Crimson dwarf bean",
    "Long Tom leek",
    "Bramble Hill kale",
    "Old Yellow tomato",
    "Fold End pea",
    "Winter purslane",
    "Ragged Jack",
    "Blue-podded pea",
    "Lazy housewife bean",
    "Egg-and-butter squash",
    "Black cherry tomato",
)


@dataclass(frozen=True, slots=True)
class MadeUp:
    """One made-up person: when they signed up, and values by field key."""

    signed_up_at: datetime
    values: dict[str, Value]


def make_people(count: int, now: datetime, seed: int = 1886, first_number: int = 0) -> Iterator[MadeUp]:
    """People from the earliest sign-up to the latest, the last of them a few hours before `now`.

    Their numbers, which keep emails apart, count from `first_number`.
    """
    chance = random.Random(seed)  # noqa: S311 - made-up data, not a secret
    # Sign-ups thin out into the past, with a swell every spring.
    ages = (timedelta(days=min(chance.expovariate(1 / 420), 2_600), hours=2) for _ in range(count))
    for number, age in enumerate(sorted(ages, reverse=True), first_number):
        yield _person(chance, number, now, now - age)


def _maybe(chance: random.Random, share: float, value: Value) -> Value:
    return value if chance.random() < share else None


def _pick(chance: random.Random, weights: dict[str, int]) -> str:
    return chance.choices(list(weights), list(weights.values()))[0]


def _metres(chance: random.Random, middle: float, spread: float) -> Decimal:
    return Decimal(str(round(min(max(chance.gauss(middle, spread), 0.5), 60) * 2) / 2))


def _person(chance: random.Random, number: int, now: datetime, moment: datetime) -> MadeUp:
    first, last = chance.choice(_FIRST), chance.choice(_LAST)
    role = _pick(chance, {"home": 78, "school": 9, "market": 13})
    has_plot = chance.random() < (0.72 if role == "home" else 0.95)
    large = 2.2 if role == "market" else 1.0
    watering = _pick(chance, {"by hand": 46, "drip": 21, "rain": 33})
    litres = Decimal(max(10, round(chance.gauss(95 * large, 45) / 5) * 5)) if watering == "by hand" else None
    born = date(1938, 1, 1) + timedelta(days=int(chance.betavariate(2.4, 2.2) * 26_500))
    values: dict[str, Value] = {
        "email": f"{first}.{last}{number}@{chance.choice(_HOSTS)}".lower(),
        "first_name": _maybe(chance, 0.97, first),
        "last_name": _maybe(chance, 0.93, last),
        "signed_up_on": moment.date(),
        "born": _maybe(chance, 0.83 if role != "school" else 0.12, born),
        "gardener": _maybe(chance, 0.96, role),
        "zone": _maybe(chance, 0.905, _pick(chance, {"north": 34, "hill": 21, "south": 27, "river": 18})),
        "plot_length": _maybe(chance, 0.97, _metres(chance, 8 * large, 3.2 * large)) if has_plot else None,
        "plot_width": _maybe(chance, 0.955, _metres(chance, 4.4 * large, 1.8)) if has_plot else None,
        "watering": _maybe(chance, 0.88, watering) if has_plot else None,
        "litres_a_day": _maybe(chance, 0.86, litres) if has_plot else None,
        "soil": _maybe(chance, 0.12, _pick(chance, {"clay": 52, "loam": 33, "sand": 15})),
        "swaps_seed": _maybe(chance, 0.78, chance.random() < 0.41),
        "favourite": _maybe(chance, 0.37, chance.choice(_VARIETIES)),
    }
    if values["watering"] is None:
        values["litres_a_day"] = None
    return MadeUp(moment, values | _reached(chance, now, moment, role))


_STREETS: Final = "Barn Lane,Hedge Row,Mill Walk,Orchard Close,Pump Street,Sexton’s Way,Tithe Lane".split(",")
_TOWNS: Final = ("Brackenfold", "Lower Fold", "Netherby Green", "Oxlade", "Marram Cross")
_AGREED: Final = "Send me the Almanac letter by email\nYou can take it back at any time.\n(Join the co-op, version 1)"
_FIRMS: Final = ("Growers", "Market Garden", "Greengrocers", "Seeds", "Orchards")


def _reached(chance: random.Random, now: datetime, moment: datetime, kind: str) -> dict[str, Value]:
    """Where they live, whether they want the letter, and when they were last seen."""
    town = chance.randrange(len(_TOWNS))
    trade = kind == "market"
    agreed = chance.random() < 0.62
    address = chance.random() < (0.9 if trade else 0.34)
    firm = f"{chance.choice(_LAST)} {chance.choice(_FIRMS)}"
    street = f"{chance.randrange(1, 90)} {chance.choice(_STREETS)}"
    return {
        "company": _maybe(chance, 0.8, firm) if trade else None,
        "role": {"market": "trade", "school": "school"}.get(kind, _maybe(chance, 0.7, "private")),
        "billing_street": street if address else None,
        "billing_town": _TOWNS[town] if address else None,
        # A district that there is not.
        "billing_postcode": f"DG99 {town + 1}{chance.choice('ABDEF')}{chance.choice('GHJLN')}" if address else None,
        "billing_country": "GB" if address else None,
        "preferred_language": _maybe(chance, 0.9, "de" if chance.random() < 0.03 else "en"),
        "first_seen": moment.replace(second=0, microsecond=0),
        "last_seen": (moment + (now - moment) * chance.random() ** 3).replace(second=0, microsecond=0),
        "consent_email": True if agreed else None,
        "consent_email_at": moment if agreed else None,
        "consent_email_text": _AGREED if agreed else None,
    }
