"""Real servers that nobody here wrote: what is missing is named, and skipped where skipping is allowed."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from gallant.standin.ports import reserve


def needed(*programs: str) -> None:
    """Skip, naming what is missing; an error where nothing may be skipped."""
    missing = [p for p in programs if shutil.which(p) is None]
    if os.geteuid() != 0:
        missing.append("root")
    if missing:
        if os.environ.get("GALLANT_NO_SKIP"):
            pytest.fail(f"missing here: {', '.join(missing)}")
        pytest.skip(f"missing here: {', '.join(missing)}")


class Sshd:
    """An OpenSSH server of its own: its port, its host key's fingerprint, and the key that lets us in."""

    def __init__(self, folder: Path, extra: str = "") -> None:
        self.folder = folder
        Path("/run/sshd").mkdir(exist_ok=True)
        for name in ("host", "user"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
        shown = subprocess.run(
            ["ssh-keygen", "-lf", str(folder / "host.pub")], capture_output=True, text=True, check=True
        )
        self.fingerprint = shown.stdout.split()[1]
        self.key = (folder / "user").read_text()
        keeper, self.port = reserve("127.0.0.1")
        keeper.close()
        config = folder / "sshd_config"
        config.write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nPidFile {folder}/sshd.pid\n"
            f"AuthorizedKeysFile {folder}/user.pub\nStrictModes no\nPermitRootLogin yes\nUsePAM no\n"
            f"Subsystem sftp internal-sftp\n{extra.replace('PORT', str(self.port))}"
        )
        self.process = subprocess.Popen(
            [shutil.which("sshd"), "-D", "-e", "-f", str(config)], stderr=(folder / "sshd.log").open("w")
        )
        until = time.monotonic() + 10
        import socket

        while True:
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                return
            except OSError:
                assert time.monotonic() < until, (folder / "sshd.log").read_text()
                time.sleep(0.02)

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait()


@pytest.fixture
def sshd(tmp_path):
    """`sshd(extra)` starts an OpenSSH server with more lines of configuration."""
    needed("sshd", "ssh-keygen")
    made = []

    def start(extra: str = "") -> Sshd:
        made.append(Sshd(tmp_path, extra))
        return made[-1]

    yield start
    for server in made:
        server.stop()


class Host:
    """A Debian host booted from an overlay of this machine's own files: systemd, apt and a reboot that is one."""

    def __init__(self, folder: Path, number: int) -> None:
        self.folder, self.name = folder, f"gal{os.getpid() % 10000}n{number}"
        self.address, outside = f"10.213.{number}.2", f"10.213.{number}.1"
        self.root = folder / "root"
        for name in ("up", "wk", "root"):
            (folder / name).mkdir(exist_ok=True)
        run = self._run
        run(
            "mount",
            "-t",
            "overlay",
            "overlay",
            "-o",
            f"lowerdir=/,upperdir={folder}/up,workdir={folder}/wk",
            str(self.root),
        )
        for name in ("host", "user"):
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name))
        self.key = (folder / "user").read_text()
        shown = subprocess.run(
            ["ssh-keygen", "-lf", str(folder / "host.pub")], capture_output=True, text=True, check=True
        )
        self.fingerprint = shown.stdout.split()[1]
        self.serial = os.urandom(16).hex()
        self._furnish()
        run("ip", "netns", "add", self.name)
        run("ip", "link", "add", self.name, "type", "veth", "peer", "name", "eth0", "netns", self.name)
        run("ip", "addr", "add", f"{outside}/30", "dev", self.name)
        run("ip", "link", "set", self.name, "up")
        for words in (
            ("link", "set", "lo", "up"),
            ("addr", "add", f"{self.address}/30", "dev", "eth0"),
            ("link", "set", "eth0", "up"),
        ):
            run("ip", "-n", self.name, *words)
        import threading

        self._ending = False
        self.process: subprocess.Popen[bytes] | None = None
        self._keeper = threading.Thread(target=self._keep, daemon=True)
        self._keeper.start()

    def _run(self, *words: str) -> None:
        subprocess.run(words, check=True, capture_output=True)

    def _furnish(self) -> None:
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
        )
        wants = etc / "systemd" / "system" / "multi-user.target.wants"
        wants.mkdir(exist_ok=True)
        (wants / "ssh.service").symlink_to("/lib/systemd/system/ssh.service")
        default = etc / "systemd" / "system" / "default.target"
        default.unlink(missing_ok=True)
        default.symlink_to("/lib/systemd/system/multi-user.target")
        for old in (*(etc / "apt").glob("sources.list"), *(etc / "apt" / "sources.list.d").glob("*")):
            old.unlink()
        repository = root / "srv" / "repo"
        repository.mkdir(parents=True)

    def _keep(self) -> None:
        """Boot, and boot again whenever a restart was asked for from inside (exit status 133)."""
        while not self._ending:
            self.process = subprocess.Popen(
                [
                    "systemd-nspawn", "-q", "-b", "-D", str(self.root), "--register=no", "--keep-unit",
                    f"--machine={self.name}", "--resolv-conf=off", "--console=pipe", "--capability=CAP_NET_ADMIN",
                    f"--network-namespace-path=/run/netns/{self.name}",
                ],
                stdin=subprocess.DEVNULL,
                stdout=(self.folder / "console").open("ab"),
                stderr=subprocess.STDOUT,
            )  # fmt: skip
            if self.process.wait() != 133:
                return

    def wait_up(self) -> None:
        import socket

        until = time.monotonic() + 60
        while True:
            try:
                socket.create_connection((self.address, 22), 1).close()
                return
            except OSError:
                assert time.monotonic() < until, (self.folder / "console").read_text(errors="replace")[-2000:]
                time.sleep(0.05)

    def stop(self) -> None:
        self._ending = True
        if self.process is not None:
            self.process.terminate()
        self._keeper.join(20)
        for words in (("umount", "-l", str(self.root)), ("ip", "netns", "del", self.name)):
            subprocess.run(words, check=False, capture_output=True)


@pytest.fixture
def host(tmp_path):
    """A real Debian host that is up and lets us in by SSH."""
    needed("systemd-nspawn", "sshd", "ip", "ssh-keygen", "apt-ftparchive", "dpkg-deb", "gpg")
    made = Host(tmp_path, 1 + os.getpid() % 250)
    try:
        made.wait_up()
        yield made
    finally:
        made.stop()
