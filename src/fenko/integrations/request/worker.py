"""Requests at work: HTTP by the standard library, certificates checked, secrets read when they are needed."""

from __future__ import annotations

import http.client
import json
import socket
import ssl
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fenko.core.changes import Effect
from fenko.core.words import parse_time, shortened
from fenko.integrations.request.spec import method_of
from fenko.integrations.wording import entry
from fenko.system.secrets import NoSecret, secret_of
from fenko.workers.worker import Desk, Worker

USUAL_LIMIT, LONGEST_LIMIT = 5.0, 60.0
"""Seconds that a request may take."""
MOST_AT_ONCE = 8
_READ = 1 << 16  # bytes of an answer that are looked at


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the desk's requests."""
    found = tables.get("request")
    return [(f"request {name}", "of the desk") for name in found] if isinstance(found, dict) else []


class RequestWorker(Worker):
    """Each request in a thread, so that a slow server holds up no other."""

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        self._under_way = threading.Semaphore(MOST_AT_ONCE)

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends requests."""
        for _, _, _, name in effects:
            if not self._under_way.acquire(blocking=False):
                self.desk.note(f"Requests: {name} is left out: {MOST_AT_ONCE} others wait for their answers")
                continue
            threading.Thread(target=self._one, args=(name, entry(self.tables, "request", name)), daemon=True).start()

    def _one(self, name: str, table: Mapping[str, Any]) -> None:
        try:
            status, said = ask(table, self.folder)
            if status >= 300:
                self.desk.note(f"Requests: {name}: the server says {status}{f': {said}' if said else ''}")
        except ssl.SSLError as why:
            self.desk.note(
                f"Requests: {name}: the server is not who it should be: {why.reason or why}".replace("_", " ").lower()
            )
        except TimeoutError:
            self.desk.note(f"Requests: {name}: no answer within its time")
        except (NoSecret, ValueError) as why:
            self.desk.note(f"Requests: {name}: {why}")
        except (OSError, http.client.HTTPException) as why:
            reason = getattr(why, "strerror", None) or str(why) or type(why).__name__
            self.desk.note(f"Requests: {name}: {reason.lower()}")
        finally:
            self._under_way.release()


def ask(table: Mapping[str, Any], folder: Path) -> tuple[int, str]:
    """Sends a request; the status of the answer, and the beginning of what it says. Raises OSError, HTTPException, NoSecret
    and ValueError."""
    where = urlsplit(str(table["url"]))
    limit = min(LONGEST_LIMIT, parse_time(str(table["limit"]))) if "limit" in table else USUAL_LIMIT
    headers = {str(name): secret_of(value) for name, value in (table.get("headers") or {}).items()}
    body: bytes | None = None
    if "json" in table:
        body = json.dumps(table["json"]).encode()
        headers.setdefault("Content-Type", "application/json")
    elif "body" in table:
        body = str(table["body"]).encode()
        headers.setdefault("Content-Type", "text/plain; charset=utf-8")
    headers.setdefault("User-Agent", "fenko")
    if any("\n" in value or "\r" in value for value in headers.values()):
        raise ValueError("a header has more than one line")
    line: http.client.HTTPConnection
    if where.scheme == "https":
        ca = table.get("ca")
        context = ssl.create_default_context(cafile=str(folder / str(ca)) if ca else None)
        line = http.client.HTTPSConnection(where.hostname or "", where.port, timeout=limit, context=context)
    else:
        line = http.client.HTTPConnection(where.hostname or "", where.port, timeout=limit)
    # The time limit of a socket is for each piece; this one is for everything.
    over = threading.Event()
    overdue = threading.Timer(limit, lambda: _hang_up(line, over))
    overdue.daemon = True
    overdue.start()
    try:
        path = (where.path or "/") + (f"?{where.query}" if where.query else "")
        line.request(method_of(table), path, body, headers)
        answer = line.getresponse()
        if over.is_set():
            raise TimeoutError  # cut off in the middle, it looks like an end
        said = answer.read(_READ).decode("utf-8", "replace") if answer.status >= 300 else ""
        return answer.status, shortened("".join(c if c.isprintable() else " " for c in said).strip(), 120)
    except (OSError, http.client.HTTPException) as why:
        if over.is_set():
            raise TimeoutError from why
        raise
    finally:
        overdue.cancel()
        line.close()


def _hang_up(line: http.client.HTTPConnection, over: threading.Event) -> None:
    over.set()
    sock = line.sock
    if sock is not None:
        try:
            sock.shutdown(socket.SHUT_RDWR)
        except OSError:
            return
