"""What the API answers with: the models that its OpenAPI description, and the console's types, are made from. Models
of several routes are here."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

Time = str
"""RFC 3339, UTC, to the millisecond."""

StateName = Literal["untriaged", "accepted", "settled", "regressed", "parked"]


class SpanAnswer(BaseModel):
    """A span of time."""

    start: Time
    end: Time


class WindowAnswer(BaseModel):
    """The window of the answer."""

    start: Time
    end: Time


class AsKept:
    """A part of a report, as it was checked when it came; passed on unchanged, and described by the model that
    checked it. Reports stored by an earlier version may have other names.
    """

    def __init__(self, model: type[BaseModel]) -> None:
        self._model = model

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Describe it by the model that checked it."""
        return handler(self._model.__pydantic_core_schema__)


class Done(BaseModel):
    """It is done."""

    done: bool = True


class HealthAnswer(BaseModel):
    """Whether the service lives, whether it is ready to store reports, and why not."""

    live: bool
    ready: bool
    reasons: list[str] = Field(description="Why it is not ready; empty when it is.")
    version: str
    time: Time
