"""Apps on other people's frameworks, all with the same two places: one that answers, one that dies of a LookupError.

``/up`` answers 200. ``POST /piers/{pier}/boardings`` raises LookupError("gangway is up") in a function ``board``.
"""

from __future__ import annotations

from dataclasses import dataclass

PORT = "{port}"
UVICORN = ("-m", "uvicorn", "ferry:app", "--port", PORT, "--log-level", "error")
HYPERCORN = ("-m", "hypercorn", "ferry:app", "--bind", "127.0.0.1:{port}", "--log-level", "error")
GUNICORN = ("-m", "gunicorn", "ferry:app", "--bind", "127.0.0.1:{port}", "--log-level", "error")
WAITRESS = ("-m", "waitress", "--listen", "127.0.0.1:{port}", "ferry:app")
ITSELF = ("ferry.py", PORT)
HEAD = "import obitus\nobitus.watch()\nimport sys\ndef board(pier):\n    raise LookupError('gangway is up')\n"


@dataclass(frozen=True)
class Web:
    """One framework under one server."""

    framework: str
    server: str
    code: str
    command: tuple[str, ...]
    route: str = "POST /piers/{pier}/boardings"
    body: bool = True
    """Whether the request's body is captured."""


_FASTAPI = """
from fastapi import FastAPI
app = FastAPI()
@app.get("/up")
def up(): return {}
@app.post("/piers/{pier}/boardings")
async def post(pier: str, order: dict): board(pier)
app.add_middleware(obitus.AsgiMiddleware)
"""
_STARLETTE = """
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route
async def up(request): return PlainTextResponse("up")
async def post(request): board(request.path_params["pier"])
app = Starlette(routes=[Route("/up", up), Mount("/piers", routes=[Route("/{pier}/boardings", post, methods=["POST"])])])
app.add_middleware(obitus.AsgiMiddleware)
"""
_LITESTAR = """
from litestar import Litestar, get, post
@get("/up")
async def up() -> str: return "up"
@post("/piers/{pier:str}/boardings")
async def answer(pier: str, data: dict) -> None: board(pier)
app = obitus.AsgiMiddleware(Litestar([up, answer]))
"""
_QUART = """
from quart import Quart, request
app = Quart("ferry")
@app.get("/up")
async def up(): return "up"
@app.post("/piers/<pier>/boardings")
async def post(pier):
    await request.get_json()
    board(pier)
app.asgi_app = obitus.AsgiMiddleware(app.asgi_app)
"""
_FALCON_ASGI = """
import falcon.asgi
class Up:
    async def on_get(self, request, response): response.text = "up"
class Boardings:
    async def on_post(self, request, response, pier): board(pier)
app = falcon.asgi.App()
app.add_route("/up", Up()); app.add_route("/piers/{pier}/boardings", Boardings())
app = obitus.AsgiMiddleware(app)
"""
_SANIC = """
from sanic import Sanic, text
app = Sanic("ferry")
app.config.MOTD = False
@app.get("/up")
async def up(request): return text("up")
@app.post("/piers/<pier>/boardings")
async def post(request, pier): board(pier)
if __name__ == "__main__": app.run("127.0.0.1", int(sys.argv[1]), single_process=True, access_log=False)
"""
_DJANGO = """
import django
from django.conf import settings
settings.configure(ROOT_URLCONF="ferry", ALLOWED_HOSTS=["*"], SECRET_KEY="x", LOGGING_CONFIG=None)
django.setup()
from django.http import HttpResponse
from django.urls import path
def up(request): return HttpResponse("up")
def post(request, pier): board(pier)
urlpatterns = [path("up", up), path("piers/<str:pier>/boardings", post)]
from django.core.{kind} import get_{kind}_application
app = obitus.{middleware}(get_{kind}_application())
"""
_FLASK = """
from flask import Flask
app = Flask("ferry")
@app.get("/up")
def up(): return "up"
@app.post("/piers/<pier>/boardings")
def post(pier): board(pier)
app.wsgi_app = obitus.WsgiMiddleware(app.wsgi_app)
"""
_PYRAMID = """
from pyramid.config import Configurator
from pyramid.response import Response
with Configurator() as config:
    config.add_route("up", "/up"); config.add_route("post", "/piers/{pier}/boardings")
    config.add_view(lambda request: Response("up"), route_name="up")
    config.add_view(lambda request: board(request.matchdict["pier"]), route_name="post")
    app = obitus.WsgiMiddleware(config.make_wsgi_app())
"""
_BOTTLE = """
import bottle
app = bottle.Bottle()
@app.get("/up")
def up(): return "up"
@app.post("/piers/<pier>/boardings")
def post(pier): board(pier)
app = obitus.WsgiMiddleware(app)
"""
_FALCON = _FALCON_ASGI.replace("falcon.asgi", "falcon").replace("async def", "def").replace("Asgi", "Wsgi")
_WERKZEUG = """
from werkzeug.exceptions import HTTPException
from werkzeug.routing import Map, Rule
from werkzeug.wrappers import Request, Response
urls = Map([Rule("/up", endpoint="up"), Rule("/piers/<pier>/boardings", endpoint="post")])
@Request.application
def bare(request):
    try: endpoint, values = urls.bind_to_environ(request.environ).match()
    except HTTPException as error: return error
    return Response("up") if endpoint == "up" else board(**values)
app = obitus.WsgiMiddleware(bare)
"""
_CHERRYPY = """
import cherrypy
class Ferry:
    @cherrypy.expose
    def up(self): return "up"
    @cherrypy.expose
    def piers(self, pier, what): board(pier)
cherrypy.config.update({"environment": "embedded"})
app = obitus.WsgiMiddleware(cherrypy.Application(Ferry(), "", {"/": {"request.show_tracebacks": False}}))
"""
_TORNADO = """
import tornado.ioloop, tornado.web
class Up(tornado.web.RequestHandler):
    def get(self): self.write("up")
class Boardings(tornado.web.RequestHandler):
    async def post(self, pier): board(pier)
app = tornado.web.Application([("/up", Up), ("/piers/(?P<pier>[a-z]+)/boardings", Boardings)])
if __name__ == "__main__":
    app.listen(int(sys.argv[1]), "127.0.0.1"); tornado.ioloop.IOLoop.current().start()
"""
_AIOHTTP = """
from aiohttp import web
async def up(request): return web.Response(text="up")
async def post(request): board(request.match_info["pier"])
app = web.Application()
app.add_routes([web.get("/up", up), web.post("/piers/{pier}/boardings", post)])
if __name__ == "__main__": web.run_app(app, host="127.0.0.1", port=int(sys.argv[1]), print=None, access_log=None)
"""
_HTTP_SERVER = """
import http.server
class Ferry(http.server.BaseHTTPRequestHandler):
    def do_GET(self): self.send_response(200); self.send_header("Content-Length", "0"); self.end_headers()
    def do_POST(self): board(self.path.split("/")[2])
    def log_message(self, *args): pass
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Ferry).serve_forever()
"""
_WSGIREF = """
from wsgiref.simple_server import make_server
def bare(environ, start_response):
    if environ["PATH_INFO"] != "/up": board("eastholm")
    start_response("200 OK", [("Content-Length", "2")]); return [b"up"]
make_server("127.0.0.1", int(sys.argv[1]), obitus.WsgiMiddleware(bare)).serve_forever()
"""


def _of_django(kind: str) -> str:
    return _DJANGO.replace("{kind}", kind).replace("{middleware}", f"{kind.capitalize()}Middleware")


BARE_ASGI = "POST /piers/eastholm/boardings"

PLACES = (
    Web("FastAPI", "uvicorn", _FASTAPI, UVICORN),
    Web("FastAPI", "hypercorn", _FASTAPI, HYPERCORN),
    Web("Starlette (mounted)", "uvicorn", _STARLETTE, UVICORN),
    Web("Litestar", "uvicorn", _LITESTAR, UVICORN),
    Web("Quart", "hypercorn", _QUART, HYPERCORN),
    Web("Falcon, ASGI", "uvicorn", _FALCON_ASGI, UVICORN),
    Web("Django, ASGI", "uvicorn", _of_django("asgi"), UVICORN),
    Web("Sanic", "its own", _SANIC, ITSELF, body=False),
    Web("Tornado", "its own", _TORNADO, ITSELF, body=False),
    Web("aiohttp", "its own", _AIOHTTP, ITSELF, body=False),
    Web("Flask", "gunicorn", _FLASK, GUNICORN),
    Web("Flask", "gunicorn, threads", _FLASK, (*GUNICORN, "-k", "gthread", "--threads", "4")),
    Web("Flask", "gunicorn, gevent", _FLASK, (*GUNICORN, "-k", "gevent")),
    Web("Flask", "gunicorn, preloaded", _FLASK, (*GUNICORN, "--preload")),
    Web("Django, WSGI", "gunicorn", _of_django("wsgi"), GUNICORN),
    Web("Pyramid", "waitress", _PYRAMID, WAITRESS),
    Web("Bottle", "waitress", _BOTTLE, WAITRESS),
    Web("Falcon, WSGI", "gunicorn", _FALCON, GUNICORN),
    Web("Werkzeug", "gunicorn", _WERKZEUG, GUNICORN),
    Web("CherryPy", "waitress", _CHERRYPY, WAITRESS, route=BARE_ASGI),
    Web("none, WSGI", "wsgiref", _WSGIREF, ITSELF, route=BARE_ASGI),
    Web("none", "http.server", _HTTP_SERVER, ITSELF, route=BARE_ASGI, body=False),
)
