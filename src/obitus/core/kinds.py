"""Kinds of apps, and the exact lines that make each report. The set-up page, the command line and the guides show them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final


@dataclass(frozen=True, slots=True)
class SetUpLines:
    """One step: its name, and the lines to paste."""

    title: str
    lines: str


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of app."""

    name: str
    title: str
    install: str
    """What to install with the app: the client alone, or with the command line."""
    steps: tuple[SetUpLines, ...]
    then: str
    """How to see that it works."""


_WATCH: Final = "import obitus\n\nobitus.watch()"

KINDS: Final[dict[str, Kind]] = {
    kind.name: kind
    for kind in (
        Kind(
            "fastapi",
            "FastAPI, or another ASGI framework",
            "obitus",
            (
                SetUpLines("First lines of the module that makes the app", _WATCH),
                SetUpLines(
                    "Where the app is made, after all other middleware has been added",
                    "app = FastAPI()\napp.add_middleware(obitus.AsgiMiddleware)",
                ),
            ),
            "Call a path whose handler raises.",
        ),
        Kind(
            "flask",
            "Flask, or another WSGI framework",
            "obitus",
            (
                SetUpLines("First lines of the module that makes the app", _WATCH),
                SetUpLines(
                    "Where the app is made",
                    "app = Flask(__name__)\napp.wsgi_app = obitus.WsgiMiddleware(app.wsgi_app)",
                ),
            ),
            "Call a path whose view raises.",
        ),
        Kind(
            "django",
            "Django",
            "obitus",
            (
                SetUpLines("First lines of manage.py, wsgi.py and asgi.py, before Django is imported", _WATCH),
                SetUpLines(
                    "Last line of wsgi.py",
                    "application = obitus.WsgiMiddleware(get_wsgi_application())",
                ),
                SetUpLines(
                    "Last line of asgi.py, if you serve the app over ASGI",
                    "application = obitus.AsgiMiddleware(get_asgi_application())",
                ),
            ),
            "Call a path whose view raises.",
        ),
        Kind(
            "celery",
            "Celery",
            "obitus",
            (
                SetUpLines(
                    "First lines of the module that makes the Celery app, and of each program that sends tasks", _WATCH
                ),
            ),
            "Send a task that raises.",
        ),
        Kind(
            "script",
            "a script, job or console program in Python",
            "obitus",
            (
                SetUpLines("First lines of the program", _WATCH),
                SetUpLines(
                    "Around each unit of work, if it does several",
                    'with obitus.run("job nightly-manifest"):\n    ...',
                ),
            ),
            "Let it raise an exception.",
        ),
        Kind(
            "command",
            "any program, in any language",
            "obitus[cli]",
            (SetUpLines("In front of the command that starts it", "obitus run -- COMMAND ARGUMENT…"),),
            "Let it end with an exit status other than 0.",
        ),
        Kind(
            "opentelemetry",
            "anything that speaks OpenTelemetry",
            "",
            (
                SetUpLines(
                    "Where its exporter is configured; nothing of Obitus is installed",
                    "OTEL_LOGS_EXPORTER=otlp\nOTEL_TRACES_EXPORTER=otlp",
                ),
            ),
            "Send a span or a log record with an exception.",
        ),
    )
}


def settings_lines(url: str, key: str, release: str = "1.0.0", kind: str = "") -> str:
    """Return the lines that set the app's environment in a shell."""
    if kind == "opentelemetry":
        return (
            f"export OTEL_EXPORTER_OTLP_ENDPOINT={url}\nexport OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf\n"
            f'export OTEL_EXPORTER_OTLP_HEADERS="Authorization=Bearer%20{key}"\nexport OTEL_RESOURCE_ATTRIBUTES=service.version={release}'
        )
    return f"export OBITUS_URL={url}\nexport OBITUS_KEY={key}\nexport OBITUS_RELEASE={release}"


PAGE: Final = Kind(
    "page",
    "A page in the browser",
    "",
    (
        SetUpLines(
            "First in the page's head, before any other script",
            '<script src="{url}/browser.js" data-key="{key}" data-watch data-sketches></script>',
        ),
        SetUpLines(
            "In the page's content security policy, if it has one",
            "script-src {url}; connect-src {url}",
        ),
    ),
    "Open the page and make something in it fail.",
)
"""The set-up of a key for pages; ``{url}`` is the service's address, ``{key}`` the key."""
