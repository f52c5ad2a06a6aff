"""A server with a management controller: components with versions of their own, power, tasks, sessions.

This is the device; `standin/quernix_redfish.py` puts a Redfish service in front of it. Firmware that was pushed is
written by a task and runs from the next start on, save the controller's own, which the controller restarts for.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping

from gallant.core.records import Record
from gallant.standin.world import World

GOING_S = 2.0
START_S = 240.0
WRITE_S = 180.0


class Firmware(Record):
    """A firmware that the device takes: which component it is for; `card` is every one of them."""

    component: str
    version: str
    sha256: str


class FirmwareTask:
    def __init__(self, number: int, what: str, began: float, lasts: float) -> None:
        self.number, self.what, self.began, self.lasts = number, what, began, lasts
        self.state, self.text = "Running", "writing"

    def percent(self, now: float) -> int:
        if self.state != "Running":
            return 100
        return min(99, int(100 * (now - self.began) / self.lasts)) if self.lasts else 99


class Server:
    """One server. `stopped` and `started` are told when it goes down and comes back, for anyone who lives on it."""

    def __init__(
        self, world: World, name: str, serial: str, versions: Mapping[str, str], firmware: Mapping[str, Firmware]
    ) -> None:
        self.world, self.name, self.serial = world, name, serial
        self.running, self.waiting = dict(versions), dict[str, str]()
        self.firmware = firmware  # by SHA-256
        self.power = "On"
        self.health = "OK"
        self.boots = 1
        self.started_at = world.moment
        self.tasks: list[FirmwareTask] = []
        self.stopped: list[Callable[[], None]] = []
        self.started: list[Callable[[], None]] = []

    def push(self, body: bytes) -> FirmwareTask | None:
        """Take a firmware; None where nobody signed it for this model."""
        self.world.count(self.name, "install")
        known = self.firmware.get(hashlib.sha256(body).hexdigest())
        if known is None:
            return None
        task = self._task("Firmware update", WRITE_S)
        fault = self.world.fault("install_fails_at", self.name, "install")
        if fault is not None:
            self.world.after(
                WRITE_S * fault.value / 100, lambda: self._end(task, "Exception", "the flash cannot be written")
            )
            return task

        def done() -> None:
            at_once = known.component == "controller"  # the controller starts itself again for its own
            held = self.running if at_once else self.waiting
            held.update(
                {p: known.version for p in self.running if p == known.component or p.startswith(f"{known.component}_")}
            )
            when = "runs" if at_once else "runs from the next start on"
            self._end(task, "Completed", f"{known.component} {known.version} {when}")

        self.world.after(WRITE_S, done)
        return task

    def reset(self, kind: str) -> FirmwareTask | None:
        self.world.count(self.name, "restart")
        if kind == "ForceOff":
            self._down()
            return None
        task = self._task("System reset", START_S)
        self.world.after(GOING_S, self._down)
        late = self.world.fault("late_return", self.name, "restart")
        self.world.returns(
            self.name, "restart", GOING_S + START_S + (late.value if late else 0), lambda: self._up(task)
        )
        return task

    def _down(self) -> None:
        self.power = "Off"
        for tell in self.stopped:
            tell()
        self.world.changed()

    def _up(self, task: FirmwareTask) -> None:
        self.power = "On"
        self.boots += 1
        self.started_at = self.world.moment
        self.running |= self.waiting
        self.waiting.clear()
        self._end(task, "Completed", "started")
        for tell in self.started:
            tell()
        self.world.changed()

    def _task(self, what: str, lasts: float) -> FirmwareTask:
        task = FirmwareTask(len(self.tasks) + 1, what, self.world.now, lasts)
        self.tasks.append(task)
        return task

    def _end(self, task: FirmwareTask, state: str, text: str) -> None:
        task.state, task.text = state, text
        self.world.work(self.name, task.what, task.began)
