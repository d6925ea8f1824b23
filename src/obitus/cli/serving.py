"""``obitus serve`` and ``obitus demo``: the only commands that run the service in this process."""

from __future__ import annotations

import logging
import re
import sqlite3
import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.show import console, say

if TYPE_CHECKING:
    from obitus.service.settings import OpenId
    from obitus.service.wiring import Parts


@dataclass(frozen=True, slots=True)
class OpenIdOrder:
    """Options of the OpenID Connect provider."""

    issuer: str
    client: str
    secret_file: Path | None
    title: str
    joins: Literal["member", "reader"] | None


def demo(data: Path, port: int, *, load_only: bool, until_ms: int | None) -> None:
    """Run the service with the ferry line's two weeks in it. The story ends in the last full hour before ``until_ms``
    (Unix, milliseconds), or now; within one hour it is the same, ids and numbers of issues included.
    """
    try:
        from obitus.demo.replaying import Replaying, starts_at

        # Begun first: importing the service takes seconds, too.
        with Replaying(starts_at(until_ms or int(time.time() * 1000))) as replaying:
            from obitus.cli import demo_loading

            demo_loading.run(data, port, replaying, load_only=load_only)
    except ImportError as error:
        raise UsageTrouble(f"the demo needs the service ({error.name}). Run: pip install 'obitus[server]'") from error


def serve(
    data: Path,
    host: str,
    port: int,
    public_url: str | None,
    *,
    new_link: bool,
    password_file: Path | None,
    plain_http: bool,
    openid: OpenIdOrder | None,
    codes_for_all: bool,
    proxies: tuple[str, ...],
    console_key: str,
) -> None:
    """Run the service until it is told to stop."""
    try:
        # Options are checked first: importing the service takes seconds.
        from obitus.service.addresses import is_loopback

        if not is_loopback(host) and not plain_http and not (public_url or "").startswith("https:"):
            raise UsageTrouble(
                f"will not listen on {host}: passwords and keys would go over the network unencrypted. Put a proxy that speaks https "
                "in front and give its address as --public-url https://…, or say that you mean it: --plain-http."
            )
        provider, in_front, page_key = _openid(openid), _proxies(proxies), _console_key(console_key)
        password = None if password_file is None else _password_in(password_file)
        if new_link and _link_beside(data):
            return
        from obitus.service import run
        from obitus.service.settings import Settings
        from obitus.service.wiring import Parts
        from obitus.store.errors import StoreDamaged, StoreError
    except ImportError as error:
        raise UsageTrouble(f"the service is not installed ({error.name}). Run: pip install 'obitus[server]'") from error
    run.leave_no_core()
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    try:
        opened = run.listen(host, port)
    except OSError as error:
        raise CliError(f"cannot listen on {host}:{port}: {error.strerror}. Choose another --port.") from error
    real_port = opened.getsockname()[1]
    try:
        settings = Settings(
            data=data,
            host=host,
            port=real_port,
            public_url=public_url,
            openid=provider,
            codes_for_all=codes_for_all,
            proxies=in_front,
            console_key=page_key,
        )
        service = Parts(settings)
        has_password = _owned(service)
    except StoreDamaged as error:
        opened.close()
        raise CliError(
            f"the records in {data} are damaged where the service needs them to start. obitus verify --data {data} says what is broken. "
            "Move the folder away and restore a backup in its place: obitus restore BACKUP --data FOLDER"
        ) from error
    except (StoreError, OSError, sqlite3.Error) as error:
        opened.close()
        raise CliError(f"the records in {data} cannot be opened: {error}") from error
    try:
        if password is not None:
            _set_password(service, password, password_file)
            has_password = True
        if not is_loopback(host) and not has_password:
            raise UsageTrouble(
                f"will not listen on {host} without a password. Start on 127.0.0.1, sign in, set one under Set-up; "
                "or give --password-file FILE."
            )
        say(f"Obitus answers at {service.settings.url}; the records are in {data}.")
        if new_link or not has_password:
            say("Sign in once with this link (valid for a day):")
            console.print(service.passes.new_sign_in_link(), soft_wrap=True, markup=False)
        service.intake.processes.warm()
        run.alone(service, opened)
    finally:
        service.close()
        opened.close()


def _owned(service: Parts) -> bool:
    """Make sure that there is an owner, and return whether the owner has a password; closes the service on an error."""
    try:
        return service.passes.ensure_owner()
    except BaseException:
        service.close()
        raise


def _proxies(proxies: tuple[str, ...]) -> tuple[str, ...]:
    """Return the proxies in front; raises UsageTrouble for what is no address."""
    from obitus.service.addresses import is_proxy

    for proxy in proxies:
        if not is_proxy(proxy):
            raise UsageTrouble(
                f"--proxy {proxy}: give the address of the proxy, such as 10.0.0.5, or its net, such as 10.0.0.0/8."
            )
    return proxies


def _console_key(key: str) -> str:
    """Return the console's reporting key; raises UsageTrouble where it is no key for pages."""
    if key and not re.fullmatch(r"opage_[\w-]{8,100}", key):
        raise UsageTrouble(
            "--console-key is a key for pages (opage_…) of this service's own address: obitus app key APP --page ADDRESS"
        )
    return key


def _openid(order: OpenIdOrder | None) -> OpenId | None:
    """Return the provider's settings; raises UsageTrouble where they are invalid."""
    if order is None:
        return None
    from obitus.service.settings import OpenId
    from obitus.service.sign_in.openid import OpenIdTrouble, check_address

    try:
        check_address(order.issuer)
        secret = order.secret_file.read_text("utf-8").strip() if order.secret_file is not None else ""
    except OpenIdTrouble as error:
        raise UsageTrouble(f"--openid-issuer: {error}.") from None
    except OSError as error:
        raise UsageTrouble(f"{order.secret_file} cannot be read: {error.strerror}.") from error
    return OpenId(order.issuer, order.client, secret, order.title, order.joins)


def _link_beside(data: Path) -> bool:
    """Print a sign-in link where a service runs on the folder already; return whether one does."""
    from obitus.service import secrets
    from obitus.service.settings import Settings, system_clock_ms
    from obitus.service.sign_in.passes import LINK_LASTS_MS
    from obitus.store import database, people

    address = database.service_on(data)
    if address is None:
        return False
    secret, now_ms = secrets.new_secret(), system_clock_ms()
    database.beside(
        Settings(data).database,
        lambda c: people.add_link(
            c, secrets.hash_of(secret), secrets.new_secret()[:12], now_ms, now_ms + LINK_LASTS_MS
        ),
    )
    say(f"Obitus answers at {address} already. Sign in once with this link (valid for a day):")
    console.print(f"{address}/sign-in#{secret}", soft_wrap=True, markup=False)
    return True


def _password_in(password_file: Path) -> str:
    """Return the password in a file; raises UsageTrouble for one that is too short."""
    from obitus.service import secrets

    try:
        password = password_file.read_text("utf-8").strip("\r\n")
    except OSError as error:
        raise UsageTrouble(f"{password_file} cannot be read: {error.strerror}.") from error
    if len(password) < secrets.SHORTEST_PASSWORD:
        raise UsageTrouble(f"the password in {password_file} is shorter than {secrets.SHORTEST_PASSWORD} characters.")
    return password


def _set_password(service: Parts, password: str, password_file: Path | None) -> None:
    """Set the owner's password; raises UsageTrouble for one that is easy to guess."""
    from obitus.service import secrets
    from obitus.store import people

    owner = people.owner(service.records.reader)
    weak = secrets.why_weak(password, owner.name if owner is not None else "")
    if weak is not None:
        raise UsageTrouble(f"the password in {password_file} is too easy to guess. {weak}")
    if owner is not None and not secrets.password_fits(password, owner.password):
        hashed, now_ms = secrets.hash_password(password), service.clock.now_ms()
        service.records.writer.run(lambda c: people.set_password(c, owner.id, hashed, keep_pass="", now_ms=now_ms))
