"""A primary and its streaming standby, updated by the profile that
comes with Gallant, while somebody writes all the time."""

from __future__ import annotations

import ctypes
import ctypes.util
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from .builds import installed_version, repacked
from .conftest import needed
from .hosts import number_of, several
from .lab import Lab, asking, until

pytestmark = pytest.mark.machines

PAIR = """\
  ledger:
    product: postgresql/server
    shape: pair
    site: hall
    driver: shell
    profile: postgresql-pair
    nodes:
{nodes}
"""
MAJOR = next((p.parent.parent.name for p in sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"))), "15")
SETTINGS = "listen_addresses = '*'\nwal_keep_size = 256\nfsync = off\n"
ENTRIES = "local all all peer\nhost all all {net}.0/24 trust\nhost replication all {net}.0/24 trust\n"
PRIMARY = f"""set -e
pg_createcluster {MAJOR} main -p 5432
cat /root/settings >> /etc/postgresql/{MAJOR}/main/postgresql.conf
cat /root/entries > /etc/postgresql/{MAJOR}/main/pg_hba.conf
systemctl start postgresql@{MAJOR}-main
cd /tmp
as() {{ runuser -u postgres -- psql -qX -d postgres -c "$1"; }}
as "create role root login; grant pg_monitor to root"
as "create role follows login replication; grant execute on function pg_promote to follows"
as "create role writes login; create table rows (n int primary key); grant all on rows to writes"
"""
STANDBY = f"""set -e
pg_createcluster {MAJOR} main -p 5432
cat /root/settings >> /etc/postgresql/{MAJOR}/main/postgresql.conf
cat /root/entries > /etc/postgresql/{MAJOR}/main/pg_hba.conf
cd /tmp; rm -rf /var/lib/postgresql/{MAJOR}/main
runuser -u postgres -- pg_basebackup -h PRIMARY -U follows -D /var/lib/postgresql/{MAJOR}/main -X stream -c fast -R -C -S other
systemctl start postgresql@{MAJOR}-main
"""


PSQL = "cd /tmp; runuser -u postgres -- psql -qXAt -d postgres"


class Writer:
    """One connection to whichever of the two takes writes, made anew when it breaks."""

    def __init__(self, hosts: list[str]) -> None:
        self.library = ctypes.CDLL(ctypes.util.find_library("pq") or "libpq.so.5")
        for name, kind in (
            ("PQconnectdb", ctypes.c_void_p),
            ("PQexec", ctypes.c_void_p),
            ("PQgetvalue", ctypes.c_char_p),
        ):
            getattr(self.library, name).restype = kind
        ports = ",".join("5432" for _ in hosts)
        self.words = f"host={','.join(hosts)} port={ports} user=writes dbname=postgres target_session_attrs=read-write connect_timeout=2 tcp_user_timeout=800"
        self.connection: int | None = None

    def say(self, sql: str) -> str:
        """The first value that a statement gives; OSError where it was not acknowledged."""
        pq = self.library
        if self.connection is None:
            self.connection = pq.PQconnectdb(self.words.encode())
        if pq.PQstatus(ctypes.c_void_p(self.connection)) != 0:
            self.close()
            raise OSError("no primary")
        result = pq.PQexec(ctypes.c_void_p(self.connection), sql.encode())
        try:
            if pq.PQresultStatus(ctypes.c_void_p(result)) not in (1, 2):
                self.close()
                raise OSError("not acknowledged")
            rows = pq.PQntuples(ctypes.c_void_p(result))
            return pq.PQgetvalue(ctypes.c_void_p(result), 0, 0).decode() if rows else ""
        finally:
            pq.PQclear(ctypes.c_void_p(result))

    def close(self) -> None:
        if self.connection is not None:
            self.library.PQfinish(ctypes.c_void_p(self.connection))
        self.connection = None

    def row(self, number: int) -> None:
        self.say(f"insert into rows values ({number})")


def furnish(root: Path, addresses: str, number: int) -> None:
    """A machine without any cluster of its own yet."""
    for place in (*root.glob("etc/postgresql/*"), *root.glob("var/lib/postgresql/*")):
        shutil.rmtree(place, ignore_errors=True)
    (root / "root" / "settings").write_text(SETTINGS)
    (root / "root" / "entries").write_text(ENTRIES.format(net=addresses))


@pytest.fixture(scope="module")
def build(tmp_path_factory) -> tuple[str, str, Path]:
    """The version that is installed here, the next, and its package."""
    needed("systemd-nspawn", "sshd", "ip", "dpkg-deb", "pg_createcluster")
    package = f"postgresql-{MAJOR}"
    old = installed_version(package)
    new = old[:-1] + str((int(old[-1]) + 1) % 10 or 1) if old[-1].isdigit() else old[:-1] + "z"
    return old, new, repacked(tmp_path_factory.mktemp("build"), package, new, old.encode(), new.encode())


@pytest.fixture
def pair(tmp_path, build) -> Iterator[Lab]:
    with several(tmp_path, number_of(41), "ab", furnish) as hosts:
        hosts["a"].say(PRIMARY)
        hosts["b"].say(STANDBY.replace("PRIMARY", hosts["a"].address))
        (tmp_path / "lab").mkdir()
        lab = Lab(tmp_path / "lab", hosts, PAIR)
        old, new, package = build
        lab.follow("postgresql/server", "deb", [(old, None), (new, package)])
        lab.well("survey")
        yield lab


def primary(pair: Lab, sql: str) -> str:
    host = next(h for h in pair.hosts.values() if "f" in h.say(f"{PSQL} -c 'select pg_is_in_recovery()'"))
    return host.say(f'{PSQL} -c "{sql}"').strip()


def versions(pair: Lab) -> dict[str, tuple[str, str]]:
    pair.well("survey")
    return {row["node"]: (row["version"], row["role"]) for row in pair.run("inventory", "--json").rows}


def test_a_pair_is_updated_standby_first_without_a_row_lost_and_not_begun_while_its_writes_would_wait(pair, build):
    old, new, _ = build
    writer = Writer([host.address for host in pair.hosts.values()])
    with asking(writer.row, 0.02) as asked:
        pair.well("stock", "fetch", "ledger")
        # The trap: the standby is the only synchronous one, so that its restart would have every write wait.
        primary(pair, "alter system set synchronous_standby_names = '*'")
        primary(pair, "select pg_reload_conf()")
        pair.well("survey")
        checked = pair.run("check", "ledger", "--json")
        stops = {r["message"] for r in checked.rows if r["level"] == "stop"}
        assert stops == {
            "ledger/a says: every write would wait while the other node is away, for it is the only synchronous standby"
        }
        pair.run("plan", "ledger")
        refused = pair.run("roll", "ledger", "--consent", "one-way:ledger")
        assert refused.code == 5, refused.err
        assert "Nothing was touched" in refused.err
        primary(pair, "alter system reset synchronous_standby_names")
        primary(pair, "select pg_reload_conf()")
        # A switchover that the standby would not take part in is refused before anything of the primary is stopped.
        primary(pair, "revoke execute on function pg_promote from follows")
        pair.well("survey")
        pair.well("plan", "ledger")
        stopped = pair.run("roll", "ledger", "--consent", "one-way:ledger")
        assert stopped.code == 4, stopped.err
        assert "follows may not promote the standby at" in stopped.out + stopped.err
        assert versions(pair) == {"a": (old, "active"), "b": (new, "standby")}
        failed_before = asked.failed
        primary(pair, "grant execute on function pg_promote to follows")
        pair.well("resume", "roll-0001")
    assert failed_before == 0  # nothing that any client would see, until the roles were moved
    assert asked.longest_s < 2.0
    assert versions(pair) == {"a": (new, "standby"), "b": (new, "active")}
    kept = set(map(int, primary(pair, "select string_agg(n::text, ' ') from rows").split()))
    assert not set(asked.done) - kept  # every row that was acknowledged
    pair.well("verify", "ledger")
    backup = pair.run("backup", "list", "--json").rows[0]
    pair.well("backup", "export", backup["id"], "unpacked")
    held = {p.name: p.read_bytes() for p in (pair.folder / "unpacked").rglob("*") if p.is_file()}
    assert b"CREATE ROLE follows" in next(text for name, text in held.items() if name.endswith("roles.sql"))
    assert any(b"wal_keep_size = 256" in text for name, text in held.items() if "settings.txt" in name)


def test_a_standby_that_loses_its_power_once_the_primary_has_stopped_leaves_the_primary_serving_again(pair, build):
    _, new, _ = build
    one, other = pair.hosts["a"], pair.hosts["b"]
    drop_in = f"/etc/systemd/system/postgresql@{MAJOR}-main.service.d"
    writer = Writer([host.address for host in pair.hosts.values()])
    with asking(writer.row, 0.02) as asked:
        pair.well("stock", "fetch", "ledger")
        pair.well("plan", "ledger")
        one.say(
            f"mkdir -p {drop_in}; printf '[Service]\\nExecStopPost=/bin/sh -c \"touch /run/stopped; sleep 3\"\\n' > {drop_in}/slow.conf; systemctl daemon-reload"
        )
        roll = pair.begin("roll", "ledger", "--consent", "one-way:ledger")
        until(lambda: roll.poll() is not None or "yes" in one.say("test -e /run/stopped && echo yes || echo no"), 400)
        assert roll.poll() is None, roll.communicate()
        other.cut_power()
        out, err = roll.communicate(timeout=300)
        assert roll.returncode == 4, out + err
        assert "did not get all that was written; nothing was moved" in out + err
        assert primary(pair, "select 1") == "1"
        one.say(f"rm -r {drop_in}; systemctl daemon-reload")
        other.power_on()
        other.say(f"systemctl start postgresql@{MAJOR}-main")
        done = pair.run("resume", "roll-0001")
        assert done.code == 0, done.out + done.err
    assert asked.longest_s < 40.0, asked.longest  # while nobody could take over
    assert versions(pair) == {"a": (new, "standby"), "b": (new, "active")}
    kept = set(map(int, primary(pair, "select string_agg(n::text, ' ') from rows").split()))
    assert not set(asked.done) - kept
