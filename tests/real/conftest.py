"""Real servers that nobody here wrote: what is missing is named, and skipped where skipping is allowed."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from gallant.standin.ports import reserve

from .hosts import Host


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
