"""The program without the second that its imports take: a process that has
them all already, and becomes the program once for every command.

    python tests/warm.py SOCKET       # until its stdin ends

Each command is a process of its own all the same, forked before it knows anything: with
its own folder, environment, streams, signals and exit code. What is killed on its way, and
what a terminal or the interpreter itself is asked for, starts as a user starts it.
"""

from __future__ import annotations

import atexit
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import runpy
import select
import selectors
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Iterable
from pathlib import Path
from typing import IO

# What the program imports only where it needs it.
LATER = [
    "aiohttp",
    "aiohttp.web",
    "asyncssh",
    "cryptography.x509",
    "icalendar",
    "jmespath",
    "keyring",
    "lxml.etree",
    "lxml.html",
    "matplotlib.figure",
    "matplotlib.backends.backend_agg",
    "numpy",
    "prometheus_client",
    "pyrage",
    "pysequoia",
    "rich.live",
    "rich.progress",
    "rich.table",
    "scipy.optimize",
]
LARGEST = 1 << 20  # bytes of one command with its environment
INTERPRETER = ("PYTHON", "LC_", "LANG")  # names of what only a fresh interpreter hears


# --- in the process that is kept warm


def _import_all() -> None:
    import gallant

    for found in pkgutil.walk_packages(gallant.__path__, "gallant."):
        if not found.name.endswith("__main__"):
            importlib.import_module(found.name)
    for name in LATER:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    gc.collect()
    gc.freeze()


def _become(asked: dict, streams: list[int]) -> None:
    """Be the program from here on; never returns."""
    for target, stream in enumerate(streams):
        os.dup2(stream, target)
        os.close(stream)
    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, signal.default_int_handler if one == signal.SIGINT else signal.SIG_DFL)
    os.chdir(asked["cwd"])
    os.umask(asked["umask"])
    os.environ.clear()
    os.environ.update(asked["env"])
    time.tzset()
    sys.argv = [asked["module"], *asked["words"]]
    if asked["apart"]:
        os.setsid()
    sys.stdin = open(0, encoding="utf-8", closefd=False)
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False)
    code = 1
    try:
        runpy.run_module(asked["module"], run_name="__main__", alter_sys=True)
        code = 0
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        # as an interpreter ends: its threads, its exit functions, what it holds (files, stores), its streams
        threading._shutdown()
        atexit._run_exitfuncs()
        gc.collect()
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
        os._exit(code)


def serve(path: str) -> None:
    _import_all()
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(f"{path}.new")
    listening.listen(16)
    os.rename(f"{path}.new", path)  # whoever sees it may connect: a socket that does not listen yet refuses
    waiting = selectors.DefaultSelector()
    waiting.register(listening, selectors.EVENT_READ)
    waiting.register(0, selectors.EVENT_READ)
    while True:
        for key, _ in waiting.select():
            if key.fd == 0:
                return
            if key.fileobj is listening:
                asked = listening.accept()[0]
                said, streams, _, _ = socket.recv_fds(asked, LARGEST, 3)
                if (pid := os.fork()) == 0:
                    listening.close()
                    waiting.close()
                    asked.close()
                    _become(json.loads(said), streams)
                for stream in streams:
                    os.close(stream)
                asked.sendall(f"{pid}\n".encode())
                waiting.register(os.pidfd_open(pid), selectors.EVENT_READ, (pid, asked))
            else:
                pid, asked = key.data
                code = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
                waiting.unregister(key.fd)
                os.close(key.fd)
                with contextlib.suppress(OSError):
                    asked.sendall(f"{code}\n".encode())
                asked.close()


# --- in the tests


class Child:
    """One process, as `subprocess.Popen` has it as far as is wanted here."""

    stdin: IO[str] | None = None
    stdout: IO[str] | None = None

    def __init__(self, words: tuple[str, ...], said: socket.socket) -> None:
        self.words, self._said, self._heard = words, said, said.makefile()
        self.pid = int(self._heard.readline())

    def wait(self, timeout: float | None = None) -> int:
        if not select.select([self._said], [], [], timeout)[0]:
            raise subprocess.TimeoutExpired(self.words, timeout or 0)
        with self._said, self._heard:
            return int(self._heard.readline())

    def kill(self) -> None:
        os.kill(self.pid, signal.SIGKILL)


class Warm:
    """The process that is kept warm, begun when it is first wanted."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._path: str | None = None

    def _begun(self) -> str:
        with self._lock:
            if self._path is None:
                folder = tempfile.mkdtemp(prefix="warm")
                path = str(Path(folder) / "s")
                process = subprocess.Popen([sys.executable, __file__, path], stdin=subprocess.PIPE)
                atexit.register(process.communicate)
                until = time.monotonic() + 60
                while not Path(path).exists():
                    assert process.poll() is None, "it ended before it was warm"
                    assert time.monotonic() < until, "it does not get warm"
                    time.sleep(0.02)
                self._path = path
            return self._path

    def run(
        self, words: tuple[str, ...], cwd: Path, env: dict[str, str], timeout: float
    ) -> subprocess.CompletedProcess[str]:
        """As `subprocess.run` with its output captured, and nothing on its stdin."""
        with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, open(os.devnull, "rb") as nothing:
            child = self._begin("gallant", words, cwd, env, (nothing, out, err))
            try:
                code = child.wait(timeout)
            except subprocess.TimeoutExpired:
                child.kill()
                raise subprocess.TimeoutExpired(words, timeout, _read(out), _read(err)) from None
            return subprocess.CompletedProcess(words, code, _text(out), _text(err))

    def standins(self, errors: IO[str]) -> Child:
        """The process of the stand-ins, which ends when its stdin does."""
        (theirs, said), (heard, answers) = os.pipe(), os.pipe()
        with open(theirs) as asked, open(answers, "w") as told:
            child = self._begin("gallant.standin", (), Path.cwd(), dict(os.environ), (asked, told, errors), apart=True)
        child.stdin, child.stdout = open(said, "w"), open(heard)
        return child

    def _begin(
        self,
        module: str,
        words: tuple[str, ...],
        cwd: Path,
        env: dict[str, str],
        streams: Iterable,
        apart: bool = False,
    ) -> Child:
        umask = os.umask(0o077)
        os.umask(umask)
        asked = {"module": module, "words": words, "cwd": str(cwd), "env": env, "umask": umask, "apart": apart}
        said = socket.socket(socket.AF_UNIX)
        said.connect(self._begun())
        socket.send_fds(said, [json.dumps(asked).encode()], [one.fileno() for one in streams])
        return Child(words, said)


def _read(file) -> bytes:
    file.seek(0)
    return file.read()


def _text(file) -> str:
    return _read(file).decode().replace("\r\n", "\n")


if __name__ == "__main__":
    serve(sys.argv[1])
