"""How the house writes, as typed."""

from zoneinfo import available_timezones

from babel.numbers import list_currencies
from pydantic import field_validator

from finesieve.core.fields.families.places import country_codes
from finesieve.core.fields.manner import locale_names
from finesieve.services.kernel.inputs import Input

__all__ = ["MannerInput"]


class MannerInput(Input):
    """Language, zone, currency and country of a house."""

    language: str = "en_GB"
    zone: str = "UTC"
    currency: str = "GBP"
    country: str = "GB"

    @field_validator("language")
    @classmethod
    def _language(cls, language: str) -> str:
        if language not in locale_names():
            raise ValueError("Choose one of the languages.")
        return language

    @field_validator("zone")
    @classmethod
    def _zone(cls, zone: str) -> str:
        if zone not in available_timezones():
            raise ValueError("No such time zone; one is written like Europe/London.")
        return zone

    @field_validator("currency")
    @classmethod
    def _currency(cls, currency: str) -> str:
        if currency.upper() not in list_currencies():
            raise ValueError("Write a currency by its three letters, such as EUR.")
        return currency.upper()

    @field_validator("country")
    @classmethod
    def _country(cls, country: str) -> str:
        if country not in country_codes():
            raise ValueError("Choose one of the countries.")
        return country
