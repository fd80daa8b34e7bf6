"""Settings, read from the environment (`FINESIEVE_…`)."""

import os
from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict

__all__ = ["MissingSecret", "Settings", "files_directory", "var_directory"]


class MissingSecret(Exception):
    """The application was started without the secret that it needs."""


def var_directory() -> Path:
    """Where a working copy keeps what it makes: its database, its secret. FINESIEVE_VAR names another place."""
    return Path(os.environ.get("FINESIEVE_VAR") or Path(__file__).resolve().parents[2] / "var")


def files_directory() -> Path:
    """Where files that people send are kept; nothing in it is served as it lies."""
    return var_directory() / "files"


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
