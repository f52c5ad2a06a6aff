"""A person at a terminal learns a host's key: shown, asked about, kept, and not asked about again."""

from __future__ import annotations

import os
import pty
import select
import sys
import time
from pathlib import Path

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
accounts: {{read: {{user: root, secret: "key:user"}}}}
systems:
  host: {{product: t/host, shape: single, site: s, driver: debian, profile: debian, nodes: {{a: {{address: "ssh://127.0.0.1:{port}", serial: "{serial}"}}}}}}
"""


def at_a_terminal(folder: Path, reply: bytes, *words: str) -> str:
    """What a command says at a terminal where somebody answers its question."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(folder)
        os.execve(sys.executable, [sys.executable, "-m", "gallant", *words], {**os.environ, "NO_COLOR": "1"})
    heard, asked, until = b"", False, time.monotonic() + 60
    while time.monotonic() < until:
        if select.select([terminal], [], [], 1)[0]:
            try:
                chunk = os.read(terminal, 4096)
            except OSError:  # it has ended
                break
            heard += chunk
            if b"[y/N]" in heard and not asked:
                asked = True
                os.write(terminal, reply)
    os.waitpid(pid, 0)
    os.close(terminal)
    return heard.decode("utf-8", "replace")


def test_a_host_key_is_kept_when_a_person_says_so_and_only_then(sshd, tmp_path):
    server = sshd()
    (tmp_path / "user").chmod(0o600)
    machine = Path("/etc/machine-id")
    serial = (machine.read_text().strip() if machine.exists() else "") or server.fingerprint
    (tmp_path / "estate.yaml").write_text(ESTATE.format(port=server.port, serial=serial))
    known = tmp_path / "known_hosts"
    assert "not known here" in at_a_terminal(tmp_path, b"y\n", "survey")
    assert server.fingerprint in at_a_terminal(tmp_path, b"n\n", "survey", "--learn-keys")
    assert not known.exists()
    assert "1 node read" in at_a_terminal(tmp_path, b"y\n", "survey", "--learn-keys")
    assert known.read_text().startswith(f"[127.0.0.1]:{server.port} ssh-ed25519 ")
    again = at_a_terminal(tmp_path, b"", "survey")
    assert "1 node read" in again
    assert "[y/N]" not in again
