"""The API's own description. It is generated when the API changes, not at a request, since that takes seconds."""

from __future__ import annotations

from importlib import resources
from pathlib import Path
from typing import Final

from fastapi.responses import FileResponse, Response

from obitus.service.routing import Router

FILE: Final = Path(str(resources.files("obitus"))) / "service/pages/openapi.json"

router = Router(include_in_schema=False)


@router.get("/api/openapi.json")
def description() -> Response:
    """Return the OpenAPI description."""
    return FileResponse(FILE, media_type="application/json")
