"""Every check on the running line: a fault of a stand-in or a line
of the estate that makes it fire, and where it does not."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from importlib import resources

import pytest

from gallant.core.checks.all import CHECKS
from tests.conftest import TERMS, Place, starting
from tests.core.test_work import assert_command

OWN_CATALOG = """\
publisher: quernix
products:
  - name: quernix/q4
    scheme: dotted
    releases:
      - version: "2026.1"
        released: 2026-01-01T00:00:00Z
        requires: [{product: lanyard/tidemark, range: "vers:dotted/>=9.0"}]
"""


@pytest.fixture(scope="module")
def line(tmp_path_factory) -> Iterator[Place]:
    """The whole line, surveyed, its catalogs followed; some of it made ready and some left as it came."""
    with starting(tmp_path_factory.mktemp("line")) as make:
        place: Place = make(speed=60.0, whole=True)
        place.follow_catalog()
        for name in ("sundholm", "gorsefield", "tarnholt"):
            url = place.said["publishers"][name]["url"]
            ready(place, "catalog", "add", name, url, "--key", f"keys/{name}.pub")
        (place.folder / "draft.yaml").write_text(OWN_CATALOG)
        ready(place, "catalog", "draft", "draft.yaml")
        signed = ready(place, "catalog", "sign", "catalog.json", "--key", "own.pem", "--new-key")
        ready(place, *re.search(r"gallant (catalog add \S+ \S+ --key \S+)", signed)[1].split())
        ready(place, "catalog", "sync")
        ready(place, "survey")
        ready(place, "stock", "fetch", "tickets")
        for system in ("overlook", "fulmar-box"):
            ready(place, "backup", "take", system)
        ready(place, "backup", "verify", "fulmar-box")
        ready(place, "snapshot", "take", "overlook", "--reason", "trial")
        with edited(place, "{for: tickets, aim: settled 90d}", "{for: tickets, aim: pin 2.11.3}"):
            ready(place, "notice", "accept", "tickets:image")
            plan = re.search(r"plan-[0-9a-f]+", ready(place, "plan", "tickets"))[0]
            assert place.run("roll", plan, "--hold-after", "step").code == 4
        yield place


def ready(place: Place, *words: str) -> str:
    done = place.run(*words)
    assert done.code in (0, 1), (words, done.out, done.err)
    return done.out


@contextlib.contextmanager
def edited(place: Place, old: str, new: str) -> Iterator[None]:
    path = place.folder / "estate.yaml"
    text = path.read_text()
    assert old in text, old
    path.write_text(text.replace(old, new, 1))
    try:
        yield
    finally:
        path.write_text(text)


@contextlib.contextmanager
def fault(place: Place, name: str, node: str, act: str = "", value: float = 0) -> Iterator[None]:
    place.faults({"name": name, "node": node, "act": act, "value": value})
    try:
        yield
    finally:
        place.faults()


@contextlib.contextmanager
def ran(place: Place, *words: str, back: tuple[str, ...] = ()) -> Iterator[None]:
    ready(place, *words)
    yield
    if back:
        ready(place, *back)


@contextlib.contextmanager
def without_its_catalog(place: Place) -> Iterator[None]:
    path = place.folder / "catalog.json"
    raw = path.read_bytes()
    path.unlink()
    assert place.run("catalog", "sync").code in (3, 4)
    yield
    path.write_bytes(raw)
    ready(place, "catalog", "sync")


@contextlib.contextmanager
def another_secret(place: Place) -> Iterator[None]:
    path = place.folder / "secrets" / "act"
    secret = path.read_text()
    path.write_text("not it")
    yield
    path.write_text(secret)


@contextlib.contextmanager
def everybody_writes(place: Place) -> Iterator[None]:
    path = place.folder / "estate.yaml"
    path.chmod(0o666)
    yield
    path.chmod(0o600)


@contextlib.contextmanager
def nothing_to_export(place: Place) -> Iterator[None]:
    """The ship's storage under a profile that knows no exports."""
    own = resources.files("gallant.drivers") / "profiles" / "ostrel-shoal-mini.yaml"
    text = own.read_text("utf-8").partition("\nexports:")[0]
    (place.folder / "mute.yaml").write_text(text.replace("name: ostrel-shoal-mini", "name: mute"))
    with edited(place, "profile: ostrel-shoal-mini", "profile: mute.yaml"):
        assert fired(place, "fulmar-box", "backup") == []
        yield


@contextlib.contextmanager
def half_restored(place: Place) -> Iterator[None]:
    with fault(place, "unwell", "fulmar-box/a", "restore"):
        assert place.run("backup", "restore", "fulmar-box", "--yes").code == 4
    yield
    ready(place, "backup", "restore", "fulmar-box", "--yes")
    assert fired(place, "fulmar-box", "restored") == []


Arrange = Callable[[Place], contextlib.AbstractContextManager[None]]


def unwell(what: str, node: str = "tickets/b") -> Arrange:
    return lambda place: fault(place, "unwell", node, what)


def estate(old: str, new: str) -> Arrange:
    return lambda place: edited(place, old, new)


def one_address(place: Place) -> contextlib.AbstractContextManager[None]:
    """Both nodes of tickets under the address of one of them."""
    a, b = (place.said["nodes"][f"tickets/{n}"] for n in "ab")
    row = '"{address}", serial: {serial}, fingerprint: "{fingerprint}"'
    return edited(place, row.format(**b), row.format(**{**a, "address": a["address"] + "/", "serial": b["serial"]}))


def unnamed(place: Place) -> contextlib.AbstractContextManager[None]:
    """A node whose serial the estate leaves out."""
    return edited(place, f", serial: {place.said['nodes']['tickets/b']['serial']}", "")


def service_at(place: Place, address: str) -> contextlib.AbstractContextManager[None]:
    return edited(place, place.said["services"]["blocks"], address)


def as_it_is(place: Place) -> contextlib.AbstractContextManager[None]:
    return contextlib.nullcontext()


@dataclass(frozen=True)
class Row:
    """`fires` at this level, with these words, once it is so arranged; before that, or on `quiet`, it does not."""

    check: str
    level: str
    words: str
    fires: str = "tickets"
    quiet: str = ""
    arrange: Arrange = as_it_is


def host_of(place: Place) -> str:
    return re.search(r"//([^:/]+)", place.said["nodes"]["tickets/a"]["address"])[1]


LIMITS = "\nlimits: {{{}}}\naims:\n"


@contextlib.contextmanager
def to_be_typed(place: Place) -> Iterator[None]:
    """A booking of what nobody types the secret for."""
    book = ("notice", "book", "sealock:image")
    with (
        edited(place, 'act: {user: gallant-act, secret: "file:secrets/act"}', "act: {user: gallant-act, secret: ask}"),
        ran(place, *book, "2031-01-01T22:00Z", "--yes", back=(*book, "--cancel")),
    ):
        yield


TABLE = (
    Row("reachable", "stop", "was not read", arrange=lambda p: fault(p, "swapped_machine", "tickets/b")),
    Row("known-by-sight", "warn", "nobody has confirmed", arrange=unnamed),
    Row("distinct", "stop", "one machine", arrange=one_address),
    Row("in-service", "stop", "not in service", arrange=unwell("condition")),
    Row("in-sync", "stop", "not whole", arrange=unwell("replica")),
    Row("roles", "warn", "usual place", fires="deck", quiet="tickets"),
    Row("no-job", "stop", "busy", arrange=unwell("task")),
    Row("restart-pending", "warn", "next restart", arrange=unwell("start")),
    Row("versions-even", "warn", "different versions", fires="deck", quiet="tickets"),
    Row("space", "stop", "no room", arrange=unwell("free space")),
    Row("clock", "warn", "is off", arrange=lambda p: fault(p, "clock_off", "tickets/b", value=7200)),
    Row("service-address", "warn", "'s own", arrange=lambda p: service_at(p, f"{host_of(p)}:9")),
    Row("service-address", "stop", "both answer", arrange=unwell("address")),
    Row(
        "service-answers",
        "stop",
        "does not answer",
        arrange=lambda p: service_at(p, p.said["services"]["blocks"].rpartition(":")[0] + ":9"),
    ),
    Row("backup", "warn", "no fresh sealed backup", fires="tidegauge", quiet="overlook"),
    Row("stock", "stop", "not in stock", fires="tidegauge", quiet="tickets"),
    Row("channels", "stop", "has no channel", fires="gates", arrange=unwell("channel", "gates/a")),
    Row("terms", "stop", f"terms {TERMS} are not accepted", quiet="slipway"),
    Row("known-issues", "note", "known issue of", quiet="slipway"),
    Row("site-notes", "note", "box office", quiet="slipway"),
    Row("open-roll", "note", "not finished", quiet="slipway"),
    Row("own-files", "warn", "others can write", arrange=everybody_writes),
    Row("own-path", "stop", "stands on tickets", arrange=estate("\nsites:\n", "\ngallant_on: tickets/a\nsites:\n")),
    Row("accounts", "stop", "does not let", arrange=another_secret),
    Row("redundancy", "stop", "can be taken out", arrange=unwell("replica")),
    Row(
        "capacity",
        "stop",
        "does not fit",
        fires="deck",
        arrange=estate("\naims:\n", LIMITS.format("ceiling_percent: 40")),
    ),
    Row("links", "stop", "1 of 2 links up", arrange=unwell("path 2")),
    Row("rescue", "warn", "no second way into", fires="tidegauge", quiet="tickets"),
    Row("recalled", "warn", "was recalled", fires="deck", quiet="tickets"),
    Row(
        "requirements",
        "warn",
        "lanyard/tidemark",
        fires="deck-hw",
        quiet="tickets",
        arrange=estate(
            "\naims:\n",
            '\ndeclared: {lanyard/tidemark: {version: "8.1", by: anna, date: 2026-11-01T00:00:00Z}}\naims:\n',
        ),
    ),
    Row("publisher", "warn", "from here", fires="deck-hw", arrange=without_its_catalog),
    Row("memory", "warn", "little memory", arrange=unwell("memory")),
    Row("sessions", "note", "3 sessions", arrange=unwell("sessions")),
    Row("backup-possible", "warn", "cannot be backed up", fires="fulmar-box", arrange=nothing_to_export),
    Row("backup-opened", "note", "opened ever", fires="overlook", quiet="fulmar-box"),
    Row(
        "backup-copies",
        "warn",
        "no copy at third-place",
        fires="overlook",
        arrange=estate("copies: [{to: second-place}]", "copies: [{to: second-place}, {to: third-place}]"),
    ),
    Row(
        "snapshots",
        "warn",
        "older than its limit",
        fires="overlook",
        arrange=estate("\naims:\n", LIMITS.format("snapshot_days: 0")),
    ),
    Row(
        "snapshot-room",
        "stop",
        "has no room for the restore point of overlook",
        fires="overlook",
        arrange=estate("\naims:\n", LIMITS.format("snapshot_room_gb: 900")),
    ),
    Row("restored", "warn", "did not end well", fires="fulmar-box", arrange=half_restored),
    Row("snapshot-possible", "note", "cannot be snapshotted", fires="fulmar-box", quiet="tickets"),
    Row("format", "warn", "waits to be raised to 4", fires="tidegauge", arrange=unwell("format", "tidegauge/a")),
    Row(
        "window",
        "warn",
        "does not fit",
        fires="sealock",
        arrange=lambda p: ran(
            p,
            *("notice", "book", "sealock:image", "2031-01-01T22:00Z", "--for", "5m", "--yes"),
            back=("notice", "book", "sealock:image", "--cancel"),
        ),
    ),
    Row("unattended", "warn", "cannot log in by itself", fires="sealock", arrange=to_be_typed),
    Row("alarms", "stop", "a fan has failed", arrange=lambda p: fault(p, "alarm", "tickets/b")),
    Row("readiness", "stop", "rule 12", fires="sealock", arrange=unwell("configuration", "sealock/b")),
    Row("expiries", "warn", "ends in", fires="sealock", quiet="tickets"),
    Row("saved", "warn", "something else", fires="slipway", quiet="sealock"),
    Row("updates-itself", "warn", "may update itself", arrange=unwell("updates itself")),
    Row("time-source", "warn", "no time source", arrange=unwell("time source")),
    Row("spare-slot", "warn", "no spare slot", arrange=unwell("spare bay")),
    Row("configuring", "warn", "by somebody", arrange=unwell("console")),
    Row("partner", "warn", "stops writing", arrange=unwell("partner")),
    Row("put-aside", "note", "keeps back", fires="manifest", quiet="gates"),
    Row("oddities", "note", "has no sessions", fires="deck-hw", quiet="deck"),
)


def fired(place: Place, system: str, check: str) -> list[dict]:
    return loud(place, system, "--only", check)


def loud(place: Place, *words: str) -> list[dict]:
    done = place.run("check", *words, "--json")
    assert done.code in (0, 1, 3, 5), done.err
    return [row for row in done.rows if row["level"] != "pass"]


@pytest.fixture(scope="module")
def as_it_came(line) -> list[dict]:
    """Everything that speaks up on the whole line before any row of the table is arranged."""
    return loud(line)


@pytest.mark.parametrize("row", TABLE, ids=lambda row: row.check)
def test_each_check_fires_on_the_line_where_it_should_and_is_quiet_where_it_should_be(line, as_it_came, row):
    before = [f for f in as_it_came if f["check"] == row.check and row.words in f["message"]]
    assert [f for f in before if f["system"] == (row.quiet or row.fires)] == []
    found = [f for f in before if f["system"] == row.fires]
    if row.arrange is not as_it_is:
        with row.arrange(line):
            found = [f for f in fired(line, row.fires, row.check) if row.words in f["message"]]
    assert row.level in {f["level"] for f in found}
    assert found[0]["next"] or row.level == "note"
    for said in re.findall(r"gallant [^;]+", found[0]["next"] or ""):
        assert_command(said)


def test_the_table_has_every_check():
    assert {check.id for check, _ in CHECKS} == {row.check for row in TABLE}
