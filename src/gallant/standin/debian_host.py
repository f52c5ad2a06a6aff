"""A Linux host in a folder: its packages, channels and services are files, its commands are small ones that read them.

Anyone who logs in gets a real shell whose paths lead into the folder, and whose `apt-get`,
`dpkg-query` and `systemctl` are the stand-in's own. What takes time (installing, starting
anew) happens in the world's time, by orders that the commands leave.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import os
import re
import signal
import tempfile
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path

from asyncssh import SSHServerProcess

from gallant.core.records import Record, rfc3339
from gallant.standin.command_line import CommandLineServer
from gallant.standin.listening import ShellHost
from gallant.standin.manifest import HOST_BUILD
from gallant.standin.world import World

INSTALL_S = 90.0
RESTART_S = 60.0
# Paths that lead into the host's folder; everything else is this computer's.
_OWN = re.compile(r"(?<![\w.~/$}])/(etc|proc|boot|run|var|usr/bin)(?=/)")

TOOLS = {
    "dpkg-query": (
        'case "$*" in *Conffiles*) cat "$ROOT/state/conffiles";; *Status-Abbrev*) cat "$ROOT/state/packages";; *) awk'
        ' -F"\\t" \'{print $2 "=" $3}\' "$ROOT/state/packages";; esac'
    ),
    "dpkg": 'awk -F"\\t" \'{print $2 "\\tinstall"}\' "$ROOT/state/packages"',
    "apt-cache": 'sed "s/=/ | /; s/$/ | neaptide main/" "$ROOT/state/offered"',
    "apt-mark": 'cat "$ROOT/state/held"',
    "uname": 'case "$1" in -r) cat "$ROOT/state/kernel";; *) echo x86_64;; esac',
    "df": 'echo Avail; cat "$ROOT/state/free"',
    "date": 'case "$*" in *%Y%m%d%H*) exec /bin/date "$@";; *) cat "$ROOT/state/clock";; esac',
    "ss": 'cat "$ROOT/state/ports"',
    "findmnt": 'cat "$ROOT/state/mounts"',
    "ip": 'case "$*" in *addr*) cat "$ROOT/state/addresses";; "route show default") cat "$ROOT/state/route";; esac',
    "journalctl": 'case "$*" in *3..3*) cat "$ROOT/state/journal";; esac',
    "who": 'cat "$ROOT/state/who"',
    "sudo": (
        'shift; case "$1" in -l) test -e "$ROOT/state/may-act";; *) shift; test -e "$ROOT/state/may-act" || { echo'
        ' "sudo: a password is required" >&2; exit 1; }; exec "$@";; esac'
    ),
    "systemctl": (
        'case "$*" in *--state=failed*) cat "$ROOT/state/failed";; list-units*) cat "$ROOT/state/services";;'
        ' reboot*|restart*) echo "$*" > "$ROOT/orders/$$.new"; mv "$ROOT/orders/$$.new" "$ROOT/orders/$$";; esac'
    ),
    "tar": 'PATH=/usr/bin:/bin; for what in "$@"; do :; done; exec tar -C "$ROOT" --one-file-system -cf - "$what"',
    "apt-get": (
        r"""
words=""; kind=update; only=""
for word in "$@"; do
  case "$word" in
    -s) only=simulate;;
    -d) only=download;;
    install) kind=install;;
    Dpkg*|Dir*|APT*|Acquire*) ;;
    *=*[0-9]*) words="$words $word";;
  esac
done
if [ $kind = update ]; then cat "$ROOT/state/heard"; exit 0; fi
for word in $words; do
  grep -qx -e "$word" "$ROOT/state/offered" || {
    echo "E: Version '${word#*=}' for '${word%%=*}' was not found" >&2; exit 100
  }
done
if [ "$only" = simulate ]; then for word in $words; do echo "Inst ${word%%=*} (${word#*=})"; done; exit 0; fi
echo "$kind $only$words" > "$ROOT/orders/$$.new"; mv "$ROOT/orders/$$.new" "$ROOT/orders/$$"
while [ ! -e "$ROOT/orders/$$.end" ]; do sleep 0.05; done
cat "$ROOT/orders/$$.log"; exit "$(cat "$ROOT/orders/$$.end")"
"""
    ),
}


class Offered(Record):
    """A version that a channel offers, and whether it wants the host started anew."""

    package: str
    version: str
    restart: bool = False


class HostSetup(Record):
    """What a host comes with: installed packages by version, what its channel offers, what is kept back or was changed.

    `waits`: a newer kernel is installed and not started yet; `tools` are further commands, as shell scripts by name.
    """

    packages: dict[str, str]
    offered: tuple[Offered, ...]
    services: tuple[str, ...] = ("ssh", "cron")
    kept_back: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()
    disabled_channel: str = ""
    files: dict[str, str] = {}
    waits: bool = False
    tools: dict[str, str] = {}


class DebianHost(ShellHost):
    """The host: what is installed, kept back, offered; a number for each start."""

    def __init__(
        self,
        world: World,
        name: str,
        serial: str,
        setup: HostSetup,
        address: str,
        port: int,
        accounts: Mapping[str, str],
        refresh: Callable[[], None],
        channel: str,
    ) -> None:
        self.world, self.name, self.serial, self.setup = world, name, serial, setup
        self.packages, self.channel, self.refresh_world = dict(setup.packages), channel, refresh
        newest = "74.2-5" if setup.waits else "74.2-3"
        self.up, self.boots, self.kernel, self.next_kernel, self.swapped = True, 1, "74.2-3", newest, False
        self.build = "6.3"
        self.wanting = (f"linux-image-{newest}",) if setup.waits else ()
        self.root = Path(tempfile.mkdtemp(prefix="gallant-standin-"))
        self.line = CommandLineServer(
            address,
            port,
            accounts,
            lambda elevated: f"{name}$ ",
            lambda user, line, elevated: "",
            self.root / "srv",
            up=lambda: self.up,
            lets_in=lambda: world.fault("refuse_login", name, "login") is None,
            refused=lambda: world.count(name, "refused"),
            delay=lambda: slow.value if (slow := world.fault("slow", name)) else 0.0,
            runs=self._run,
        )
        self._build()

    async def follow(self) -> None:
        self._carry_out()
        await super().follow()

    # --- the folder

    def _build(self) -> None:
        for name in (
            "state",
            "orders",
            "root",
            "usr/bin",
            "proc/sys/kernel/random",
            "boot",
            "run",
            "var/cache/apt",
            "etc/apt/sources.list.d",
            "srv",
        ):
            (self.root / name).mkdir(parents=True, exist_ok=True)
        for name, body in {**TOOLS, **HOST_BUILD, **self.setup.tools}.items():
            tool = self.root / "usr" / "bin" / name
            tool.write_text(f'#!/bin/sh\nROOT="{self.root}"\n{body}\n')
            tool.chmod(0o755)
        (self.root / "state" / "may-act").touch()
        for path, text in self.setup.files.items():
            (self.root / path.lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
            self._put(path.lstrip("/"), text)
        self._write()

    def _put(self, path: str, text: str) -> None:
        """Whole at once: commands that run just now read what was there, or what is."""
        place = self.root / path
        if not place.is_file() or place.read_text() != text:
            partial = place.with_name(f".{place.name}.new")
            partial.write_text(text)
            partial.replace(place)

    def _write(self) -> None:
        """Everything that can be read, as it is now."""
        put = self._put
        put("etc/machine-id", f"{self.serial}\n")
        put("etc/debian_version", f"{self.build}\n")
        put("etc/os-release", 'PRETTY_NAME="Skerry Line host 6"\nVERSION_ID="6"\n')
        boot = hashlib.sha256(f"{self.serial} {self.boots}".encode()).hexdigest()
        put("proc/sys/kernel/random/boot_id", f"{boot[:8]}-{boot[8:12]}-{boot[12:16]}-{boot[16:20]}-{boot[20:32]}\n")
        put("proc/meminfo", "MemAvailable:    1843200 kB\n")
        for kernel in {self.kernel, self.next_kernel}:
            put(f"boot/vmlinuz-{kernel}", "")
        put("state/kernel", self.kernel + "\n")
        put("state/packages", "".join(f"ii \t{n}\t{v}\tall\n" for n, v in sorted(self.packages.items())))
        put("state/held", "".join(f"{name}\n" for name in self.setup.kept_back))
        put("state/free", "734003200\n" if not self.world.fault("disk_full", self.name) else "1048576\n")
        put("state/who", "")
        put("state/services", "".join(f"{s}.service loaded active running {s}\n" for s in self.setup.services))
        self._write_around()
        put("state/offered", "".join(f"{o.package}={o.version}\n" for o in self.setup.offered))
        conffiles = []
        for path in self.setup.changed:
            (self.root / path.lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
            put(path.lstrip("/"), "changed by hand\n")
            conffiles.append(f" {self.root}{path} {hashlib.md5(b'as it came', usedforsecurity=False).hexdigest()}")
        put("state/conffiles", "\n".join(conffiles) + "\n")
        self._write_channels()
        put("state/heard", f"Hit:1 {self.channel} neaptide InRelease\n")
        for name, text in (("reboot-required", ""), ("reboot-required.pkgs", "\n".join(self.wanting) + "\n")):
            flag = self.root / "run" / name
            flag.write_text(text) if self.wanting else flag.unlink(missing_ok=True)

    def _write_around(self) -> None:
        """What lies around its work: ports, mounts, addresses, the route out, and what its journal complains of. Ports
        of the moment differ with each start, and the order with each look."""

        def unwell(what: str) -> bool:
            return self.world.fault("unwell", self.name, what) is not None

        ports = ["0.0.0.0:22", "[::]:22", f"127.0.0.1:{40_000 + self.boots}", *([] if unwell("port") else ["*:8443"])]
        self._put(
            "state/ports", "".join(f"LISTEN 0 128 {port} *:*\n" for port in ports[:: -1 if self.boots % 2 else 1])
        )
        mounts = ["/ ext4", "/run/lock tmpfs", *([] if unwell("mount") else ["/srv/tickets xfs"])]
        self._put("state/mounts", "".join(f"{row}\n" for row in mounts))
        self._put("state/addresses", "2: eth0    inet 10.4.0.7/24 brd 10.4.0.255 scope global eth0\n")
        self._put("state/route", "" if unwell("default route") else "default via 10.4.0.1 dev eth0 proto static\n")
        failed = "backup.timer loaded failed failed Backup\n" if unwell("unit") else ""
        self._put("state/failed", failed)
        started = f"2026-11-24T20:00:0{self.boots % 10}+0000 host kernel: firmware of the port is {self.boots} days old"
        self._put("state/journal", started + "\n")

    def _write_channels(self) -> None:
        lost = self.world.fault("unwell", self.name, "channel") is not None
        rows = [] if lost else [f"deb {self.channel} neaptide main\n"]
        rows += [f"# deb {self.setup.disabled_channel} main\n"] if self.setup.disabled_channel else []
        self._put("etc/apt/sources.list", "".join(rows))

    # --- commands and orders

    async def _run(self, process: SSHServerProcess[str], command: str) -> None:
        self.refresh_world()
        off = self.world.fault("clock_off", self.name)
        moment = self.world.moment
        if off:
            moment = moment.__class__.fromtimestamp(moment.timestamp() + off.value, tz=moment.tzinfo)
        self._put("state/clock", rfc3339(moment) + "\n")
        self._write_channels()
        self._write_around()
        swapped = self.world.fault("swapped_machine", self.name)
        if bool(swapped) != self.swapped:
            self.swapped = bool(swapped)
            self._put("etc/machine-id", f"{'0' * 32 if swapped else self.serial}\n")
        child = await asyncio.create_subprocess_exec(
            "/bin/sh",
            "-c",
            _OWN.sub(rf"{self.root}/\1", command),
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            env={"PATH": f"{self.root}/usr/bin:/usr/bin:/bin", "HOME": str(self.root / "root"), "LC_ALL": "C"},
            cwd=self.root / "root",
            start_new_session=True,
        )
        try:
            out, err = await child.communicate()
        except asyncio.CancelledError:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child.pid, signal.SIGKILL)
            raise
        here = str(self.root)
        process.stdout.write(out.decode("utf-8", "replace").replace(here, ""))
        process.stderr.write(err.decode("utf-8", "replace").replace(here, ""))
        self._carry_out()
        process.exit(child.returncode or 0)

    def _carry_out(self) -> None:
        """Take up the orders that commands have left."""
        for path in (self.root / "orders").glob("[0-9]*"):
            if path.suffix:
                continue
            words = path.read_text().split()
            path.rename(path.with_suffix(".taken"))
            if words[0] == "reboot":
                self.world.count(self.name, "restart")
                self.world.after(2.0, self._go_down)
            elif words[0] == "restart":
                continue
            else:
                self.world.count(self.name, "install")
                failed = self.world.fault("install_fails_at", self.name, "install")
                lasts = 10.0 if words[1] == "download" else INSTALL_S
                self.world.after(lasts, partial(self._installed, path, words, failed is not None))

    def _installed(self, order: Path, words: list[str], failed: bool) -> None:
        if not failed and words[1] != "download":
            for word in words[1:]:
                name, _, version = word.partition("=")
                self.packages[name] = version
                if any(o.restart for o in self.setup.offered if (o.package, o.version) == (name, version)):
                    self.wanting = (*self.wanting, name)
            self._write()
        if self.root.exists():
            order.with_suffix(".log").write_text("E: dpkg was interrupted\n" if failed else "done\n")
            order.with_suffix(".end").write_text("100" if failed else "0")

    def _go_down(self) -> None:
        self.up = False
        self.world.changed()
        self.world.returns(self.name, "restart", RESTART_S, self._come_back)

    def _come_back(self) -> None:
        self.up, self.boots, self.wanting, self.kernel = True, self.boots + 1, (), self.next_kernel
        laid = self.root / "state" / "next-build"
        self.build = laid.read_text().strip() if laid.is_file() else self.build
        self._write()
        self.world.changed()
