"""Debian hosts that boot from this machine's own files, alone or several on one network of their own."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

BOOTS_WITHIN_S = 120
# Where this kernel keeps processes by group: systemd looks at one of them, and makes its own groups in all.
TREES = [
    tree
    for tree in map(Path, ("/sys/fs/cgroup", "/sys/fs/cgroup/systemd", "/sys/fs/cgroup/unified"))
    if (tree / "cgroup.procs").exists()
]
IN_GROUPS = 'for one in $0; do echo $$ > "$one"/cgroup.procs || exit 1; done; exec "$@"'


def run(*words: str) -> str:
    return subprocess.run(words, check=True, capture_output=True, text=True).stdout


def number_of(network: int) -> int:
    """A network's number for this one of several test processes: each has its own."""
    return network + 10 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])


class Network:
    """A bridge with this machine on it as .254; addresses are taken in turn from .1 on."""

    def __init__(self, number: int) -> None:
        self.name, self.begin = f"galbr{os.getpid() % 10000}", f"10.213.{number}"
        run("ip", "link", "add", self.name, "type", "bridge", "forward_delay", "0")
        run("ip", "addr", "add", f"{self.begin}.254/24", "dev", self.name)
        run("ip", "link", "set", self.name, "up")

    def stop(self) -> None:
        subprocess.run(["ip", "link", "del", self.name], check=False, capture_output=True)


class Host:
    """A Debian host booted from an overlay of this machine's own files: systemd, apt and a reboot that is one.

    Alone it has a line of its own to this machine; on a `network` it has its `number` there. `furnish` is given its
    root before it boots. `units` are started beside SSH. It lets in the key of `key_of`, or one of its own. `binds` are
    folders of this machine that it sees, as FROM:TO.
    """

    def __init__(
        self,
        folder: Path,
        number: int,
        network: Network | None = None,
        furnish: Callable[[Path], None] | None = None,
        units: tuple[str, ...] = (),
        key_of: Host | None = None,
        binds: tuple[str, ...] = (),
    ) -> None:
        folder.mkdir(exist_ok=True)
        self.binds = binds
        self.folder, self.name = folder, f"gal{os.getpid() % 10000}n{number}"
        self.address = f"10.213.{number}.2" if network is None else f"{network.begin}.{number}"
        self.root = folder / "root"
        for name in ("up", "wk", "root"):
            (folder / name).mkdir(exist_ok=True)
        layers = f"lowerdir=/,upperdir={folder}/up,workdir={folder}/wk"
        run("mount", "-t", "overlay", "overlay", "-o", layers, str(self.root))
        for name in ("host", "user"):
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name))
        if key_of is not None:
            for name in ("user", "user.pub"):
                shutil.copy(key_of.folder / name, folder / name)
        self.key = (folder / "user").read_text()
        self.fingerprint = run("ssh-keygen", "-lf", str(folder / "host.pub")).split()[1]
        self.serial = os.urandom(16).hex()
        # Two hosts that boot side by side in one group have one group for each unit of both, and wait for each other.
        self.groups = [tree / self.name for tree in TREES]
        for group in self.groups:
            group.mkdir(exist_ok=True)
        self._furnish(units)
        if furnish is not None:
            furnish(self.root)
        self._connect(number, network)
        self._ending = False
        self.process: subprocess.Popen[bytes] | None = None
        self.boot()

    def boot(self) -> None:
        """Switch it on, and on again whenever it restarts."""
        self._keeper = threading.Thread(target=self._keep, daemon=True)
        self._keeper.start()

    def _connect(self, number: int, network: Network | None) -> None:
        run("ip", "netns", "add", self.name)
        run("ip", "link", "add", self.name, "type", "veth", "peer", "name", "eth0", "netns", self.name)
        if network is None:
            run("ip", "addr", "add", f"10.213.{number}.1/30", "dev", self.name)
        else:
            run("ip", "link", "set", self.name, "master", network.name)
        run("ip", "link", "set", self.name, "up")
        bits = 30 if network is None else 24
        run("ip", "-n", self.name, "link", "set", "lo", "up")
        run("ip", "-n", self.name, "addr", "add", f"{self.address}/{bits}", "dev", "eth0")
        run("ip", "-n", self.name, "link", "set", "eth0", "up")

    def _furnish(self, units: tuple[str, ...]) -> None:
        root, etc = self.root, self.root / "etc"
        (root / "root" / ".ssh").mkdir(mode=0o700, exist_ok=True)
        (root / "root" / ".ssh" / "authorized_keys").write_text((self.folder / "user.pub").read_text())
        for path in etc.glob("systemd/system/*.wants"):
            shutil.rmtree(path)
        for path in etc.glob("rc?.d/S*"):
            path.unlink()
        (etc / "hostname").write_text(self.name + "\n")
        (etc / "machine-id").write_text(self.serial + "\n")
        for name in ("host", "host.pub"):
            shutil.copy(self.folder / name, etc / "ssh" / name)
        (etc / "ssh" / "sshd_config").write_text(
            "HostKey /etc/ssh/host\nPermitRootLogin yes\nUsePAM no\nStrictModes no\nSubsystem sftp internal-sftp\n"
            "MaxStartups 1000\n"  # clients that connect all the time keep nobody out who logs in
        )
        wants = etc / "systemd" / "system" / "multi-user.target.wants"
        wants.mkdir(exist_ok=True)
        for unit in ("ssh.service", *units):
            (wants / unit).symlink_to(f"/lib/systemd/system/{unit}")
        default = etc / "systemd" / "system" / "default.target"
        default.unlink(missing_ok=True)
        default.symlink_to("/lib/systemd/system/multi-user.target")
        for old in (*(etc / "apt").glob("sources.list"), *(etc / "apt" / "sources.list.d").glob("*")):
            old.unlink()
        for startup in (root / "root" / ".bashrc", root / "root" / ".profile", etc / "bash.bashrc"):
            startup.unlink(
                missing_ok=True
            )  # what this machine's login shell does may leave locks behind when it is cut off
        (root / "usr" / "sbin" / "policy-rc.d").unlink(missing_ok=True)  # of a machine on which nothing is started
        (root / "srv" / "repo").mkdir(parents=True)
        (root / "var" / "lib" / "man-db" / "auto-update").unlink(
            missing_ok=True
        )  # no index of manuals after each install

    def _keep(self) -> None:
        """Boot, and boot again whenever a restart was asked for from inside (exit status 133)."""
        while not self._ending:
            self.process = subprocess.Popen(
                [
                    "sh", "-c", IN_GROUPS, " ".join(map(str, self.groups)), "systemd-nspawn", "-q", "-b", "-D", str(self.root), "--register=no", "--keep-unit",
                    f"--machine={self.name}", "--resolv-conf=off", "--console=pipe", "--capability=CAP_NET_ADMIN",
                    f"--network-namespace-path=/run/netns/{self.name}", *(f"--bind-ro={one}" for one in self.binds),
                ],
                stdin=subprocess.DEVNULL,
                stdout=(self.folder / "console").open("ab"),
                stderr=subprocess.STDOUT,
            )  # fmt: skip
            if self.process.wait() != 133:
                return

    def inside(self, *words: str) -> list[str]:
        """A command on the host as one would type it from here."""
        return [
            "ssh", "-o", "LogLevel=ERROR", "-n", "-i", str(self.folder / "user"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
            f"root@{self.address}", *words,
        ]  # fmt: skip

    def say(self, command: str) -> str:
        """What a command on the host says; it has to end well."""
        done = subprocess.run(self.inside(command), capture_output=True, text=True, check=False)
        assert done.returncode == 0, f"{self.name}: {done.returncode}\n{done.stdout}\n{done.stderr}"
        return done.stdout

    def wait_up(self) -> None:
        until = time.monotonic() + BOOTS_WITHIN_S
        while True:
            try:
                socket.create_connection((self.address, 22), 1).close()
                return
            except OSError:
                assert time.monotonic() < until, self._state()
                time.sleep(0.05)

    def _state(self) -> str:
        """What is known from outside of a host that does not answer."""
        looks = (
            f"tail -c 2000 {self.folder}/console",
            "ps -eo pid,ppid,stat,wchan:24,etimes,cgroup:60,args | grep -E 'nspawn|systemd|sshd'",
            f"ip -n {self.name} -br address; ip -n {self.name} neighbour; ip -br link; ip route",
            f"journalctl -q --no-pager -D {self.root}/var/log/journal -n 40; journalctl -q --no-pager -D {self.root}/run/log/journal -n 40",
            "uptime; cat /proc/meminfo | head -3",
        )
        said = (subprocess.run(["sh", "-c", look], capture_output=True, text=True, check=False) for look in looks)
        return "\n".join(f"{self.name} {self.address}: {one.stdout}{one.stderr}" for one in said)

    def cut_power(self) -> None:
        """Whatever runs there ends in this moment, and nothing more comes over its line."""
        run("ip", "link", "set", self.name, "down")
        assert self.process is not None
        children = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
        for child in children:
            subprocess.run(["kill", "-9", child], check=False)
        self._keeper.join(20)

    def power_on(self) -> None:
        run("ip", "link", "set", self.name, "up")
        self.boot()
        self.wait_up()

    def stop(self) -> None:
        self._ending = True
        if self.process is not None:
            self.process.terminate()
        self._keeper.join(20)
        for words in (
            ("ip", "link", "del", self.name),
            ("umount", "-l", str(self.root)),
            ("ip", "netns", "del", self.name),
        ):
            subprocess.run(words, check=False, capture_output=True)
        for group in self.groups:
            for inner in (*sorted((one for one in group.rglob("*") if one.is_dir()), reverse=True), group):
                with suppress(OSError):  # of a process that is just ending
                    inner.rmdir()


@contextmanager
def several(
    folder: Path,
    number: int,
    names: str,
    furnish: Callable[[Path, str, int], None],
    units: tuple[str, ...] = (),
    binds: tuple[str, ...] = (),
) -> Iterator[dict[str, Host]]:
    """Hosts on one network, by name, all up; `furnish` is given each one's root, the network's
    addresses up to the last part, and the last part."""
    hosts: dict[str, Host] = {}
    os.sync()  # what was written before by anyone is on the disk now, so that no database here waits for it
    network = Network(number)
    try:
        for place, name in enumerate(names, 1):
            first = next(iter(hosts.values()), None)
            hosts[name] = Host(
                folder / name,
                place,
                network,
                lambda root, n=place: furnish(root, network.begin, n),
                units,
                first,
                binds,
            )
        for host in hosts.values():
            host.wait_up()
        yield hosts
    finally:
        for host in hosts.values():
            host.stop()
        network.stop()
