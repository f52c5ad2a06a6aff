"""An estate in front of real hosts, the program as a user runs it, and clients that never stop asking."""

from __future__ import annotations

import itertools
import re
import shutil
import threading
import time
from collections.abc import Callable
from contextlib import contextmanager
from pathlib import Path

from tests.conftest import Place

from .hosts import Host

HEAD = """\
gallant: estate/1
name: lab
sites: {{hall: {{}}}}
limits: {{steady_s: 3, free_space_factor: 1.0, memory_free_mb: 1}}
backups: {{plain: yes}}
aims: [{{for: default, aim: newest}}]
accounts:
  read: {{user: root, secret: "key:{key}"}}
  act: {{user: root, secret: "key:{key}"}}
systems:
"""


class Lab(Place):
    """A folder with an estate of `hosts`, which all let in the first one's key."""

    patience_s = 900.0

    def __init__(self, folder: Path, hosts: dict[str, Host], system: str) -> None:
        super().__init__(folder)
        self.hosts = hosts
        key = folder / "lab.key"
        key.write_text(next(iter(hosts.values())).key)
        key.chmod(0o600)
        nodes = "".join(
            f"""      {n}: {{address: "ssh://{h.address}", serial: "{h.serial}", fingerprint: "{h.fingerprint}"}}\n"""
            for n, h in hosts.items()
        )
        (folder / "estate.yaml").write_text(HEAD.format(key=key) + system.format(nodes=nodes.rstrip("\n")))

    def follow(self, product: str, scheme: str, releases: list[tuple[str, Path | None]]) -> None:
        """Have a signed catalog of these releases, with their packages, at hand."""
        rows = ""
        for number, (version, package) in enumerate(releases):
            rows += f"      - version: {version!r}\n        released: 2026-0{number + 1}-01T00:00:00Z\n        minutes: {{install: 1, restart: 1, sync: 1}}\n"
            if package is not None:
                shutil.copy(package, self.folder)
                rows += f"        packages: [{{file: {package.name}}}]\n"
        (self.folder / "draft.yaml").write_text(
            f"publisher: hall\nproducts:\n  - name: {product}\n    scheme: {scheme}\n    releases:\n{rows}"
        )
        self.well("catalog", "draft", "draft.yaml")
        signed = self.well("catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key")
        self.well(*re.search(r"gallant (catalog add \S+ \S+ --key \S+)", signed)[1].split())
        self.well("catalog", "sync")

    def well(self, *words: str) -> str:
        """Run a command that has to end well; what it says."""
        done = self.run(*words)
        assert done.code == 0, f"{words}: {done.code}\n{done.out}\n{done.err}"
        return done.out


class Asking:
    """Does one thing again and again in a thread, and keeps when it went well.

    A stretch counts as long as this client asked in it: of a pause between two tries
    that lasted longer than it was meant to, because this machine ran something else,
    only what it was meant to. What hangs while it is tried counts whole.
    """

    def __init__(self, once: Callable[[int], object], every_s: float) -> None:
        self._once, self._every_s = once, every_s
        self.done: list[int] = []
        self.failed, self._asked_s = 0, 0.0
        self._well: list[tuple[float, float]] = []  # each success: seconds asked so far, and the time of day
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._ask, daemon=True)

    def _ask(self) -> None:
        number, ended = 0, time.monotonic()
        while not self._over.is_set():
            number += 1
            begun = time.monotonic()
            try:
                self._once(number)
                went_well = True
            except OSError:
                went_well = False
            pause, ended = min(begun - ended, self._every_s), time.monotonic()
            self._asked_s += pause + ended - begun
            if went_well:
                self._well.append((self._asked_s, time.time()))
                self.done.append(number)
            else:
                self.failed += 1
            self._over.wait(self._every_s)

    @property
    def longest_s(self) -> float:
        """The longest stretch in which nothing went well, from the first success to the end."""
        return self.longest[0]

    @property
    def longest(self) -> tuple[float, str]:
        """The longest stretch, and when it began (UTC)."""
        moments = [*self._well, (self._asked_s, 0.0)]
        length, began = max((after[0] - before[0], before[1]) for before, after in itertools.pairwise(moments))
        return length, time.strftime("%H:%M:%SZ", time.gmtime(began))

    def has_begun(self) -> None:
        until = time.monotonic() + 20
        while len(self._well) < 3:
            assert time.monotonic() < until, "nothing went well yet"
            time.sleep(0.02)


@contextmanager
def asking(once: Callable[[int], object], every_s: float):
    """Asks from the first success on until the block ends."""
    asked = Asking(once, every_s)
    asked._thread.start()
    try:
        asked.has_begun()
        yield asked
    finally:
        asked._over.set()
        asked._thread.join(20)


def until(holds: Callable[[], bool], within_s: float = 60) -> None:
    """Wait until it holds."""
    end = time.monotonic() + within_s
    while not holds():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.1)
