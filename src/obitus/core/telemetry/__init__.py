"""From OpenTelemetry's log records and spans to reports. Pure: the memory of earlier spans is passed in.

Exceptions on log records and on spans become failures, other log records become logs; server and consumer spans, and jobs,
become runs, and their outgoing calls steps. Sources: the OpenTelemetry protocol 1.x in its JSON form, and its semantic
conventions for exceptions, HTTP, databases and messaging.
"""

from obitus.core.telemetry.fields import Source, Translated
from obitus.core.telemetry.limits import MOST_RECORDS, MOST_RESOURCES
from obitus.core.telemetry.records import logs
from obitus.core.telemetry.spans import traces
from obitus.core.telemetry.steps import MOST_STEPS, SendersSteps, Steps, TraceSoFar

__all__ = [
    "MOST_RECORDS",
    "MOST_RESOURCES",
    "MOST_STEPS",
    "SendersSteps",
    "Source",
    "Steps",
    "TraceSoFar",
    "Translated",
    "logs",
    "traces",
]
