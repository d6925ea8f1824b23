"""From which severity loggers send: by the settings, and by people's temporary orders at the service. Each answer of
the service lists the active orders. An order never makes the app's own handlers write more: a record that passes
only because of an order is sent, and hidden from the handlers.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from time import monotonic
from typing import Any, Final

from obitus.core.bounds import short
from obitus.core.severity import SEVERITIES, Thresholds

MOST_ORDERS: Final = 50
LONGEST_S: Final = 86_400.0
_LEVELS: Final = {"TRACE": 5, "DEBUG": 10, "INFO": 20, "WARN": 30, "ERROR": 40, "FATAL": 50}


class LogOrders:
    """The active orders. ``sent`` has the thresholds from which a logger's records are sent."""

    def __init__(self, settings: Mapping[str, str], *, fixed: bool) -> None:
        self._settings, self._fixed = settings, fixed
        self.sent = Thresholds(settings)
        self.active: dict[str, str] = {}
        """Severities by logger, as ordered."""
        self.ends_s = 0.0
        """When the first of them ends, by the monotonic clock; 0 where there are none."""
        self._ends: dict[str, float] = {}
        self._lowered: dict[str, tuple[int, int]] = {}
        """Loggers of the app by name: the level that they had, and the one that was set instead."""
        self._app_levels: dict[str, int] = {}
        self._listeners: list[Callable[[], None]] = []

    def listen(self, listener: Callable[[], None]) -> None:
        """Call a function at each change."""
        self._listeners.append(listener)

    def learn_from(self, answer: Mapping[str, Any]) -> None:
        """Take over the orders of an answer of the service."""
        if self._fixed:
            return
        ends: dict[str, float] = {}
        levels: dict[str, str] = {}
        orders = answer.get("log_orders")
        for order in orders[:MOST_ORDERS] if isinstance(orders, list) else ():
            if not isinstance(order, dict):
                continue
            logger, severity, seconds = order.get("logger"), order.get("severity"), order.get("seconds")
            if isinstance(logger, str) and severity in SEVERITIES and isinstance(seconds, int | float) and seconds > 0:
                name = short(logger)
                levels[name] = severity
                ends[name] = monotonic() + min(LONGEST_S, seconds)
        self._ends = ends
        self._use(levels)

    def expire(self) -> None:
        """End orders whose time is over, also where the service does not answer."""
        now_s = monotonic()
        self._ends = {name: end_s for name, end_s in self._ends.items() if end_s > now_s}
        self._use({name: severity for name, severity in self.active.items() if name in self._ends})

    def is_for_us_alone(self, name: str, level: int) -> bool:
        """Whether a record passed its logger's level only because of an order: the app's handlers must not see it."""
        if not self._lowered:
            return False
        try:
            return level < self._app_levels[name]
        except KeyError:
            plain_level = self._level_without_orders(name)
            if len(self._app_levels) < 5000:
                self._app_levels[name] = plain_level
            return level < plain_level

    def _use(self, wanted: dict[str, str]) -> None:
        self.ends_s = min(self._ends.values(), default=0.0)
        if wanted == self.active:
            return
        self.active = wanted
        self.sent = Thresholds({**self._settings, **wanted})
        self._put_back()
        for name, severity in wanted.items():
            self._lower(name, _LEVELS[severity])
        self._app_levels = {}
        for listener in self._listeners:
            listener()

    def _put_back(self) -> None:
        for name, (before, set_to) in self._lowered.items():
            logger = logging.getLogger(name or None)
            # A level that the app has set meanwhile stays.
            if logger.level == set_to:
                logger.setLevel(before)
        self._lowered = {}

    def _lower(self, name: str, level: int) -> None:
        """Make a logger, and loggers below it with a level of their own, create records from a level on."""
        known = list(logging.root.manager.loggerDict.items())
        below = [
            other
            for other, logger in known
            if isinstance(logger, logging.Logger) and logger.level and (not name or other.startswith(name + "."))
        ]
        for other in (name, *below):
            logger = logging.getLogger(other or None)
            # A logger with an order of its own follows that.
            if logger.getEffectiveLevel() > level and not (other != name and other in self.active):
                before = self._lowered[other][0] if other in self._lowered else logger.level
                self._lowered[other] = (before, level)
                logger.setLevel(level)

    def _level_without_orders(self, name: str) -> int:
        logger: logging.Logger | None = logging.getLogger(name or None)
        while logger is not None:
            own = "" if logger is logging.root else logger.name
            lowered = self._lowered.get(own)
            level = lowered[0] if lowered is not None and logger.level == lowered[1] else logger.level
            if level:
                return level
            logger = logger.parent
        return 0
