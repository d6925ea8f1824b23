"""Which instrument watches which library. Each is loaded after its library."""

from __future__ import annotations

from typing import Final

_HERE: Final = "obitus.client.instruments"

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
    "django.db.backends.utils": f"{_HERE}.djangos:install_statements",
    "flask.signals": f"{_HERE}.flasks:install",
    "quart.signals": f"{_HERE}.flasks:install",
    "werkzeug.routing.matcher": f"{_HERE}.frameworks:install_werkzeug",
    "pyramid.urldispatch": f"{_HERE}.frameworks:install_pyramid",
    "falcon.app": f"{_HERE}.frameworks:install_falcon",
    "starlette.middleware.errors": f"{_HERE}.frameworks:install_starlette",
    "graphql.execution.executor": f"{_HERE}.frameworks:install_graphql",
    "graphql.execution.execute": f"{_HERE}.frameworks:install_graphql",
    "tornado.web": f"{_HERE}.web_servers:install_tornado",
    "aiohttp.web_app": f"{_HERE}.web_servers:install_aiohttp",
    "sanic.app": f"{_HERE}.web_servers:install_sanic",
    "grpc": f"{_HERE}.grpcs:install",
    "grpc.aio": f"{_HERE}.grpcs:install_aio",
    "http.server": f"{_HERE}.web_servers:install_http_server",
    "socketserver": f"{_HERE}.web_servers:install_socketserver",
    "loguru": f"{_HERE}.loggers:install_loguru",
    "structlog._base": f"{_HERE}.loggers:install_structlog",
    "twisted.logger": f"{_HERE}.loggers:install_twisted",
    "IPython.core.interactiveshell": f"{_HERE}.interactive:install_ipython",
    "gevent.hub": f"{_HERE}.interactive:install_gevent",
    "uvloop": f"{_HERE}.asyncs:install_uvloop",
    "multiprocessing.pool": f"{_HERE}.futures:install_process_pools",
    "huey.api": f"{_HERE}.jobs:install_huey",
    "rq.worker.base": f"{_HERE}.jobs:install_rq",
    "dramatiq.broker": f"{_HERE}.jobs:install_dramatiq",
    "apscheduler.executors.base": f"{_HERE}.jobs:install_apscheduler",
    "arq.worker": f"{_HERE}.jobs:install_arq",
    "taskiq.receiver.receiver": f"{_HERE}.jobs:install_taskiq",
}
"""Module of a library → function of the instrument, which gets the reporter, the patches and the module."""
