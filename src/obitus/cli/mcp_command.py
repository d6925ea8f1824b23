"""``obitus mcp``: lets a coding assistant read issues, over the Model Context Protocol (modelcontextprotocol.io)."""

from __future__ import annotations

import functools
import secrets
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Annotated, Any

import typer

from obitus.cli.api import Api, api
from obitus.cli.commands import Token, Url, app
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.login import Login, find
from obitus.core.assistants import INSTRUCTIONS, Assistant
from obitus.core.version import VERSION

if TYPE_CHECKING:
    from mcp.server.auth.provider import AccessToken


@app.command(short_help="Let a coding assistant read issues (Model Context Protocol).")
def mcp(
    port: Annotated[
        int | None,
        typer.Option("--port", min=0, max=65535, help="Answer over HTTP on this port, at /mcp; else over standard input and output."),
    ] = None,
    host: Annotated[str, typer.Option("--host", help="Address to listen on, with --port.")] = "127.0.0.1",
    url: Url = None,
    token: Token = None,
) -> None:  # fmt: skip
    """Let a coding assistant read issues, timelines, turning points, likely changes and tests, as far as a token allows.

    Over standard input and output it reads with the token of this shell's login. Over HTTP each caller sends a personal token of
    its own, as Authorization: Bearer.
    """
    try:
        import mcp.server  # noqa: F401 - whether it is there
    except ImportError as error:
        raise UsageTrouble(
            f"this needs the service's libraries ({error.name}). Run: pip install 'obitus[server]'"
        ) from error
    if port is None:
        _over_pipes(api(url, token))
    else:
        _over_http(find(url, token).url, host, port)


def _mark() -> str:
    return secrets.token_hex(8)


def _asking(asked: Api) -> Callable[[str, str, Mapping[str, Any] | None], Any]:
    def ask(method: str, path: str, body: Mapping[str, Any] | None) -> Any:
        return asked.get(path) if method == "GET" else asked.post(path, body or {})

    return ask


def _over_pipes(asked: Api) -> None:
    from mcp.server import MCPServer

    server = MCPServer("obitus", instructions=INSTRUCTIONS, version=VERSION, log_level="WARNING")
    for tool in Assistant(_asking(asked), _mark).tools():
        server.add_tool(_in_words(tool))
    server.run("stdio")


def _over_http(url: str, host: str, port: int) -> None:
    import uvicorn
    from mcp.server import MCPServer
    from mcp.server.auth.middleware.auth_context import get_access_token
    from mcp.server.auth.provider import AccessToken
    from mcp.server.auth.settings import AuthSettings
    from pydantic import AnyHttpUrl

    class Verifier:
        """Takes the personal tokens of the service."""

        async def verify_token(self, token: str) -> AccessToken | None:
            # Every command loads this module, and most need none of it.
            import asyncio

            try:
                me = await asyncio.to_thread(Api(Login(url, token)).get, "/api/me")
            except CliError:
                return None
            return AccessToken(token=token, client_id=me["name"], scopes=[me["may"]])

    def ask(method: str, path: str, body: Mapping[str, Any] | None) -> Any:
        caller = get_access_token()
        if caller is None:
            raise UsageTrouble("send a personal token as Authorization: Bearer")
        return _asking(Api(Login(url, caller.token)))(method, path, body)

    here = AnyHttpUrl(f"http://{host}:{port}/mcp")
    settings = AuthSettings(issuer_url=AnyHttpUrl(url), resource_server_url=here)
    server = MCPServer(
        "obitus",
        instructions=INSTRUCTIONS,
        version=VERSION,
        log_level="WARNING",
        token_verifier=Verifier(),
        auth=settings,
    )
    assistant = Assistant(ask, _mark)
    # Who calls is known only then: what their token does not allow, the service refuses.
    for tool in (*assistant.reading(), assistant.write_note):
        server.add_tool(_in_words(tool))
    uvicorn.run(
        server.streamable_http_app(stateless_http=True, json_response=True, host=host),
        host=host,
        port=port,
        log_level="warning",
    )


def _in_words(tool: Callable[..., str]) -> Callable[..., str]:
    """Return a tool whose expected errors are said to the assistant in words."""
    from mcp.server.mcpserver.exceptions import ToolError

    @functools.wraps(tool)
    def in_words(*given: Any, **named: Any) -> str:
        try:
            return tool(*given, **named)
        except CliError as error:
            raise ToolError(str(error)) from None

    return in_words
