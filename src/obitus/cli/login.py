"""Where the command line finds the service and its token: options, else the environment, else the login file."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from obitus.cli.errors import NotAllowed, UsageTrouble
from obitus.reading.homes import folder_of


@dataclass(frozen=True)
class Login:
    """An address and the personal token that goes with it."""

    url: str
    token: str | None


def file() -> Path | None:
    """Return the path of the login file; None where there is no place for one."""
    path = os.environ.get("OBITUS_LOGIN")
    if path:
        return Path(path)
    folder = folder_of("XDG_CONFIG_HOME", ".config")
    return None if folder is None else folder / "obitus" / "login.json"


def write(login: Login, path: Path | None = None) -> Path:
    """Write the login file, readable by its owner only, and return its path."""
    target = path or file()
    if target is None:
        raise UsageTrouble(
            "this user has no home folder for a login file. Set OBITUS_LOGIN to a file, or OBITUS_URL and OBITUS_TOKEN."
        )
    target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    partial = target.with_suffix(".partial")
    partial.unlink(missing_ok=True)
    descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as opened:
        json.dump({"url": login.url, "token": login.token}, opened)
    partial.replace(target)
    return target


def find(url: str | None, token: str | None) -> Login:
    """Return where to ask. A token from the login file goes to the address it was made for, and nowhere else."""
    url = url or os.environ.get("OBITUS_URL")
    token = token or os.environ.get("OBITUS_TOKEN")
    logins = _read()
    chosen = (url or (logins.url if logins else "")).rstrip("/")
    if not chosen:
        raise NotAllowed("no service is known. Run `obitus login LINK`, or give --url and --token.")
    if not chosen.startswith(("http://", "https://")):
        raise UsageTrouble(f"{chosen!r} is no address. It starts with http:// or https://.")
    if token is None and logins is not None and logins.url.rstrip("/") == chosen:
        token = logins.token
    return Login(chosen, token)


def _read() -> Login | None:
    path = file()
    if path is None:
        return None
    try:
        content = json.loads(path.read_text("utf-8"))
        return Login(str(content["url"]), content.get("token"))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise UsageTrouble(f"{path} cannot be read ({error}). Run `obitus login` again.") from error
