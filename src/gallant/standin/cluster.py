"""Members that share work: a fabric's switches, a cluster's hosts, a manager that stands alone.

The device kind, not its protocol: who leads, what runs where, draining and refilling, what a restart takes away and for
how long. A member that lives on another machine stops when that stops, and starts again with it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime

from gallant.standin.shoal import Denied, Image, PairTask
from gallant.standin.world import World

GOING_S = 2.0
DRAIN_S = 40.0
HAND_OVER_S = 3.0
REVERT_S = 60.0
BELOW_S = 120.0  # from the start of a machine to that of what lives on it
PART_S = 60.0
SHARED_FROM = 9001  # where the numbers of tasks of the whole cluster begin


@dataclass(frozen=True)
class PartImage:
    """What a member's part takes: which parts (by the start of their names), and whether it runs at once."""

    part: str
    version: str
    at_once: bool


class Member:
    """One member: what it runs and will run, and which guests it carries."""

    def __init__(self, name: str, serial: str, version: str, guests: int = 0) -> None:
        self.name, self.serial, self.version, self.next_version = name, serial, version, version
        self.guests = [f"guest-{name}-{n}" for n in range(guests)]
        self.up = True
        self.powered = True  # the machine below it
        self.drained = False
        self.boots = 1
        self.links_up_at = 0.0
        self.in_sync_at = 0.0
        self.tasks: list[PairTask] = []
        self.packages: dict[str, tuple[str, int]] = {}
        self.parts: dict[str, str] = {}
        self.next_parts: dict[str, str] = {}

    @property
    def boot(self) -> str:
        return f"{self.serial}#{self.boots}"

    def tasks_with(self, shared: list[PairTask]) -> list[PairTask]:
        """Its own tasks, and those of the whole cluster, of which every member tells."""
        return [*self.tasks, *shared]

    @property
    def busy(self) -> PairTask | None:
        return next((task for task in self.tasks if task.state == "busy"), None)


@dataclass(frozen=True)
class GuestSnapshot:
    """A restore point of a guest: what its members ran, and would run, when it was taken."""

    name: str
    guest: str
    taken: datetime
    members: dict[str, tuple[str, str]]


class Cluster:
    """Members with a leader among them. `link_hold_s` is how long uplinks stay down after a start."""

    def __init__(
        self,
        world: World,
        name: str,
        members: Mapping[str, Member],
        images: Mapping[str, Image],
        leader: str | None = None,
        link_hold_s: float = 0.0,
        sync_s: float = 0.0,
    ) -> None:
        self.world, self.name, self.members, self.images = world, name, dict(members), dict(images)
        self.leader, self.link_hold_s, self.sync_s = leader, link_hold_s, sync_s
        self.waiting: list[str] = []  # guests that have nowhere to run
        self.broken: list[str] = []
        self.carried: dict[str, Cluster] = {}  # guests that are machines of this world too
        self.tied: dict[str, str] = {}  # guests that cannot move from the host that they are on, and why
        self.snapshots: list[GuestSnapshot] = []  # of guests, wherever in the cluster they run
        self.part_images: dict[str, PartImage] = {}  # by SHA-256
        self.formats: dict[
            str, tuple[str, str]
        ] = {}  # a part that is raised: to what, and what every member has to run
        self.settings: dict[str, dict[str, str]] = {}  # by member, or under "" what all share
        self.shared: list[PairTask] = []  # tasks of the whole cluster
        self.stopped: dict[str, list[Callable[[], None]]] = {}  # by member, what is told of it
        self.started: dict[str, list[Callable[[], None]]] = {}

    def full(self, name: str) -> str:
        return f"{self.name}/{name}"

    # --- what can be seen

    def role(self, name: str) -> str:
        if len(self.members) == 1:
            return "alone"
        return "leading" if self.leader == name else "following"

    def links_up(self, name: str) -> bool:
        return self.members[name].up and self.world.now >= self.members[name].links_up_at

    def sync(self, name: str) -> tuple[str, float]:
        left = self.members[name].in_sync_at - self.world.now
        return ("behind", left) if left > 0 else ("level", 0.0)

    # --- restore points of guests, and settings

    def snapshot(self, guest: str, name: str) -> None:
        """Keep a guest as it is. Raises `Denied`."""
        if any((s.guest, s.name) == (guest, name) for s in self.snapshots):
            raise Denied(409, "already there")
        carried = self.carried.get(guest)
        kept = {n: (m.version, m.next_version) for n, m in carried.members.items()} if carried is not None else {}
        self.snapshots.append(GuestSnapshot(name, guest, self.world.moment, kept))

    def kept(self, guest: str, name: str) -> GuestSnapshot:
        found = next((s for s in self.snapshots if (s.guest, s.name) == (guest, name)), None)
        if found is None:
            raise Denied(404, "no such restore point")
        return found

    def revert(self, guest: str, name: str) -> None:
        """The guest starts again as it was then. Raises `Denied`."""
        found, carried = self.kept(guest, name), self.carried.get(guest)
        for member, (version, following) in found.members.items():
            assert carried is not None  # only of those is anything kept
            carried.halt(member)
            carried.members[member].version, carried.members[member].next_version = version, following
            self.world.after(REVERT_S, lambda m=member: carried.start(m))  # type: ignore[misc]

    def settings_of(self, who: str) -> dict[str, str]:
        return self.settings.setdefault(who, {f"s{n}": str(n) for n in range(60)})

    # --- orders

    def order(self, name: str, what: str, package: str = "") -> PairTask:
        """Take an order; gives the task that carries it out. Raises `Denied`."""
        member = self.members[name]
        steering: dict[str, Callable[[], PairTask]] = {
            "pause": self._pause,
            "go-on": self._go_on,
            "give-up": self._give_up,
        }
        if what in steering:
            return steering[what]()
        self._refuse_busy(member)
        handlers: dict[str, Callable[[Member, str], PairTask]] = {
            "update-all": self._update_all,
            "install": self._install,
            "install-part": self._install_part,
            "raise": self._raise,
            "restart": lambda m, _: self._restart(m),
            "hand-over": lambda m, _: self._hand_over(m),
            "lead": lambda m, _: self._lead(m),
            "drain": lambda m, _: self._drain(m),
            "refill": lambda m, _: self._refill(m),
        }
        if what not in handlers:
            raise Denied(400, f"no such order: {what}")
        return handlers[what](member, package)

    def _refuse_busy(self, member: Member) -> None:
        every = [*member.tasks, *self.shared]
        task = next((task for task in every if task.state in ("busy", "paused")), None)
        if task is not None:
            raise Denied(409, f"busy: task {task.number} ({task.what}) is not finished")

    # --- all members by one order

    def _update_all(self, member: Member, package: str) -> PairTask:
        """Bring every member to a release, one after the other, whoever leads last of all."""
        digest = member.packages.get(package, ("", 0))[0]
        image = next((i for i in self.images.values() if i.sha256 == digest), None)
        if image is None:
            raise Denied(422, f"{package} is not here, or not signed for this model")
        if lacking := [
            m.name for m in self.members.values() if m.version != image.version and package not in m.packages
        ]:
            raise Denied(422, f"{package} is not on {', '.join(lacking)}")
        self.world.count(self.full(member.name), "update-all")
        each = image.install_s + image.restart_s + self.sync_s
        behind = sum(m.version != image.version for m in self.members.values())
        task = PairTask(SHARED_FROM + len(self.shared), "update-all", image.version, self.world.now, each * behind)
        self.shared.append(task)
        self.world.after(GOING_S, lambda: self._next_of(task, image))
        return task

    def _next_of(self, task: PairTask, image: Image) -> None:
        """The next member's turn; two at once where the night has the cluster take no care."""
        if task.state == "pausing":
            task.state, task.text = "paused", "stands still between two members"
        if task.state != "busy":
            return
        behind = sorted(
            (m for m in self.members.values() if m.version != image.version), key=lambda m: m.name == self.leader
        )
        if not behind:
            task.state, task.text = "complete", f"every member runs {image.version}"
            return
        careless = self.world.fault("careless", self.full(behind[0].name), "update-all") is not None
        together = behind[: 2 if careless else 1]
        for member in together:
            self._update_one(task, member, image, last=member is together[-1])

    def _update_one(self, task: PairTask, member: Member, image: Image, last: bool) -> None:
        task.text = f"{member.name}: writing {image.version}"
        if self.world.fault("install_fails_at", self.full(member.name), "update-all"):
            self.world.after(image.install_s / 2, lambda: self._broke(task, f"{member.name}: cannot write"))
            return

        def down() -> None:
            if task.state == "broken":
                return
            if self.leader == member.name and (
                others := [n for n, m in self.members.items() if m.up and m is not member]
            ):
                self.leader = others[0]
            member.next_version = image.version
            task.text = f"{member.name}: starting {image.version}"
            self.halt(member.name)
            self.world.returns(self.full(member.name), "update-all", image.restart_s, back)

        def back() -> None:
            self.start(member.name)
            task.text = f"{member.name}: waits until all is level"
            if last:
                self.world.after(self.sync_s, lambda: self._next_of(task, image))

        self.world.after(image.install_s, down)

    def _broke(self, task: PairTask, text: str) -> None:
        task.state, task.text, task.stopped_at = "broken", text, self.world.now

    @property
    def _under_way(self) -> PairTask:
        task = next((t for t in self.shared if t.state in ("busy", "pausing", "paused")), None)
        if task is None:
            raise Denied(409, "nothing is under way")
        return task

    def _pause(self) -> PairTask:
        task = self._under_way
        if task.state != "busy":
            raise Denied(409, f"already {task.state}")
        task.state = "pausing"
        return task

    def _go_on(self) -> PairTask:
        task = self._under_way
        if task.state == "busy":
            raise Denied(409, "already going")
        stood = task.state == "paused"
        task.state, task.text = "busy", ""
        if stood:
            image = self.images[task.release]
            self.world.after(GOING_S, lambda: self._next_of(task, image))
        return task

    def _give_up(self) -> PairTask:
        """What is under way at one member is brought to its end; nothing more is begun."""
        task = self._under_way
        self._broke(task, "given up")
        return task

    def keep(self, name: str, package: str, body: bytes) -> str:
        import hashlib

        digest = hashlib.sha256(body).hexdigest()
        self.members[name].packages[package] = (digest, len(body))
        return digest

    def fetch(self, name: str) -> PairTask:
        """A member begins to fetch a package by itself; `fetched` ends it."""
        member = self.members[name]
        self._refuse_busy(member)
        return self._task(member, "fetch", "", 30.0)

    def fetched(self, name: str, task: PairTask, package: str, body: bytes | None, text: str) -> None:
        if body is not None:
            if self.world.fault("corrupt_package", self.full(name), "fetch"):
                body = body[:-1] + bytes([body[-1] ^ 1])
            self.keep(name, package, body)
        self._end(self.members[name], task, "broken" if body is None else "complete", text)

    def _install(self, member: Member, package: str) -> PairTask:
        digest = member.packages.get(package, ("", 0))[0]
        image = next((i for i in self.images.values() if i.sha256 == digest), None)
        if image is None:
            raise Denied(422, f"{package} is not here, or not signed for this model")
        task = self._task(member, "install", image.version, image.install_s)
        fault = self.world.fault("install_fails_at", self.full(member.name), "install")
        if fault is not None:
            self.world.after(
                image.install_s * fault.value / 100, lambda: self._end(member, task, "broken", "cannot write")
            )
            return task

        def done() -> None:
            member.next_version = image.version
            self._end(member, task, "complete", f"{image.version} runs from the next start on")

        self.world.after(image.install_s, done)
        return task

    def _install_part(self, member: Member, package: str) -> PairTask:
        image = self.part_images.get(member.packages.get(package, ("", 0))[0])
        if image is None:
            raise Denied(422, f"{package} is for no part of this model")
        task = self._task(member, "install-part", image.version, PART_S)
        if self.world.fault("install_fails_at", self.full(member.name), "install-part"):
            self.world.after(PART_S / 2, lambda: self._end(member, task, "broken", "the part does not take it"))
            return task
        self.world.after(PART_S, lambda: self._part_done(member, task, image))
        return task

    def fetch_part(self, name: str) -> PairTask:
        """A member begins to fetch what a part takes, and installs it then; `fetched_part` goes on."""
        member = self.members[name]
        self._refuse_busy(member)
        return self._task(member, "install-part", "", PART_S)

    def fetched_part(self, name: str, task: PairTask, digest: str | None, text: str) -> None:
        member, image = self.members[name], self.part_images.get(digest or "")
        if image is None:
            self._end(member, task, "broken", text if digest is None else "that is for no part of this model")
        else:
            self.world.after(PART_S, lambda: self._part_done(member, task, image))

    def _part_done(self, member: Member, task: PairTask, image: PartImage) -> None:
        held = member.parts if image.at_once else member.next_parts
        held.update({name: image.version for name in member.parts if name.startswith(image.part)})
        self._end(member, task, "complete", f"{image.part} {image.version} is in")

    def _raise(self, member: Member, part: str) -> PairTask:
        """Raise a format of data, once every member can read it. There is no way back."""
        if part not in self.formats:
            raise Denied(404, f"there is no {part}")
        version, needed = self.formats[part]
        if behind := [m.name for m in self.members.values() if m.version != needed]:
            raise Denied(409, f"{', '.join(behind)} cannot read {part} {version}")
        task = self._task(member, "raise", version, PART_S)

        def done() -> None:
            member.parts[part] = version
            self._end(member, task, "complete", f"{part} {version}")

        self.world.after(PART_S, done)
        return task

    def _restart(self, member: Member) -> PairTask:
        image = self.images.get(member.next_version)
        lasts = image.restart_s if image is not None else 300.0
        task = self._task(member, "restart", member.next_version, lasts)
        self.world.after(GOING_S, lambda: self.halt(member.name))
        late = self.world.fault("late_return", self.full(member.name), "restart")
        away = GOING_S + lasts + (late.value if late else 0)
        self.world.returns(self.full(member.name), "restart", away, lambda: self._back(member, task))
        return task

    def _back(self, member: Member, task: PairTask) -> None:
        self.start(member.name)
        self._end(member, task, "complete", f"started with {member.version}")

    def halt(self, name: str) -> None:
        """A member goes down: because it restarts, or because the machine below it does."""
        member = self.members[name]
        if not member.up:
            return
        member.up = False
        if lost := [guest for guest in member.guests if guest not in self.tied]:
            self.broken.append(f"{name} went down with {len(lost)} guests")
        self._power_guests(member, False)
        if self.leader == name:
            up = [n for n, m in self.members.items() if m.up]  # one that was drained leads only where no other is left
            self.leader = next((n for n in up if not self.members[n].drained), next(iter(up), None))
        for tell in self.stopped.get(name, ()):
            tell()
        self.world.changed()

    def start(self, name: str) -> None:
        member = self.members[name]
        if member.up or not member.powered:
            return
        member.version = member.next_version
        member.parts |= member.next_parts
        member.next_parts.clear()
        member.up = True
        member.boots += 1
        member.links_up_at = self.world.now + self.link_hold_s
        member.in_sync_at = self.world.now + self.sync_s
        if self.leader is None:
            self.leader = name
        self._power_guests(member, True)
        for tell in self.started.get(name, ()):
            tell()
        self.world.changed()

    def power(self, name: str, on: bool) -> None:
        """What a member lives on went down, or came back; the member starts a while after it."""
        self.members[name].powered = on
        if on:
            self.world.after(BELOW_S, lambda: self.start(name))
        else:
            self.halt(name)

    def _power_guests(self, member: Member, on: bool) -> None:
        for guest in (self.carried[name] for name in member.guests if name in self.carried):
            for name in guest.members:
                guest.power(name, on)

    def runs(self, guest: str) -> bool:
        """Whether a guest runs; one that is no machine of this world always does."""
        own = self.carried.get(guest)
        return own is None or any(member.up for member in own.members.values())

    def _hand_over(self, member: Member) -> PairTask:
        other = next((n for n, m in self.members.items() if m.up and m is not member), None)
        if self.leader != member.name:
            raise Denied(409, "already following")
        if other is None:
            raise Denied(409, "nobody else is up")
        task = self._task(member, "hand-over", "", HAND_OVER_S)
        if self.world.fault("role_stuck", self.full(member.name), "hand-over"):
            self.world.after(HAND_OVER_S, lambda: self._end(member, task, "broken", "nobody takes over"))
            return task

        def moved() -> None:
            self.leader = other
            self._end(member, task, "complete", f"{other} leads")

        self.world.after(HAND_OVER_S, moved)
        return task

    def _lead(self, member: Member) -> PairTask:
        if self.leader == member.name:
            raise Denied(409, "already leading")
        task = self._task(member, "lead", "", HAND_OVER_S)

        def moved() -> None:
            self.leader = member.name
            self._end(member, task, "complete", f"{member.name} leads")

        self.world.after(HAND_OVER_S, moved)
        return task

    def _drain(self, member: Member) -> PairTask:
        others = [m for m in self.members.values() if m.up and not m.drained and m is not member]
        if not others:
            raise Denied(409, "nowhere to move the guests")
        task = self._task(member, "drain", "", DRAIN_S)

        def moved() -> None:
            stay = [
                m for m in others if m.up and not m.drained and (m.busy is None or m.busy.what != "drain")
            ] or others
            free = [guest for guest in member.guests if guest not in self.tied]
            for number, guest in enumerate(free):
                stay[number % len(stay)].guests.append(guest)
            member.guests, member.drained = [g for g in member.guests if g in self.tied], True
            left = f"carries nothing but {', '.join(member.guests)}" if member.guests else "carries nothing"
            self._end(member, task, "complete", left)

        self.world.after(DRAIN_S, moved)
        return task

    def _refill(self, member: Member) -> PairTask:
        task = self._task(member, "refill", "", DRAIN_S)

        def taken() -> None:
            member.drained = False
            fullest = max(self.members.values(), key=lambda m: len(m.guests))
            free = [guest for guest in fullest.guests if guest not in self.tied]
            moving = free[: len(fullest.guests) // 2]
            member.guests, fullest.guests = member.guests + moving, [g for g in fullest.guests if g not in moving]
            self._end(member, task, "complete", "takes guests again")

        self.world.after(DRAIN_S, taken)
        return task

    def _task(self, member: Member, what: str, release: str, lasts: float) -> PairTask:
        self.world.count(self.full(member.name), what)
        task = PairTask(len(member.tasks) + 1, what, release, self.world.now, lasts)
        member.tasks.append(task)
        return task

    def _end(self, member: Member, task: PairTask, state: str, text: str) -> None:
        task.stopped_at = self.world.now if state == "broken" else None
        task.state, task.text = state, text
        self.world.work(self.full(member.name), task.what, task.began)
