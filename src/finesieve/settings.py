"""Settings, read from the environment (`FINESIEVE_…`)."""

from pydantic_settings import BaseSettings, SettingsConfigDict

__all__ = ["MissingSecret", "Settings"]


class MissingSecret(Exception):
    """The application was started without the secret that it needs."""


class Settings(BaseSettings):
    """What differs from one installation to another.

    `database_url` names the PostgreSQL database, `secret` signs what is handed
    to browsers, `demo` offers the demo specialist on the sign-in page, and
    `secure_cookies` is to be on wherever the pages are served over HTTPS. `proxies`
    names, by address or network and separated by commas, the machines whose
    `X-Forwarded-For` is believed.
    """

    model_config = SettingsConfigDict(env_prefix="FINESIEVE_")

    database_url: str = ""
    secret: str = ""
    demo: bool = False
    secure_cookies: bool = False
    fast_hashes: bool = False
    proxies: str = ""
