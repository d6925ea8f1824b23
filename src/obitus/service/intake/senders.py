"""The reporting key of a sender."""

from __future__ import annotations

from fastapi.security import HTTPBearer

from obitus.service.intake.intake import Intake
from obitus.service.problems import Problem
from obitus.service.secrets import TOKEN_PREFIX, hash_of
from obitus.store.rows.apps import KnownKey

reporting_key_scheme = HTTPBearer(
    scheme_name="reporting key", auto_error=False, description="A reporting key of one app and environment."
)


async def sender_key(intake: Intake, authorization: str) -> KnownKey:
    """Return the reporting key of a sender; raises a problem. Only an uncached key needs a thread."""
    key = intake.keys.known(hash_of(authorization.partition(" ")[2].strip()))
    if key is not None and key.revoked_ms is None and not key.origins and authorization[:7].lower() == "bearer ":
        return key
    return await intake.gate.threads.do(reporting_key, intake, authorization)


def reporting_key(intake: Intake, authorization: str) -> KnownKey:
    """Return the reporting key of a sender (app_id, app, environment); raises a problem."""
    scheme, _, secret = authorization.partition(" ")
    secret = secret.strip()
    if scheme.lower() != "bearer" or not secret:
        raise Problem("no-key", "Send the app's reporting key as Authorization: Bearer. Is OBITUS_KEY set?")
    if secret.startswith(TOKEN_PREFIX):
        raise Problem(
            "not-a-reporting-key", "This is a personal token. Send reports with a reporting key (it starts with okey_)."
        )
    key = intake.keys.find(hash_of(secret))
    if key is None:
        intake.refuse("", "unknown-key", "A report came with a key that no app has.")
        raise Problem(
            "unknown-key", "No app has this reporting key. Compare OBITUS_KEY with Set-up, or make a new key."
        )
    if key.revoked_ms is not None:
        intake.refuse(key.app, "revoked-key", "A report came with a revoked key.")
        raise Problem("revoked-key", f"This key of {key.app} was revoked. Make a new one in Set-up.")
    if key.origins:
        raise Problem(
            "not-this-key", "This is a key for pages, which everybody can read: it may report at /page alone."
        )
    return key
