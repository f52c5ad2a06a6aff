"""The whole way of a timer, on a machine that boots: units as they are printed, secrets from
their file, a booked roll that a power cut ends in its midst and that is carried on after the
boot, and a failure of which people are told by mail and by a command. Nobody logs in."""

from __future__ import annotations

import json
import shutil
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from shlex import quote

import pytest

from .conftest import needed
from .hosts import Host, number_of, run, several
from .repository import package, signed
from .test_pair_of_hosts import served

pytestmark = pytest.mark.machines

NUMBER = number_of(46)
ESTATE = """\
gallant: estate/1
name: line
sites: {{hall: {{time_zone: UTC}}}}
limits: {{steady_s: 3, free_space_factor: 1.0, memory_free_mb: 1}}
backups: {{plain: yes}}
aims: [{{for: default, aim: newest}}]
due: {{retry_minutes: 1}}
accounts:
  read: {{user: root, secret: "env:GATES_WORD"}}
  act: {{user: root, secret: "env:GATES_WORD"}}
notify:
  - {{run: "sh -c 'cat >> {told}'", when: [stopped]}}
  - {{mail: {{to: [night@line.example], from: gallant@line.example, server: "127.0.0.1:2525", tls: none}}, when: [stopped]}}
systems:
  gates:
    product: debian/host
    shape: single
    site: hall
    driver: debian
    profile: debian
    nodes: {{a: {{address: "ssh://{host.address}", serial: "{host.serial}", fingerprint: "{host.fingerprint}"}}}}
"""
# A mail server that keeps what it is given.
POSTBOX = """
import socketserver
class Letter(socketserver.StreamRequestHandler):
    def handle(self):
        self.wfile.write(b"220 here\\r\\n")
        for line in self.rfile:
            word = line.split(b" ")[0].strip().upper()
            if word == b"DATA":
                self.wfile.write(b"354 go on\\r\\n")
                with open("/srv/mail", "ab") as kept:
                    for text in self.rfile:
                        if text == b".\\r\\n":
                            break
                        kept.write(text)
            self.wfile.write(b"221 bye\\r\\n" if word == b"QUIT" else b"250 well\\r\\n")
socketserver.ThreadingTCPServer.allow_reuse_address = True
socketserver.ThreadingTCPServer(("127.0.0.1", 2525), Letter).serve_forever()
"""
UNIT = "[Unit]\nDescription=A postbox\n[Service]\nExecStart={python} /srv/postbox.py\n[Install]\nWantedBy=multi-user.target\n"
WORD = "a-word-for-the-gates"
# Wherever this project lies here, the keeper has it in one place: under /tmp it would be hidden by the keeper's own.
PROJECT, PROGRAM = Path(__file__).parents[2], "/srv/program"
PYTHON = f"/srv/python/{Path(sys.executable).relative_to(sys.prefix)}"
BINDS = (f"{PROJECT}:{PROGRAM}", f"{sys.prefix}:/srv/python", f"{sys.base_prefix}:{sys.base_prefix}")
WITH = {"GATES_WORD": WORD, "PYTHONPATH": f"{PROGRAM}/src"}


def until(holds: Callable[[], bool], within_s: float, keeper: Host) -> None:
    """Wait until it holds; where it does not, what the unit says of itself."""
    end = time.monotonic() + within_s
    while not holds():
        told = "systemctl status gallant-line-due.service gallant-line-due.timer; cat /srv/line/state/*.log; journalctl -q --no-pager -n 40"
        assert time.monotonic() < end, keeper.say(f"({told}) 2>&1 || true")
        time.sleep(0.3)


def furnish(root: Path, addresses: str, number: int) -> None:
    (root / "srv" / "postbox.py").write_text(POSTBOX)
    (root / "etc" / "systemd" / "system" / "postbox.service").write_text(UNIT.format(python=PYTHON))


@dataclass
class Office:
    """The machine that has an estate in a `folder` of `whose`, and the one that is looked after."""

    keeper: Host
    gates: Host
    pool: Path
    url: str
    folder: str = "/srv/line"
    whose: str = "root"

    def gallant(self, *words: str) -> str:
        given = " ".join(f"{name}={value}" for name, value in WITH.items())
        return self.by_owner(f"cd {self.folder} && {given} {PYTHON} -P -m gallant {' '.join(words)}")

    def by_owner(self, command: str) -> str:
        """As the estate's owner types it, and as their own systemd has it."""
        if self.whose == "root":
            return self.keeper.say(command)
        bus = f"export HOME=/home/{self.whose} XDG_RUNTIME_DIR=/run/user/$(id -u {self.whose})"
        return self.keeper.say(
            f"{bus}; setpriv --reuid {self.whose} --regid {self.whose} --init-groups sh -c {quote(command)}"
        )

    def move_in(self) -> None:
        """Make the estate, follow the channel and read the gates."""
        self.by_owner(f"mkdir -m 700 -p {self.folder}/secrets")
        told = "/srv/told" if self.whose == "root" else f"/home/{self.whose}/told"
        folder = self.keeper.root / self.folder.lstrip("/")
        (folder / "estate.yaml").write_text(ESTATE.format(host=self.gates, told=told))
        shutil.copy(self.pool / "site.gpg", folder / "site.gpg")
        self.keeper.say(f"chown -R {self.whose}: {self.folder}")
        self.gallant("catalog", "add", "debs", f"'deb {self.url} site main'", "--key", "site.gpg")

    def bring(self, version: str, **more: str) -> None:
        """Publish a package, and know of it."""
        package(self.pool, "kissgate", version, **more)
        signed(self.pool)
        self.gallant("catalog", "sync")
        self.gallant("survey")

    def rows(self, *words: str) -> list[dict]:
        return json.loads(self.gallant(*words, "--json"))["rows"]

    def book(self, minutes: float) -> datetime:
        """All of a notice's consents, for a time to come."""
        at = (datetime.now(UTC) + timedelta(minutes=minutes)).replace(second=0, microsecond=0) + timedelta(minutes=1)
        consents = "--consent downtime:gates --consent one-way:gates"
        self.gallant("notice", "book", "gates:kissgate", f"{at:%Y-%m-%dT%H:%MZ}", "--for", "1h", consents)
        return at

    def runs(self) -> list[str]:
        return [f"{row['run']} {row['state']}" for row in self.rows("history")]


@pytest.fixture(scope="module")
def office(tmp_path_factory) -> Iterator[Office]:
    tmp_path = tmp_path_factory.mktemp("office")
    needed("systemd-nspawn", "sshd", "ip", "apt-ftparchive", "dpkg-deb", "gpg")
    pool = tmp_path / "channel"
    pool.mkdir()
    package(pool, "kissgate", "1.2-1")
    signed(pool)
    with (
        several(tmp_path, NUMBER, "ab", furnish, binds=BINDS) as hosts,
        served(pool / "repo", f"10.213.{NUMBER}.254") as url,
    ):
        keeper, gates = hosts["a"], hosts["b"]
        (gates.root / "etc" / "apt" / "site.gpg").write_bytes((pool / "site.gpg").read_bytes())
        (gates.root / "etc" / "apt" / "sources.list").write_text(f"deb [signed-by=/etc/apt/site.gpg] {url} site main\n")
        gates.say(f"apt-get -q update; apt-get -y -q install kissgate; echo root:{WORD} | chpasswd")
        keeper.say("systemctl enable --now postbox")
        yield Office(keeper, gates, pool, url)


def test_a_booked_roll_is_begun_cut_off_and_carried_on_by_the_timer_and_a_failure_is_told(office):
    keeper, gates = office.keeper, office.gates
    office.move_in()
    office.bring("1.3-1", postinst="sleep 12")
    (keeper.root / "srv" / "line" / "secrets" / "timer.env").write_text(
        "".join(f"{name}={value}\n" for name, value in WITH.items())
    )
    keeper.say("chmod 600 /srv/line/secrets/timer.env")
    for unit in office.rows("init", "/srv/line", "--timer", "system"):
        (keeper.root / unit["file"].lstrip("/")).write_text(unit["text"])
    keeper.say("systemctl daemon-reload; systemctl enable --now gallant-line-due.timer")
    office.book(0.2)
    until(lambda: office.runs() != [], 150, keeper)
    until(lambda: "dpkg" in gates.say("ps -e -o comm"), 60, keeper)
    keeper.cut_power()
    time.sleep(1)
    keeper.power_on()
    until(lambda: office.runs() == ["roll-0001 finished"], 240, keeper)
    assert gates.say("dpkg-query -W -f='${Version}' kissgate") == "1.3-1"
    begun = [e["subject"] for e in office.rows("ledger") if (e["kind"], e["state"]) == ("due", "begun")]
    assert begun.count("gates:kissgate") == 1
    assert 2 <= begun.count("roll-0001") <= 4
    assert keeper.say("systemctl is-failed gallant-line-due.service || true").strip() in ("inactive", "activating")

    office.bring("1.4-1")
    at = office.book(0.2)
    gates.say("(sleep 1; ip link set eth0 down) >/dev/null 2>&1 &")
    until(lambda: keeper.say("cat /srv/told 2>/dev/null || true") != "", 200, keeper)
    assert datetime.now(UTC) >= at
    told = json.loads(keeper.say("head -n 1 /srv/told"))
    assert told["text"].startswith("gates:kissgate was due and is not done")
    assert WORD not in keeper.say("cat /srv/told /srv/mail; journalctl --no-pager -q || true")
    letters = keeper.say("cat /srv/mail")
    assert "To: night@line.example" in letters
    assert "gates:kissgate was due and is not done" in letters.replace("=\r\n", "").replace("=\n", "")
    until(lambda: keeper.say("systemctl is-failed gallant-line-due.service || true").strip() == "failed", 90, keeper)
    assert office.runs() == ["roll-0001 finished"]


def test_the_units_of_an_ordinary_user_begin_what_is_booked_and_fail_where_it_is_left(office):
    """In a home, by the user's own systemd, which runs though nobody is logged in (lingering)."""
    keeper, gates = office.keeper, office.gates
    keeper.say("systemctl disable --now gallant-line-due.timer 2>/dev/null || true; useradd -m keeper")
    keeper.say("loginctl enable-linger keeper; rm -f /srv/told /srv/mail")
    ways = " ".join(str(folder) for folder in Path(sys.base_prefix).parents)
    keeper.say(f"chmod a+x {ways}")  # of a Python that lies in a home here
    run("ip", "-n", gates.name, "link", "set", "eth0", "up")
    own = replace(office, folder="/home/keeper/line", whose="keeper")
    until(lambda: "running" in own.by_owner("systemctl --user is-system-running || true"), 60, keeper)
    own.move_in()
    own.bring("1.5-1")
    home = keeper.root / "home" / "keeper"
    secrets, units = home / "line" / "secrets" / "timer.env", home / ".config" / "systemd" / "user"
    secrets.write_text("".join(f"{name}={value}\n" for name, value in WITH.items()))
    units.mkdir(parents=True)
    for unit in own.rows("init", "/home/keeper/line", "--timer", "user"):
        (units / Path(unit["file"]).name).write_text(unit["text"])
    keeper.say(f"chown -R keeper: /home/keeper; chmod 600 {own.folder}/secrets/timer.env")
    own.by_owner("systemctl --user daemon-reload; systemctl --user enable --now gallant-line-due.timer")
    own.book(0.2)
    until(lambda: own.runs() == ["roll-0001 finished"], 240, keeper)
    assert gates.say("dpkg-query -W -f='${Version}' kissgate") == "1.5-1"
    unit = "systemctl --user is-failed gallant-line-due.service || true"
    assert own.by_owner(unit).strip() in ("inactive", "activating")

    own.bring("1.6-1")
    at = own.book(0.2)
    secrets.write_text(f"PYTHONPATH={WITH['PYTHONPATH']}\n")  # where the program lies, and no secret any more
    until(lambda: own.by_owner(unit).strip() == "failed", 150, keeper)
    assert datetime.now(UTC) >= at
    told = json.loads(keeper.say("head -n 1 /home/keeper/told"))
    assert told["text"].startswith("gates:kissgate was due and is not done")
    assert "GATES_WORD" in told["text"]
    assert WORD not in keeper.say("cat /home/keeper/told; journalctl --no-pager -q || true")
    assert own.runs() == ["roll-0001 finished"]
