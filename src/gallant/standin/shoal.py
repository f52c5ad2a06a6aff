"""A pair of storage nodes: two slots each, a replica between them, a service address with whichever is active.

This is the device, not its protocol: `standin/shoal_http.py` puts a server in front of it, and a simulation calls it
directly. It speaks the device's own words, which are not Gallant's.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping

from gallant.core.records import Record, rfc3339
from gallant.core.versions import parse, parse_range
from gallant.standin.world import World

# Real seconds in which the service address is with nobody while it moves.
MOVE_GAP_S = 0.8
# Estate seconds between an order to restart and the node's going.
GOING_S = 2.0
COPY_S = 240.0
START_FROM_S = 5.0
MIB = 1024 * 1024
SYSTEM_BYTES = 24 * 1024
VOLUMES_BYTES = 180 * 1024


class Image(Record):
    """What the device knows of a release: how long it takes (estate seconds), its build, and what it installs on."""

    version: str
    build: str
    label: str
    sha256: str
    bytes: int
    install_s: float
    restart_s: float
    sync_s: float
    from_range: str | None = None


class Denied(Exception):
    """The device says no, with a status in HTTP's sense and a message in its own words."""

    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status
        self.message = message


class PairTask:
    def __init__(self, number: int, what: str, release: str, began: float, lasts: float) -> None:
        self.number, self.what, self.release = number, what, release
        self.began, self.lasts = began, lasts
        self.state = "busy"
        self.stopped_at: float | None = None
        self.text = ""

    def percent(self, now: float) -> float:
        if self.state == "complete":
            return 100.0
        until = now if self.stopped_at is None else self.stopped_at
        return min(99.0, max(0.0, 100.0 * (until - self.began) / self.lasts)) if self.lasts else 99.0

    def words(self, now: float) -> str:
        if self.text:
            return self.text
        share = self.percent(now)
        for least, text in (
            (85, "checking what was written"),
            (12, f"writing {self.release} to the spare bay"),
            (0, "unpacking"),
        ):
            if share >= least:
                return text if self.what == "install" else self.what
        return self.what


class ShoalNode:
    def __init__(self, name: str, serial: str, network: str, version: str) -> None:
        self.name, self.serial, self.network = name, serial, network
        self.bays: dict[str, str] = {"left": version, "right": ""}
        self.runs_from = self.boots_from = "left"
        self.up = True
        self.boots = 1
        self.packages: dict[str, tuple[str, int]] = {}
        self.tasks: list[PairTask] = []
        self.down_since: float | None = None
        self.links_up_at = 0.0
        self.roots = "2025.2"

    @property
    def version(self) -> str:
        return self.bays[self.runs_from]

    @property
    def next_version(self) -> str:
        return self.bays[self.boots_from]

    @property
    def spare(self) -> str:
        """The release in the bay that it does not run from; empty where there is none."""
        return self.bays["right" if self.runs_from == "left" else "left"]

    @property
    def boot(self) -> str:
        return f"{self.serial}#{self.boots}"

    @property
    def busy_task(self) -> PairTask | None:
        return next((t for t in self.tasks if t.state == "busy"), None)


class PairSnapshot(Record):
    """A restore point of the pair: how often each export had been changed when it was taken."""

    name: str
    taken: str
    bytes: int
    changes: dict[str, int]


class ShoalPair:
    """Two nodes that keep one another's data. `active` is None while the address moves or nobody serves."""

    def __init__(
        self,
        world: World,
        name: str,
        nodes: Mapping[str, ShoalNode],
        images: Mapping[str, Image],
        active: str,
        free_bytes: int = 900 * MIB,
    ) -> None:
        self.world, self.name, self.nodes, self.images = world, name, dict(nodes), dict(images)
        self.active: str | None = active
        self.going_to: str | None = None
        self.free_bytes = free_bytes
        self.synced_at: float | None = 0.0  # when the replica is whole again; None: it does not get whole by itself
        self.move_gap_s = MOVE_GAP_S
        self.link_hold_s = 0.0  # how long links stay down after a start
        self._generation = 0
        self.blocks_read = 0
        self.broken: list[str] = []
        self.snapshots: list[PairSnapshot] = []
        self.root_lists: dict[str, str] = {}  # SHA-256 → version
        self.service_addresses: tuple[str, ...] = ()  # they go with the active role
        self.changes: dict[str, int] = {}  # how often each export was changed

    # --- what can be seen

    def other(self, name: str) -> ShoalNode | None:
        """The other node; None for a box that stands alone."""
        return next((node for key, node in self.nodes.items() if key != name), None)

    @property
    def serving(self) -> str | None:
        """The node that answers at the service address now."""
        return self.active if self.active and self.nodes[self.active].up else None

    def role(self, name: str) -> str:
        if self.active == name:
            return "serving"
        return "taking-over" if self.going_to == name else "shadowing"

    def links_up(self, name: str) -> bool:
        return self.nodes[name].up and self.world.now >= self.nodes[name].links_up_at

    def replica(self) -> tuple[str, float]:
        """The replica's state in the device's words, and the seconds until it is whole."""
        if not all(node.up for node in self.nodes.values()):
            return "apart", 0.0
        if not self._compatible():
            return "estranged", 0.0
        if self.synced_at is None:
            return "catching-up", 3600.0
        left = self.synced_at - self.world.now
        return ("catching-up", left) if left > 0 else ("matched", 0.0)

    def _compatible(self) -> bool:
        """Whether the two running releases can keep a replica: one installs on the other."""
        versions = [parse("dotted", node.version) for node in self.nodes.values()]
        older, newer = min(versions), max(versions)
        if older == newer:
            return True
        allowed = self.images[newer.text].from_range
        return allowed is None or older in parse_range(allowed)

    def updates(self, name: str) -> list[str]:
        """The device's own list of updates: what installs on what it runs, as far as it has heard; it hears late."""
        running = parse("dotted", self.nodes[name].version)
        return [
            image.version
            for image in self.images.values()
            if parse("dotted", image.version) > running
            and (image.from_range is None or running in parse_range(image.from_range))
        ]

    # --- orders

    def order(self, name: str, what: str, package: str = "") -> PairTask:
        """Take an order; gives the task that carries it out. Raises `Denied`."""
        node = self.nodes[name]
        if (task := node.busy_task) is not None:
            raise Denied(409, f"busy: task {task.number} ({task.what}) is not finished")
        handler = {
            "install": self._install,
            "restart": self._restart,
            "start-from": self._start_from,
            "copy-over": self._copy_over,
            "yield": self._yield,
            "reclaim": self._reclaim,
        }.get(what)
        if handler is None:
            raise Denied(400, f"no such order: {what}")
        return handler(node, package)

    def _task(self, node: ShoalNode, what: str, release: str, lasts: float) -> PairTask:
        task = PairTask(len(node.tasks) + 1, what, release, self.world.now, lasts)
        node.tasks.append(task)
        return task

    def _install(self, node: ShoalNode, package: str) -> PairTask:
        if package not in node.packages:
            raise Denied(404, f"no package {package} here")
        digest, _ = node.packages[package]
        image = next((i for i in self.images.values() if i.sha256 == digest), None)
        if image is None:
            raise Denied(422, f"package {package} is damaged or not signed for this model")
        if image.from_range and parse("dotted", node.version) not in parse_range(image.from_range):
            raise Denied(409, f"{image.version} does not install on {node.version}")
        task = self._task(node, "install", image.version, image.install_s)
        fault = self.world.fault("install_fails_at", self._full(node), "install")
        generation = node.boots
        if fault is not None:
            self.world.after(
                image.install_s * fault.value / 100,
                lambda: self._fail(node, task, "write error in the spare bay, code 71"),
            )
            return task

        def finish() -> None:
            if node.boots != generation or not node.up:
                self._fail(node, task, "interrupted by a restart")
                return
            spare = "right" if node.runs_from == "left" else "left"
            wrong = self.world.fault("wrong_version_after", self._full(node), "install")
            node.bays[spare] = node.version if wrong else image.version
            node.boots_from = spare
            self._complete(node, task, f"{image.version} is in the {spare} bay and runs from the next start on")

        self.world.after(image.install_s, finish)
        return task

    def _start_from(self, node: ShoalNode, release: str) -> PairTask:
        """Choose the bay to start from by the release that it holds; nothing is written."""
        bay = next((bay for bay, version in node.bays.items() if version == release and version), None)
        if bay is None:
            raise Denied(404, f"no bay has {release}")
        task = self._task(node, "start-from", release, START_FROM_S)

        def chosen() -> None:
            node.boots_from = bay
            self._complete(node, task, f"{release} in the {bay} bay runs from the next start on")

        self.world.after(START_FROM_S, chosen)
        return task

    def _copy_over(self, node: ShoalNode, package: str) -> PairTask:
        """Copy the bay that it runs from over the other one."""
        task = self._task(node, "copy-over", node.version, COPY_S)
        spare = "right" if node.runs_from == "left" else "left"

        def copied() -> None:
            node.bays[spare] = node.version
            self._complete(node, task, f"the {spare} bay holds {node.version} too")

        self.world.after(COPY_S, copied)
        return task

    def _restart(self, node: ShoalNode, package: str) -> PairTask:
        restart_s = self.images[node.next_version].restart_s
        task = self._task(node, "restart", node.next_version, restart_s)
        self.world.after(GOING_S, lambda: self._go_down(node, task, restart_s))
        return task

    def _go_down(self, node: ShoalNode, task: PairTask, restart_s: float) -> None:
        node.up = False
        node.down_since = self.world.now
        self.synced_at = None
        if self.active == node.name:  # nobody had handed over: the other takes the address if it can
            self.active = None
            partner = self.other(node.name)
            self.broken.append(f"{node.name} went down while serving")
            if partner is not None and partner.up:
                self._move(partner.name, self.move_gap_s)
        self.world.changed()
        late = self.world.fault("late_return", self._full(node), "restart")
        lasts = restart_s + (late.value if late else 0)
        self.world.returns(self._full(node), "restart", lasts, lambda: self._come_back(node, task))

    def _come_back(self, node: ShoalNode, task: PairTask) -> None:
        node.up = True
        node.boots += 1
        node.links_up_at = self.world.now + self.link_hold_s
        node.runs_from = node.boots_from
        began = task.began
        node.down_since = None
        self._complete(node, task, f"started with {node.version}", began)
        if self.active is None and self.going_to is None:
            self.active = node.name
        self._resync(node)
        self.world.changed()

    def _resync(self, node: ShoalNode) -> None:
        if self.world.fault("sync_stuck", self._full(node), "restart"):
            self.synced_at = None
            return
        began, lasts = self.world.now, self.images[node.version].sync_s
        self.synced_at = began + lasts
        self.world.after(lasts, lambda: self.world.work(self._full(node), "sync", began))

    def _yield(self, node: ShoalNode, package: str) -> PairTask:
        if self.active != node.name:
            raise Denied(409, "already shadowing")
        return self._give(node, self.other(node.name), "yield")

    def _reclaim(self, node: ShoalNode, package: str) -> PairTask:
        if self.active == node.name:
            raise Denied(409, "already serving")
        return self._give(self.other(node.name), node, "reclaim", asked=node)

    def _give(
        self, giver: ShoalNode | None, taker: ShoalNode | None, what: str, asked: ShoalNode | None = None
    ) -> PairTask:
        if giver is None or taker is None:
            raise Denied(409, "this box stands alone")
        if self.replica()[0] != "matched":
            raise Denied(409, f"the replica is {self.replica()[0]}; nothing is handed over now")
        holder = asked or giver
        task = self._task(holder, what, "", self.world.real(self.move_gap_s))
        if self.world.fault("role_stuck", self._full(holder), what):
            self.world.after(
                self.world.real(self.move_gap_s), lambda: self._fail(holder, task, "the other node does not take over")
            )
            return task
        self.active = None
        began = self.world.now
        self._move(taker.name, self.move_gap_s, lambda: self._complete(holder, task, f"{taker.name} serves", began))
        self.world.changed()
        return task

    def _move(self, to: str, gap_real_s: float, then: object = None) -> None:
        self._generation += 1
        generation, self.going_to = self._generation, to

        def arrive() -> None:
            if generation != self._generation:
                return
            self.going_to = None
            if self.nodes[to].up:
                self.active = to
            if callable(then):
                then()
            self.world.changed()

        self.world.after(self.world.real(gap_real_s), arrive)

    def _complete(self, node: ShoalNode, task: PairTask, text: str, began: float | None = None) -> None:
        task.state, task.text = "complete", text
        self.world.work(self._full(node), task.what, task.began if began is None else began)

    def _fail(self, node: ShoalNode, task: PairTask, text: str) -> None:
        task.stopped_at = self.world.now
        task.state, task.text = "broken", text
        self.world.work(self._full(node), task.what, task.began)

    def _full(self, node: ShoalNode) -> str:
        return f"{self.name}/{node.name}"

    # --- packages and exports

    def keep(self, name: str, package: str, body: bytes) -> str:
        """Keep an uploaded package; gives the digest that the device computed."""
        node = self.nodes[name]
        if self.world.fault("corrupt_package", self._full(node), "upload"):
            body = body[:-1] + bytes([body[-1] ^ 1]) if body else b"\0"
        if len(body) > self.free_bytes:
            raise Denied(507, "no space left for packages")
        digest = hashlib.sha256(body).hexdigest()
        if not self.world.fault("empty_word", self._full(node), "upload"):
            node.packages[package] = (digest, len(body))
        return digest

    def take_roots(self, name: str, body: bytes) -> str:
        """Take a list of trusted roots, which counts at once. Raises `Denied`."""
        version = self.root_lists.get(hashlib.sha256(body).hexdigest())
        if version is None:
            raise Denied(422, "that is no list of roots")
        self.nodes[name].roots = version
        return version

    def remove(self, name: str, package: str) -> None:
        if not self.world.fault("empty_word", self._full(self.nodes[name]), "unload"):
            self.nodes[name].packages.pop(package, None)

    def free(self, name: str) -> int:
        return self.free_bytes - sum(size for _, size in self.nodes[name].packages.values())

    def export(self, name: str, what: str) -> bytes:
        """One of the device's two exports. Raises `Denied`."""
        node = self.nodes[name]
        if self.world.fault("disk_full", self._full(node), "export"):
            raise Denied(507, "no space left for exports")
        size = {"system": SYSTEM_BYTES, "volumes": VOLUMES_BYTES}.get(what)
        if size is None:
            raise Denied(404, f"no such export: {what}")
        rows = {
            "password": f"of-{self.name}-{self.changes.get(what, 0)}",
            "changed": str(self.changes.get(what, 0)),
        } | {
            f"{what}-{i:05d}": hashlib.sha256(f"{self.name} {what} {i}".encode()).hexdigest() for i in range(size // 90)
        }
        head = {"system": self.name, "export": what, "version": node.version}
        return json.dumps({**head, "entries": rows}, indent=1).encode()

    # --- restore points

    def snapshot(self, name: str) -> None:
        """Keep a restore point. Raises `Denied`."""
        if any(s.name == name for s in self.snapshots):
            raise Denied(409, "already there")
        self.snapshots.append(
            PairSnapshot(name=name, taken=rfc3339(self.world.moment), bytes=40_000_000, changes=dict(self.changes))
        )

    def forget_snapshot(self, name: str) -> None:
        before = len(self.snapshots)
        self.snapshots = [s for s in self.snapshots if s.name != name]
        if len(self.snapshots) == before:
            raise Denied(404, f"no restore point {name}")

    def revert(self, name: str) -> None:
        found = next((s for s in self.snapshots if s.name == name), None)
        if found is None:
            raise Denied(404, f"no restore point {name}")
        self.changes = dict(found.changes)

    def restore(self, what: str, body: bytes) -> None:
        """Take an export back: from then on the configuration is as it was. Raises `Denied`."""
        try:
            said = json.loads(body)
            mine = said["system"] == self.name and said["export"] == what
            changed = int(said["entries"]["changed"])
        except (ValueError, KeyError, TypeError):
            raise Denied(422, "that is not an export") from None
        if not mine:
            raise Denied(422, "that is an export of another system, or of another kind")
        if said["version"] not in {node.version for node in self.nodes.values()}:
            raise Denied(422, f"an export of {said['version']} cannot be taken here")
        self.changes[what] = changed

    def change(self, what: str = "system") -> None:
        """Somebody changes the configuration at the console."""
        self.changes[what] = self.changes.get(what, 0) + 1

    def block(self, number: int) -> bytes:
        """A data block, the same whichever node serves it and whatever it runs."""
        self.blocks_read += 1
        return hashlib.sha256(f"{self.name} block {number}".encode()).hexdigest().encode()
