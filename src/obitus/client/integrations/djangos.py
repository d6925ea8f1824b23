"""Django, both ways: the route that was found, and what the handlers caught before any server sees it."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.guard import guarded
from obitus.client.integrations.requests import braces
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch Django's base handler and its signal for exceptions."""

    @guarded
    def note_route(match: Any) -> None:
        run = runs.current.get()
        if run is not None and getattr(match, "route", None) is not None:
            run.route = "/" + braces(str(match.route))

    def make(before: Any) -> Any:
        def resolve_request(handler: Any, request: Any) -> Any:
            match = before(handler, request)
            note_route(match)
            return match

        return resolve_request

    patches.put(module.BaseHandler, "resolve_request", make)
    from django.core.signals import got_request_exception  # the app has imported Django: that is what brought us here

    def failed(sender: Any, request: Any = None, **_: Any) -> None:
        import sys

        import obitus

        error = sys.exc_info()[1]
        active = obitus._reporter()
        if active is not None and isinstance(error, Exception):
            active.record(error, handled=False, captured_by="django")

    got_request_exception.connect(failed, weak=False, dispatch_uid="obitus")
