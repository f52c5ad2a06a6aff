"""Three members of a quorum, updated by the profile that comes with Gallant, while somebody writes all the time."""

from __future__ import annotations

import base64
import http.client
import json
import re
import shutil
import socket
from collections.abc import Iterator
from pathlib import Path

import pytest

from .builds import installed_version, repacked
from .conftest import needed
from .hosts import number_of, several
from .lab import Lab, asking, until

pytestmark = pytest.mark.machines

# What an election costs at least, in seconds: a roll that needed one shows as
# that much, and a machine that stands still for a moment does not.
ELECTION_S = 5
QUORUM = """\
  roster:
    product: etcd/server
    shape: quorum
    site: hall
    driver: shell
    profile: etcd-quorum
    nodes:
{nodes}
"""


class Writer:
    """Puts one key after the other to whichever member answers."""

    def __init__(self, hosts: list[str]) -> None:
        self.hosts = hosts
        self.connection: http.client.HTTPConnection | None = None

    def ask(self, path: str, body: dict[str, str]) -> dict:
        if self.connection is None:
            self.connection = http.client.HTTPConnection(self.hosts[0], 2379, timeout=0.5)
        try:
            self.connection.request("POST", path, json.dumps(body))
            answer = self.connection.getresponse()
            said = json.loads(answer.read())
        except (OSError, http.client.HTTPException, ValueError) as error:
            self._next()
            raise OSError("not acknowledged") from error
        if answer.status != 200:
            self._next()
            raise OSError("refused")
        return said

    def _next(self) -> None:
        if self.connection is not None:
            self.connection.close()
        self.connection, self.hosts = None, [*self.hosts[1:], self.hosts[0]]

    def key(self, number: int) -> None:
        self.ask("/v3/kv/put", {"key": coded(f"k{number:06}"), "value": coded("x")})


def coded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()


def furnish(root: Path, addresses: str, number: int) -> None:
    shutil.rmtree(root / "var" / "lib" / "etcd", ignore_errors=True)
    data = root / "var" / "lib" / "etcd"
    data.mkdir(mode=0o700)
    shutil.chown(data, "etcd", "etcd")
    own = f"{addresses}.{number}"
    all_of_them = ",".join(f"m{n}=http://{addresses}.{n}:2380" for n in (1, 2, 3))
    (root / "etc" / "default" / "etcd").write_text(
        f"ETCD_NAME=m{number}\nETCD_LISTEN_PEER_URLS=http://{own}:2380\nETCD_INITIAL_ADVERTISE_PEER_URLS=http://{own}:2380\n"
        f"ETCD_LISTEN_CLIENT_URLS=http://{own}:2379,http://127.0.0.1:2379\nETCD_ADVERTISE_CLIENT_URLS=http://{own}:2379\n"
        f"ETCD_INITIAL_CLUSTER={all_of_them}\nETCD_INITIAL_CLUSTER_STATE=new\n"
        f"ETCD_HEARTBEAT_INTERVAL=500\nETCD_ELECTION_TIMEOUT={ELECTION_S * 1000}\n"
    )


@pytest.fixture
def quorum(tmp_path) -> Iterator[tuple[Lab, str, str]]:
    """A lab in front of three members, the version that they run, and the next."""
    needed("systemd-nspawn", "sshd", "ip", "dpkg-deb", "etcd", "etcdctl")
    installed = installed_version("etcd-server")
    old = re.match(r"[0-9.]+[0-9]", installed)[0]
    new = old[:-1] + str(int(old[-1]) + 1 if old[-1] < "9" else 8)
    package = repacked(tmp_path, "etcd-server", installed.replace(old, new, 1), old.encode(), new.encode())
    with several(tmp_path, number_of(42), "abc", furnish, ("etcd.service",)) as hosts:
        until(lambda: all(_answers(host.address) for host in hosts.values()))
        (tmp_path / "lab").mkdir()
        lab = Lab(tmp_path / "lab", hosts, QUORUM)
        lab.follow("etcd/server", "dotted", [(old, None), (new, package)])
        lab.well("survey")
        yield lab, old, new


def _answers(address: str) -> bool:
    try:
        socket.create_connection((address, 2379), 0.5).close()
    except OSError:
        return False
    return True


def test_members_are_updated_one_at_a_time_the_leader_last_and_no_acknowledged_key_is_lost(quorum):
    lab, old, new = quorum
    before = {row["node"]: (row["version"], row["role"]) for row in lab.run("inventory", "--json").rows}
    leader = next(node for node, (_, role) in before.items() if role == "leader")
    assert {version for version, _ in before.values()} == {old}
    writer = Writer([host.address for host in lab.hosts.values()])
    with asking(writer.key, 0.02) as asked:
        lab.well("stock", "fetch", "roster")
        lab.well("backup", "take", "roster")
        lab.well("check")
        lab.well("plan", "roster")
        done = lab.run("roll", "roster", "--consent", "one-way:roster")
        print(done.out, done.err)
        assert done.code == 0
    print(asked.longest, asked.failed, len(asked.done))
    after = {row["node"]: (row["version"], row["role"]) for row in lab.run("inventory", "--json").rows}
    assert {version for version, _ in after.values()} == {new}
    assert after[leader][1] == "member"
    restarts = [line for line in done.err.splitlines() if " restart " in line and "begun" in line]
    assert [re.search(r"roster/(\w)", line)[1] for line in restarts][-1] == leader
    assert asked.longest_s < ELECTION_S - 1, asked.longest  # nobody had to be elected: the lead was handed over
    ranged = writer.ask("/v3/kv/range", {"key": coded("k"), "range_end": coded("l"), "keys_only": True})
    kept = {int(base64.b64decode(row["key"])[1:]) for row in ranged["kvs"]}
    assert not set(asked.done) - kept
    lab.well("verify", "roster")
