"""Bodies by a team's own templates: Jinja2 in its sandbox, in a separate process that is killed when it takes too long."""

from __future__ import annotations

import json
from typing import Any, Final

from obitus.service.intake.processes import ProcessEnded, Processes

LONGEST_S: Final = 2.0
"""CPU time that a template may take: not elapsed time, so that a busy machine does not break an alert."""
GIVEN_UP_S: Final = 30.0
"""Elapsed time after which the process is killed, including its start."""
MOST_BYTES: Final = 256 * 1024
MOST_TEMPLATE: Final = 20_000
MOST_MEMORY: Final = 1024 * 1024 * 1024


class TemplateTrouble(Exception):
    """A template is invalid, fails, makes too much output, or does not end. Says where, and what to do."""


class Renderer:
    """Renders templates, one at a time."""

    def __init__(self) -> None:
        self._processes = Processes(1, longest_task_s=GIVEN_UP_S)

    def render(self, template: str, data: dict[str, Any], *, is_json: bool) -> str:
        """Return the output of a template for a message; raises TemplateTrouble."""
        try:
            trouble, text = self._processes.do(rendered, template, data, is_json)
        except ProcessEnded:
            raise TemplateTrouble(f"it did not end within {GIVEN_UP_S:g} s, or took too much memory") from None
        if not trouble:
            raise TemplateTrouble(text)
        return text

    def close(self) -> None:
        """End the process."""
        self._processes.close()


def rendered(template: str, data: dict[str, Any], is_json: bool) -> tuple[bool, str]:
    """Return whether a template could be rendered, and the output or the error. Runs in the separate process."""
    import signal

    from jinja2 import StrictUndefined, TemplateError, TemplateSyntaxError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    _bound_memory()
    environment = ImmutableSandboxedEnvironment(undefined=StrictUndefined, autoescape=False)
    environment.policies["json.dumps_kwargs"] = {"ensure_ascii": False}
    signal.signal(signal.SIGVTALRM, _too_long)
    signal.setitimer(signal.ITIMER_VIRTUAL, LONGEST_S)
    try:
        attachments, size = [], 0
        for piece in environment.from_string(template).generate(**data):
            size += len(piece)
            if size > MOST_BYTES:
                return False, f"it makes more than {MOST_BYTES // 1024} KiB"
            attachments.append(piece)
        text = "".join(attachments)
        if is_json:
            json.loads(text)
    except TemplateSyntaxError as error:
        return False, f"line {error.lineno}: {error.message}"
    except _TooLong:
        return False, f"it did not end within {LONGEST_S:g} s"
    except MemoryError:
        return False, "it takes too much memory"
    except json.JSONDecodeError as error:
        return (
            False,
            f"the result is no valid JSON (line {error.lineno}: {error.msg}); texts are put in with {{{{ value | tojson }}}}",
        )
    except (
        TemplateError,
        ArithmeticError,
        AttributeError,
        LookupError,
        TypeError,
        ValueError,
        RecursionError,
    ) as error:
        return False, str(error)[:300] or type(error).__name__
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
    return True, text


class _TooLong(BaseException):
    """Not an Exception: neither a template nor its functions can catch it."""


def _too_long(*_: object) -> None:
    raise _TooLong


def _bound_memory() -> None:
    try:
        import resource
    except ImportError:  # Windows
        return
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    bound = MOST_MEMORY if hard == resource.RLIM_INFINITY else min(MOST_MEMORY, hard)
    resource.setrlimit(resource.RLIMIT_AS, (bound, hard))
