"""The client's settings: from arguments, else from the environment."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

ENVIRONMENT_NAMES: Final = {
    "OBITUS_URL": "Address of the service, e.g. http://127.0.0.1:8611.",
    "OBITUS_KEY": "Reporting key of this app and environment.",
    "OBITUS_RELEASE": "Version of this app, e.g. 2.9.0.",
    "OBITUS_ENVIRONMENT": "Environment this app believes it runs in; the key decides, this is kept as an attribute.",
    "OBITUS_OFF": "1, true, yes or on: report nothing at all.",
}


@dataclass(frozen=True)
class Settings:
    """Where to report to, and as what."""

    url: str | None
    key: str | None
    release: str | None
    environment: str | None
    off: bool
    own: tuple[str, ...] = ()
    """Modules that are own code although they are installed like libraries."""

    @property
    def missing(self) -> str | None:
        """The name of a setting without which nothing can be reported."""
        if not self.url:
            return "OBITUS_URL"
        return None if self.key else "OBITUS_KEY"


def load(
    *,
    url: str | None = None,
    key: str | None = None,
    release: str | None = None,
    environment: str | None = None,
    off: bool | None = None,
    own: tuple[str, ...] = (),
    environ: Mapping[str, str] | None = None,
) -> Settings:
    """Return the settings; what is not given comes from the environment."""
    found = os.environ if environ is None else environ

    def choose(given: str | None, name: str) -> str | None:
        value = given if given is not None else found.get(name)
        return value.strip() or None if value else None

    switched_off = found.get("OBITUS_OFF", "").strip().lower() in ("1", "true", "yes", "on")
    return Settings(
        url=choose(url, "OBITUS_URL"),
        key=choose(key, "OBITUS_KEY"),
        release=choose(release, "OBITUS_RELEASE"),
        environment=choose(environment, "OBITUS_ENVIRONMENT"),
        off=switched_off if off is None else off,
        own=own,
    )
