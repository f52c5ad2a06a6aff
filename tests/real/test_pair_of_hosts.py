"""Two hosts behind an address that moves, updated from a signed
repository with real restarts, while somebody connects all the time."""

from __future__ import annotations

import functools
import http.server
import re
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from .conftest import needed
from .hosts import Host, number_of, several
from .lab import Lab, asking, until
from .repository import package, signed

pytestmark = pytest.mark.machines

NUMBER = number_of(43)
AWAY_S = 2.8  # what the address may be away; where nobody prepared it, it is three of the keepers' seconds at least
PAIR = f"""\
  gates:
    product: debian/host
    shape: pair
    site: hall
    driver: debian
    profile: debian-pair
    nodes:
{{nodes}}
    services: {{{{doors: {{{{address: "10.213.{NUMBER}.100:22", budget_s: {AWAY_S}, every_s: 0.1}}}}}}}}
"""
# As one sets it up where the hosts are busy: the keeper goes first, else a host at work is taken for a dead one.
KEEPER = """global_defs {{
  vrrp_version 3
  vrrp_rt_priority 50
}}
vrrp_instance doors {{
  state BACKUP
  nopreempt
  interface eth0
  virtual_router_id 7
  priority {priority}
  advert_int 1
  virtual_ipaddress {{ {address}/24 }}
}}
"""
WANTS_RESTART = "touch /run/reboot-required; echo kissgate > /run/reboot-required.pkgs"


def furnish(root: Path, addresses: str, number: int) -> None:
    (root / "etc" / "keepalived").mkdir(exist_ok=True)
    keeper = KEEPER.format(priority=120 - 10 * number, address=f"{addresses}.100")
    (root / "etc" / "keepalived" / "keepalived.conf").write_text(keeper)


def carries(host: Host) -> bool:
    return f"10.213.{NUMBER}.100" in host.say("ip -o addr show eth0")


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *words: object) -> None: ...


@contextmanager
def served(folder: Path, address: str) -> Iterator[str]:
    """The folder over http at this address."""
    server = http.server.ThreadingHTTPServer((address, 0), functools.partial(Quiet, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://{address}:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def gates(folder: Path) -> Iterator[tuple[Lab, Path]]:
    """A lab in front of both hosts, on which 1.2 of a package runs; 1.3 is in the channel."""
    pool = folder / "channel"
    pool.mkdir()
    package(pool, "kissgate", "1.2-1", files={"etc/kissgate.conf": "gates=4\n"})
    signed(pool)
    with (
        several(folder, NUMBER, "ab", furnish, ("keepalived.service",)) as hosts,
        served(pool / "repo", f"10.213.{NUMBER}.254") as url,
    ):
        for host in hosts.values():
            (host.root / "etc" / "apt" / "site.gpg").write_bytes((pool / "site.gpg").read_bytes())
            (host.root / "etc" / "apt" / "sources.list").write_text(
                f"deb [signed-by=/etc/apt/site.gpg] {url} site main\n"
            )
            host.say("apt-get -q update; apt-get -y -q install kissgate")
        package(
            pool, "kissgate", "1.3-1", files={"etc/kissgate.conf": "gates=4\n"}, postinst="sleep 8; " + WANTS_RESTART
        )
        signed(pool)
        until(lambda: carries(hosts["a"]) != carries(hosts["b"]))
        (folder / "lab").mkdir()
        lab = Lab(folder / "lab", hosts, PAIR)
        (lab.folder / "site.gpg").write_bytes((pool / "site.gpg").read_bytes())
        lab.well("catalog", "add", "debs", f"deb {url} site main", "--key", "site.gpg")
        lab.well("catalog", "sync")
        lab.well("survey")
        yield lab, pool


def connects(number: int) -> None:
    socket.create_connection((f"10.213.{NUMBER}.100", 22), 0.5).close()


@pytest.fixture
def pair(tmp_path) -> Iterator[Lab]:
    needed("systemd-nspawn", "sshd", "ip", "apt-ftparchive", "dpkg-deb", "gpg", "keepalived")
    with gates(tmp_path) as (lab, pool):
        lab.pool = pool
        yield lab


def boots(lab: Lab) -> dict[str, str]:
    return {name: host.say("cat /proc/sys/kernel/random/boot_id").strip() for name, host in lab.hosts.items()}


def of_kissgate(host: Host) -> str:
    """What dpkg on the host says of the package."""
    return host.say("dpkg-query -W -f='${Status} ${Version}' kissgate")


def order(done: str, what: str) -> list[str]:
    """The hosts on which a kind of step was begun, in their order."""
    return re.findall(rf"gates/(\w) {what} .*: begun", done)


def test_hosts_are_updated_and_really_restarted_in_order_and_their_address_is_away_for_less_than_a_failover(pair):
    first = "a" if carries(pair.hosts["a"]) else "b"
    other = "b" if first == "a" else "a"
    before = boots(pair)
    with asking(connects, 0.05) as asked:
        gaps = pair.run("gaps", "--json")
        assert {r["component"] for r in gaps.rows if r["standing"] == "behind"} == {"kissgate"}
        pair.well("backup", "take", "gates")
        assert pair.run("check", "gates", "--json").code in (0, 1)
        pair.well("plan", "gates")
        updated = pair.run("roll", "gates")
        assert updated.code == 0, updated.out + updated.err
        assert order(updated.err, "install kissgate") == [other, first]
        assert boots(pair) == before
        looked = pair.run("verify", "gates")
        assert "a restart" in looked.out  # the package wants one on both hosts
        pair.well("plan", "gates", "--restart", "--reason", "the kissgate wants it")
        restarted = pair.run("roll", "gates")
        assert restarted.code == 0, restarted.out + restarted.err
        assert order(restarted.err, "restart") == [first, other]  # the address had moved before
    after = boots(pair)
    assert all(after[name] != before[name] for name in before)
    assert asked.longest_s < AWAY_S, f"{asked.longest}\n{updated.err}\n{restarted.err}"
    assert {of_kissgate(host) for host in pair.hosts.values()} == {"install ok installed 1.3-1"}
    pair.well("verify", "gates")
    _goes_back_though_the_channel_has_it_no_more(pair)


def _goes_back_though_the_channel_has_it_no_more(pair: Lab) -> None:
    """What ran before was kept by each host when it was updated, in a folder that only root writes to."""
    (pair.pool / "repo" / "pool" / "kissgate_1.2-1_all.deb").unlink()
    signed(pair.pool)
    for host in pair.hosts.values():
        host.say("apt-get -q update")
    pair.well("survey")
    for name in pair.hosts:
        at_hand = pair.run("inventory", f"gates/{name}", "--json").json["reading"]["at_hand"]
        assert {"name": "kissgate", "version": "1.2-1"} in at_hand
    plan = re.search(r"plan-[0-9a-f]+", pair.run("backout", "roll-0001").out)
    assert plan is not None
    back = pair.run("roll", plan[0])
    assert back.code == 0, back.out + back.err
    assert {of_kissgate(host) for host in pair.hosts.values()} == {"install ok installed 1.2-1"}


def test_a_host_that_loses_its_power_in_the_middle_of_its_update_is_finished_by_resume(pair):
    second = "a" if carries(pair.hosts["a"]) else "b"
    with asking(connects, 0.05) as asked:
        pair.well("plan", "gates")
        roll = pair.begin("roll", "gates")
        until(lambda: "half-configured" in of_kissgate(pair.hosts[second]), 120)
        pair.hosts[second].cut_power()
        pair.hosts[second].power_on()
        assert "half-configured" in of_kissgate(pair.hosts[second])
        out, err = roll.communicate(timeout=600)
        assert roll.returncode == 4, out + err
        assert f"gates/{second}: install kissgate to 1.3-1 failed: it ended without a word" in out + err
        done = pair.run("resume", "roll-0001")
        assert done.code == 0, done.out + done.err
    assert asked.longest_s < AWAY_S, asked.longest
    assert {of_kissgate(host) for host in pair.hosts.values()} == {"install ok installed 1.3-1"}
