"""Flask: exceptions that it catches before the server sees them."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.active import active_reporter
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Connect to Flask's signal for exceptions."""

    def failed(sender: Any, exception: Any = None, **_: Any) -> None:
        active = active_reporter()
        if active is not None and isinstance(exception, Exception):
            active.failures.record(exception, handled=False, captured_by="flask")

    module.got_request_exception.connect(failed, weak=False)
