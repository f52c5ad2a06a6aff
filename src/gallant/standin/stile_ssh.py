"""The command line of a firewall node: a device of the pair kind, in its own words."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Mapping
from datetime import timedelta
from pathlib import Path

from gallant.core.records import rfc3339
from gallant.standin.command_line import CommandLineServer, Question
from gallant.standin.listening import ShellHost
from gallant.standin.shoal import Denied, PairTask, ShoalPair

DUTIES = {"serving": "carrying", "shadowing": "waiting", "taking-over": "taking"}
MIRROR = {"matched": "mirrored", "catching-up": "mirroring", "apart": "parted", "estranged": "parted"}


class StileServer(ShellHost):
    """One firewall of a pair."""

    def __init__(
        self,
        pair: ShoalPair,
        name: str,
        address: str,
        port: int,
        accounts: Mapping[str, str],
        refresh: Callable[[], None],
        master: str,
    ) -> None:
        self.pair, self.name, self.node, self.world, self.refresh = pair, name, pair.nodes[name], pair.world, refresh
        self.full = f"{pair.name}/{name}"
        self.running = self.startup = self._as_built()
        self.boots = self.node.boots
        self.root = Path(tempfile.mkdtemp(prefix="gallant-standin-"))
        (self.root / "incoming").mkdir()
        self.line = CommandLineServer(
            address,
            port,
            accounts,
            lambda elevated: f"stile-{name}{'#' if elevated else '>'} ",
            self.obey,
            self.root,
            up=lambda: self.node.up,
            lets_in=lambda: self.world.fault("refuse_login", self.full, "login") is None,
            refused=lambda: self.world.count(self.full, "refused"),
            delay=lambda: slow.value if (slow := self.world.fault("slow", self.full)) else 0.0,
            master=master,
        )

    # --- commands

    def obey(self, user: str, line: str, elevated: bool) -> str:
        self.refresh()
        if self.boots != self.node.boots:  # it starts with what was saved
            self.boots, self.running = self.node.boots, self.startup
        for words, answer in (
            ("show unit", self._unit),
            ("show mirror", self._mirror),
            ("show uplinks", self._uplinks),
            ("show configuration state", lambda: f"configuration {'saved' if self.saved else 'unsaved'}\n"),
            ("show packages", self._packages),
            ("show space", lambda: f"free {self.pair.free(self.name) // 1024} KiB\n"),
            ("show tasks", lambda: "".join(map(self._task, self.node.tasks[-20:]))),
            ("show accounts", self._accounts),
            ("show running configuration", lambda: self.running),
            ("show startup configuration", lambda: self.startup),
        ):
            if line == words:
                return answer()
        if line.startswith("show task "):
            return self._task(self._found(line.rpartition(" ")[2]))
        if line.startswith("readiness "):
            return self._checked(line.rpartition(" ")[2])
        if not elevated or not user.endswith("act"):
            raise Denied(403, f"no right to {line.split()[0]}" if elevated else f"no such word: {line.split()[0]}")
        return self._order(line)

    def _order(self, line: str) -> str:
        verb, _, rest = line.partition(" ")
        if verb == "accept":
            path = self.root / "incoming" / Path(rest).name
            if not path.is_file():
                raise Denied(404, f"nothing named {rest} came in")
            self.world.count(self.full, "upload")
            digest = self.pair.keep(self.name, rest, path.read_bytes())
            path.unlink()
            return f"{rest} kept, digest {digest}\n"
        if verb == "forget":
            self.pair.remove(self.name, rest)
            return "gone\n"
        if line == "configuration save":
            self.startup = self.running
            return "saved\n"
        if line.startswith("configuration load "):
            name = Path(line.rpartition(" ")[2]).name
            raise Question("This replaces it. Go on? [yes/no]", lambda said: self._loaded(name, said))
        if verb in ("install", "restart"):
            raise Question("This disturbs traffic. Go on? [yes/no]", lambda said: self._begun(verb, rest, said))
        if line in ("duty yield", "duty reclaim"):
            return self._begun(rest, "", "yes")
        raise Denied(404, f"no such word: {verb}")

    def _loaded(self, name: str, said: str) -> str:
        """Take a configuration that came in: the running one or the startup one, as its name says."""
        path = self.root / "incoming" / name
        if said != "yes":
            return "not done\n"
        if not path.is_file() or name not in ("running.txt", "startup.txt"):
            return f"not done: no configuration {name} came in\n"
        text = path.read_text("utf-8", "replace").replace("\r", "").strip() + "\n"
        path.unlink()
        if not text.startswith(f"unit {self.name}\n") or not text.endswith("end\n"):
            return "not done: it is not this unit's, or not whole\n"
        self.world.count(self.full, "restore")
        if name == "running.txt":
            self.running = text
        else:
            self.startup = text
        return "loaded\n"

    def _begun(self, what: str, package: str, said: str) -> str:
        if said != "yes":
            return "not done\n"
        self.refresh()
        self.world.count(self.full, what)
        try:
            return f"task {self.pair.order(self.name, what, package).number} begun\n"
        except Denied as denied:
            return f"not done: {denied.message}\n"

    # --- answers

    def _unit(self) -> str:
        moment = self.world.moment
        if off := self.world.fault("clock_off", self.full):
            moment += timedelta(seconds=off.value)
        swapped = self.world.fault("swapped_machine", self.full)
        rows = {
            "serial": "ST-0000-XX" if swapped else self.node.serial,
            "model": "Stile 12",
            "runs": f"{self.node.version} build {self.pair.images[self.node.version].build}",
            "next": self.node.next_version,
            "started": self.node.boot,
            "duty": DUTIES[self.pair.role(self.name)],
            "state": "up",
            "clock": rfc3339(moment),
            "network": self.node.network,
        }
        return "".join(f"{key:<10} {value}\n" for key, value in rows.items())

    def _uplinks(self) -> str:
        state = "up" if self.pair.links_up(self.name) else "held"
        return f"uplink1 {state}\nuplink2 {state}\n"

    def _mirror(self) -> str:
        word, left = self.pair.replica()
        return f"mirror {MIRROR[word]}" + (f", {left:.1f} s left" if left else "") + "\n"

    def _packages(self) -> str:
        return "".join(f"{name} {size} {digest}\n" for name, (digest, size) in sorted(self.node.packages.items()))

    def _accounts(self) -> str:
        soon = self.world.began + timedelta(days=9)
        return (
            f"reader-read password until {rfc3339(soon)}\nkeeper-act password until"
            f" {rfc3339(soon + timedelta(days=300))}\n"
        )

    def _checked(self, release: str) -> str:
        said = [] if self.saved else ["should: the running configuration is not saved"]
        if release.startswith("39.") or self.world.fault("unwell", self.full, "configuration"):
            said.append(f"must: rule 12 uses a cipher that {release} no longer has")
        return "".join(f"{row}\n" for row in (*said, "takes about 14 min"))

    @property
    def saved(self) -> bool:
        return self.running == self.startup

    def _as_built(self) -> str:
        rules = "".join(f"rule {n} allow port {1000 + n}\n" for n in range(1, 61))
        return f"unit {self.name}\n{rules}end\n"

    def _found(self, number: str) -> PairTask:
        found = next((task for task in self.node.tasks if str(task.number) == number), None)
        if found is None:
            raise Denied(404, f"no task {number}")
        return found

    def _task(self, task: PairTask) -> str:
        now = self.world.now
        return f"task {task.number} {task.what} {task.state} {task.percent(now):.1f}% {task.words(now)}\n"
