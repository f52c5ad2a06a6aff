"""Two hosts behind an address that moves, updated from a signed repository with real restarts, while somebody connects all the time."""

from __future__ import annotations

import functools
import http.server
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from .hosts import Host, several
from .lab import Lab, until
from .repository import package, signed

NUMBER = 43
PAIR = f"""\
  gates:
    product: debian/host
    shape: pair
    site: hall
    driver: debian
    profile: debian-pair
    nodes:
{{nodes}}
    services: {{{{doors: {{{{address: "10.213.{NUMBER}.100:22", budget_s: 1, every_s: 0.1}}}}}}}}
"""
KEEPER = """global_defs {{ vrrp_version 3 }}
vrrp_instance doors {{
  state BACKUP
  nopreempt
  interface eth0
  virtual_router_id 7
  priority {priority}
  advert_int 0.2
  virtual_ipaddress {{ {address}/24 }}
}}
"""
WANTS_RESTART = "touch /run/reboot-required; echo turnstile > /run/reboot-required.pkgs"


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
    package(pool, "turnstile", "1.2-1", files={"etc/turnstile.conf": "gates=4\n"})
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
            host.say("apt-get -q update; apt-get -y -q install turnstile")
        package(
            pool, "turnstile", "1.3-1", files={"etc/turnstile.conf": "gates=4\n"}, postinst="sleep 3; " + WANTS_RESTART
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
