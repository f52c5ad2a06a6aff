"""Figures served to a collector of this machine (RFC 9110): to its
own names alone, by a few workers, each request within a time."""

from __future__ import annotations

import contextlib
import socket
import threading
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any, TypeAlias

from gallant.core.errors import GallantError, WrongUse
from gallant.operations.after.metrics import text_of
from gallant.operations.ground.workplace import Workplace

Asker: TypeAlias = Any  # the address of who asks, as the library has it: of this machine alone
HERE = "127.0.0.1"
WORKERS, MOST_AT_ONCE = 4, 32  # requests that are answered, and that are held; more are turned away
LIMIT_S = 4.0  # of a request, from its first byte to its last, however slowly it is told


def serve(place: Workplace, port: int) -> None:
    """Serve them on this machine's own address until somebody ends it. Raises `WrongUse` for a port that is taken."""
    try:
        server = _Server((HERE, port), partial(_Handler, place, port))
    except OSError as error:
        raise WrongUse(
            f"Port {port} cannot be had on this machine: {error.strerror}.", next="gallant metrics --serve PORT"
        ) from None
    with server, contextlib.suppress(KeyboardInterrupt):
        server.serve_forever()


class _Server(HTTPServer):
    def __init__(self, *given: Any) -> None:
        self._workers = ThreadPoolExecutor(WORKERS, "metrics")
        self._places = threading.BoundedSemaphore(MOST_AT_ONCE)
        super().__init__(*given)  # which closes it again where the port is taken

    def process_request(self, request: Any, client_address: Asker) -> None:
        if not self._places.acquire(blocking=False):
            self.shutdown_request(request)
            return
        ending = threading.Timer(LIMIT_S, _cut, [request])
        ending.daemon = True
        ending.start()
        self._workers.submit(self._answer, request, client_address, ending)

    def _answer(self, request: socket.socket, client_address: Asker, ending: threading.Timer) -> None:
        try:
            self.finish_request(request, client_address)
        except OSError:
            pass  # who asked is gone, or was too slow
        finally:
            ending.cancel()
            self.shutdown_request(request)
            self._places.release()

    def server_close(self) -> None:
        super().server_close()
        self._workers.shutdown(wait=False, cancel_futures=True)


def _cut(request: socket.socket) -> None:
    with contextlib.suppress(OSError):
        request.shutdown(socket.SHUT_RDWR)


class _Handler(BaseHTTPRequestHandler):
    def __init__(self, place: Workplace, port: int, *given: Any) -> None:
        self._place, self._port = place, port
        super().__init__(*given)

    def do_GET(self) -> None:
        if not self._is_meant():  # a page of anybody's may have its name lead here
            self.send_error(421)
            return
        if self.path.partition("?")[0] != "/metrics":
            self.send_error(404)
            return
        try:
            body = text_of(self._place)
        except GallantError:
            self.send_error(503)
            return
        self.send_response(200)
        self.send_header("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def _is_meant(self) -> bool:
        host = self.headers.get("Host", "").strip().casefold()
        return host in {f"{name}{end}" for name in (HERE, "localhost") for end in ("", f":{self._port}")}

    def log_message(self, *_: object) -> None:
        return
