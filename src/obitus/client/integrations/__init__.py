"""Where libraries hand over requests, jobs and steps. Each module is loaded once the library it watches has been."""

from __future__ import annotations

from typing import Final

_HERE: Final = "obitus.client.integrations"

TABLE: Final = {
    "asyncio.base_events": f"{_HERE}.asyncs:install",
    "concurrent.futures._base": f"{_HERE}.futures:install_futures",
    "concurrent.futures.thread": f"{_HERE}.futures:install_thread_pools",
    "multiprocessing.process": f"{_HERE}.processes:install",
    "subprocess": f"{_HERE}.subprocesses:install",
    "urllib3.connectionpool": f"{_HERE}.http_clients:install_urllib3",
    "urllib.request": f"{_HERE}.http_clients:install_urllib",
    "httpx": f"{_HERE}.http_clients:install_httpx",
    "aiohttp.client": f"{_HERE}.http_clients:install_aiohttp",
    "sqlite3": f"{_HERE}.sqlites:install",
    "sqlalchemy": f"{_HERE}.sqlalchemies:install",
    "celery.signals": f"{_HERE}.celeries:install",
    "click.core": f"{_HERE}.commands:install",
    "typer._click.core": f"{_HERE}.commands:install",
    "django.core.handlers.base": f"{_HERE}.djangos:install",
    "flask.signals": f"{_HERE}.flasks:install",
}
"""Module of a library → what watches it, given the reporter, the patches and the module."""
