"""The legend as a page: for a tablet beside the keyboard, a second screen, or a stream.

Only who has its address sees it: a part of the address is a secret, and every request has to name the host under which the page
was given out, so that no other page can have a browser ask for it.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import ipaddress
import secrets
import socket
import sys
from collections.abc import AsyncIterator, Callable, Mapping
from importlib import resources
from pathlib import Path
from typing import Any

import msgspec
import platformdirs
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse
from starlette.routing import Route
from starlette.types import Receive, Scope, Send

from fenko.client import NobodyThere, RunningDesk
from fenko.core.words import reason
from fenko.desk.problems import DeskError
from fenko.drawing.labels import covered_from
from fenko.showing.legend import Legend, View, why
from fenko.showing.shown import on_a_plan
from fenko.system import icons
from fenko.system.files import whole_file

_MOST_READERS, _MOST_CONNECTED = 32, 256
_AGAIN = 1.0  # seconds after which a desk is looked for again
_BEAT = 15.0  # seconds after which something is sent in any case, so that a reader who is gone is noticed
_LONG = 24  # bytes of the secret
_FILES = {
    "": ("page.html", "text/html"),
    "legend.js": ("legend.js", "text/javascript"),
    "legend.css": ("legend.css", "text/css"),
}
_HEADERS = {
    "Content-Security-Policy": "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src data:; "
    "base-uri 'none'; form-action 'none'",
    "Referrer-Policy": "no-referrer", "X-Content-Type-Options": "nosniff", "Cache-Control": "no-store",
    "Cross-Origin-Resource-Policy": "same-origin",
}  # fmt: skip


def serve(
    legend: Legend,
    wanted: tuple[str, ...],
    listen: str,
    port: int,
    new_address: bool,
    note: Callable[[str], None],
    say: Callable[[str], None],
) -> int:
    """Serves the page until Ctrl-C; 1 if it cannot, 2 if the address is none."""
    try:
        address = ipaddress.ip_address(listen.strip("[]"))
    except ValueError:
        note(f"`{listen}` is no address of this machine, such as 127.0.0.1, or 0.0.0.0 for all that it has")
        return 2
    family = socket.AF_INET6 if address.version == 6 else socket.AF_INET
    line = socket.socket(family, socket.SOCK_STREAM)
    with contextlib.closing(line):
        line.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            line.bind((str(address), port))
            line.listen(64)  # so whoever has the address may ask at once
        except OSError as why_not:
            note(f"{listen} port {port} cannot be had: {reason(why_not)}; --port takes another, 0 a free one")
            return 1
        port = line.getsockname()[1]
        secret = _secret(new_address, note)
        hosts = _hosts(address, port)
        page = Page(legend, wanted, secret, hosts)
        for host in sorted(hosts) if address.is_unspecified else [_host(address, port)]:
            say(f"http://{host}/{secret}/")
        sys.stdout.flush()
        if not address.is_loopback:
            note("whoever has this address sees what the controls do; nothing can be changed with it")
        note("Ctrl-C ends it")
        config = uvicorn.Config(
            page.app(), http="h11", ws="none", lifespan="off", log_level="critical", access_log=False, server_header=False,
            limit_concurrency=_MOST_CONNECTED, timeout_keep_alive=5, timeout_graceful_shutdown=1, h11_max_incomplete_event_size=16384,
        )  # fmt: skip
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(page.run(uvicorn.Server(config), line))
    return 0


def _host(address: ipaddress.IPv4Address | ipaddress.IPv6Address, port: int) -> str:
    return f"[{address}]:{port}" if address.version == 6 else f"{address}:{port}"


def _hosts(address: ipaddress.IPv4Address | ipaddress.IPv6Address, port: int) -> frozenset[str]:
    """The names under which requests may come."""
    if address.is_loopback:
        return frozenset((_host(address, port), f"localhost:{port}"))
    if not address.is_unspecified:
        return frozenset((_host(address, port),))
    name = socket.gethostname()
    found = {f"{name}:{port}", f"{name}.local:{port}", f"localhost:{port}"}
    found.add(f"[::1]:{port}" if address.version == 6 else f"127.0.0.1:{port}")
    with contextlib.suppress(OSError):
        for *_, at in socket.getaddrinfo(name, None, type=socket.SOCK_STREAM):
            found.add(_host(ipaddress.ip_address(str(at[0]).partition("%")[0]), port))
    # The address that this machine has towards others, which its own name may not say.
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.connect(("192.0.2.1", 9))
        found.add(f"{probe.getsockname()[0]}:{port}")
    return frozenset(found)


def _secret(new: bool, note: Callable[[str], None]) -> str:
    """The secret part of the address, the same from one time to the next unless a new one is wanted."""
    file = Path(platformdirs.user_state_dir("fenko")) / "legend-address"
    with contextlib.suppress(OSError, UnicodeDecodeError):
        known = file.read_text().strip()
        if not new and len(known) >= _LONG and known.isascii() and known.replace("-", "").replace("_", "").isalnum():
            return known
    made = secrets.token_urlsafe(_LONG)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with whole_file(file, 0o600) as kept:
            kept.write(made.encode())
    except OSError as why_not:
        note(f"{file} cannot be written ({reason(why_not)}): the address will be another one next time")
    return made


class _Reading(StreamingResponse):
    """What one reader is told, as long as there is one."""

    def __init__(self, told: AsyncIterator[bytes], gone: Callable[[], None]) -> None:
        super().__init__(told, 200, _HEADERS, "text/event-stream")
        self._gone = gone

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        try:
            await super().__call__(scope, receive, send)
        finally:
            self._gone()


class Page:
    """What is served, and to whom."""

    def __init__(self, legend: Legend, wanted: tuple[str, ...], secret: str, hosts: frozenset[str]) -> None:
        self._legend = legend
        self._wanted = wanted
        self._secret = secret
        self._hosts = hosts
        self._number = 0
        self._now = b""
        self._changed = asyncio.Event()
        self._readers = 0
        self._ends = False
        self._tell(nobody_there())

    def app(self) -> Any:
        """The application, behind its doorkeeper."""
        inner = Starlette(routes=[Route("/{secret}/events", self._events), Route("/{secret}/{file:path}", self._file)])

        async def guarded(scope: Scope, receive: Receive, send: Send) -> None:
            refusal = self._refused(scope) if scope["type"] == "http" else None
            await (refusal or inner)(scope, receive, send)

        return guarded

    def _refused(self, scope: Scope) -> Response | None:
        """What is answered to who may not see it; None to who may."""
        headers = {name: value.decode("latin-1") for name, value in scope["headers"]}
        host = headers.get(b"host", "").lower()
        if host not in {known.lower() for known in self._hosts}:
            return Response("this is not the name under which the legend is served\n", 421, _HEADERS)
        origin = headers.get(b"origin", "").lower()
        if (origin and origin != f"http://{host}") or headers.get(b"sec-fetch-site", "none") == "cross-site":
            return Response("another page asks, which may not\n", 403, _HEADERS)
        given = scope["path"].split("/")[1] if scope["path"].count("/") >= 2 else ""
        if not hmac.compare_digest(given.encode(), self._secret.encode()):
            return Response("the address is not complete, or is no longer good\n", 403, _HEADERS)
        return None

    async def _file(self, request: Request) -> Response:
        known = _FILES.get(request.path_params["file"])
        if known is None:
            return Response("there is nothing here\n", 404, _HEADERS)
        content = (resources.files("fenko.data") / "legend" / known[0]).read_bytes()
        return Response(content, 200, _HEADERS, f"{known[1]}; charset=utf-8")

    async def _events(self, request: Request) -> Response:
        if self._readers >= _MOST_READERS:
            return Response("too many read along already\n", 503, _HEADERS)
        self._readers += 1
        return _Reading(self._told(), self._gone)

    def _gone(self) -> None:
        self._readers -= 1

    async def _told(self) -> AsyncIterator[bytes]:
        """The newest, each time that there is something new; who is slow misses what was between."""
        seen = -1
        while not self._ends:
            changed = self._changed
            if seen != self._number:
                seen = self._number
                yield b"data: " + self._now + b"\n\n"
                continue
            try:
                await asyncio.wait_for(changed.wait(), _BEAT)
            except TimeoutError:
                yield b": still here\n\n"

    def _tell(self, what: dict[str, Any]) -> None:
        self._number += 1
        self._now = msgspec.json.encode(what | {"number": self._number})
        changed, self._changed = self._changed, asyncio.Event()
        changed.set()

    async def run(self, server: uvicorn.Server, line: socket.socket) -> None:
        """Serves, and follows whatever desk runs."""
        following = asyncio.create_task(self._follow())
        ending = asyncio.create_task(self._until(server))
        try:
            await server.serve([line])
        finally:
            self._ends = True
            for task in (following, ending):
                task.cancel()
            await asyncio.gather(following, ending, return_exceptions=True)

    async def _until(self, server: uvicorn.Server) -> None:
        """Lets the readers go when the server is to end, which would wait for them."""
        while not server.should_exit:
            await asyncio.sleep(0.1)
        self._ends = True
        self._changed.set()

    async def _follow(self) -> None:
        while True:
            try:
                # Others answer within this machine, at once or not at all.
                with RunningDesk(patience=2.0) as running:
                    self._legend.use(running)
                    await self._follow_one(running)
            except (NobodyThere, DeskError):
                self._tell(nobody_there())
            await asyncio.sleep(_AGAIN)

    async def _follow_one(self, running: RunningDesk) -> None:
        loop = asyncio.get_running_loop()
        with contextlib.closing(running.listen("status")) as told:
            ready = asyncio.Event()
            loop.add_reader(told.fileno(), ready.set)
            try:
                while True:
                    await ready.wait()
                    ready.clear()
                    for status in told.arrived()[-1:]:
                        self._tell(shown(self._legend, status, self._wanted))
            finally:
                loop.remove_reader(told.fileno())


def nobody_there() -> dict[str, Any]:
    """What the page is told while there is nothing to show."""
    return {
        "profile": "", "layers": [], "why": "", "paused": False, "surfaces": [],
        "nobody": "No desk is running; it is shown when one does.",
    }  # fmt: skip


def shown(legend: Legend, status: Mapping[str, Any], wanted: tuple[str, ...]) -> dict[str, Any]:
    """What the page is told."""
    return {
        "profile": status["profile"], "layers": status["layers"], "why": why(status), "paused": status["paused"],
        "surfaces": [_surface(view) for view in legend.doing(status, wanted)], "nobody": "",
    }  # fmt: skip


def _surface(view: View) -> dict[str, Any]:
    controls = []
    labels = [one.label for one in view.shown]
    for one in view.shown:
        label = one.label
        by_name = icons.by_name(label.icon)
        controls.append({
            "control": one.meaning.control, "title": on_a_plan(one.meaning.title), "more": label.small,
            "colour": label.colour, "icon": "" if by_name and not icons.known(label.icon) else label.icon,
            "outline": icons.outline(label.icon) if by_name else "", "sort": label.sort, "form": label.spot.form,
            "box": label.box, "under": covered_from(label, labels), "bound": label.bound,
        })  # fmt: skip
    return {
        "name": view.name, "body": view.body, "controls": controls, "together": view.together,
        "pressed": [one.meaning.control for one in view.shown if one.label.lit],
    }  # fmt: skip
