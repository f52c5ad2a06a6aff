"""The shell driver: an appliance's prompt over SSH, a host's commands, host keys, and what a hostile one may try."""

from __future__ import annotations

import asyncio
import hashlib
import json
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from pathlib import Path

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, AnswerLost, DeviceRefused, LoginRefused, NotReached, WrongMachine
from gallant.drivers.profile_reading import load_profile, parse_profile
from gallant.drivers.shell import ShellDriver
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock
from gallant.standin.ports import reserve
from gallant.standin.shoal import Image, ShoalNode, ShoalPair
from gallant.standin.stile_ssh import StileServer
from gallant.standin.world import Fault, World

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  sealock:
    product: gorsefield/stile
    shape: pair
    site: s
    driver: shell
    profile: gorsefield-stile
    nodes:
      a: {{address: "ssh://127.0.0.1:{port}", serial: {serial}{trust}}}
      b: {{address: "ssh://127.0.0.1:1", serial: other}}
"""
BODY = b"a firewall's image" * 9000
MASTER = "m4ster-word"


def image(version: str, body: bytes, since: str | None = None) -> Image:
    digest = hashlib.sha256(body).hexdigest()
    times = {"install_s": 60, "restart_s": 60, "sync_s": 30}
    return Image(version=version, build="9", label="", sha256=digest, bytes=len(body), from_range=since, **times)


@asynccontextmanager
async def sealock(
    tmp_path, trust=None, serial="ST-1", secret="s3cret-word", master=MASTER, learn=None, faults=(), **tools
):
    world = World(datetime(2026, 11, 25, tzinfo=UTC), 1.0)
    world.faults = list(faults)
    nodes = {n: ShoalNode(n, f"ST-{i}", "10.0.0.0/24", "38.1b") for i, n in enumerate("ab", 1)}
    images = {i.version: i for i in (image("38.1b", b"old"), image("38.1k", BODY))}
    pair = ShoalPair(world, "sealock", nodes, images, active="b")
    keeper, port = reserve("127.0.0.1")
    accounts = {"reader-read": "s3cret-word", "keeper-act": "s3cret-word"}
    server = StileServer(pair, "a", "127.0.0.1", port, accounts, lambda: None, MASTER)
    await server.start()
    pin = f', fingerprint: "{server.line.fingerprint}"' if trust is None else trust
    estate = parse_estate("e", ESTATE.format(port=port, serial=serial, trust=pin))
    words = {
        "read": Credential("reader-read", secret),
        "act": Credential("keeper-act", secret),
        "elevate": Credential("x", master),
    }
    made = Tools(credentials=words.__getitem__, clock=EstateClock(estate), folder=tmp_path, learn_key=learn, **tools)
    driver = ShellDriver(estate.systems["sealock"], load_profile("gorsefield-stile", Path()), made)
    try:
        yield driver, server
    finally:
        await driver.close()
        await server.stop()
        keeper.close()


def test_an_appliances_prompt_pager_and_tables_become_one_reading(tmp_path):
    async def go():
        async with sealock(tmp_path) as (driver, server):
            found = await driver.read("a")
            texts = []
            await driver.export("a", "running.txt", lambda chunk: texts.append(chunk.decode()))
            return found, "".join(texts), server.line.lines

    found, text, lines = asyncio.run(go())
    assert (found.serial, found.version, found.build, found.role) == ("ST-1", "38.1b", "9", "standby")
    assert (found.state, found.in_sync, found.network) == ("in_service", True, "10.0.0.0/24")
    assert {f.name: f.state for f in found.facets}["running configuration"] == "saved"
    assert found.gauge("free space") == 900 * 1024 * 1024
    assert [e.name for e in found.expiries] == ["reader-read", "keeper-act"]
    # Four pages, leafed through: every rule, and nothing of the pager.
    assert text.splitlines() == ["unit a", *(f"rule {n} allow port {1000 + n}" for n in range(1, 61)), "end"]
    assert "show unit" in lines


def test_an_install_goes_by_sftp_past_the_master_word_and_the_question(tmp_path):
    package = tmp_path / "p"
    package.write_bytes(BODY)

    async def go():
        async with sealock(tmp_path, package_file=lambda name, sha256: package) as (driver, server):
            world, soon = server.world, driver.clock.real() + 60
            digest = hashlib.sha256(BODY).hexdigest()
            act = Act(kind="preload", package="stile-38.1k.pkg", bytes=len(BODY), sha256=digest)
            shares = []
            await driver.act("a", act, send_by=soon, progress=lambda share, _: shares.append(share))
            present = (await driver.read("a")).packages
            taken = await driver.act("a", Act(kind="install", package="stile-38.1k.pkg"), send_by=soon)
            world.advance(30)
            half = await driver.job("a", taken.handle)
            world.advance(100)
            done = await driver.job("a", taken.handle)
            await driver.act("a", Act(kind="restart"), send_by=soon)
            world.advance(110)
            await server.follow()
            with pytest.raises((NotReached, AnswerLost)):
                await driver.read("a")
            world.advance(400)
            await server.follow()
            return present, shares[-1], half, done, await driver.read("a")

    present, share, half, done, after = asyncio.run(go())
    assert present[0].sha256 == hashlib.sha256(BODY).hexdigest()
    assert share == 100
    assert (half.state, half.kind, half.percent) == ("running", "install", 50)
    assert done.state == "done"
    assert (after.version, after.boot) == ("38.1k", "ST-1#2")


def test_the_devices_own_readiness_test_speaks_in_its_words(tmp_path):
    async def go():
        async with sealock(tmp_path) as (driver, _):
            return await driver.self_test("a", "39.1")

    tested = asyncio.run(go())
    assert tested.minutes == 14
    assert [(f.level, f.text) for f in tested.findings] == [("stop", "rule 12 uses a cipher that 39.1 no longer has")]


def failing(kind: type[GallantError], tmp_path, what="read", **options) -> str:
    async def go():
        async with sealock(tmp_path, **options) as (driver, _):
            if what == "read":
                await driver.read("a")
            else:
                await driver.act("a", what, send_by=driver.clock.real() + 9)

    with pytest.raises(kind) as caught:
        asyncio.run(go())
    return f"{caught.value.what} {caught.value.why or ''} {caught.value.next or ''}"


def test_a_host_key_is_never_believed_unseen_and_its_fingerprint_is_shown(tmp_path):
    said = failing(LoginRefused, tmp_path, trust="")
    assert "SHA256:" in said
    assert "--learn-keys" in said
    wrong = "SHA256:" + "A" * 43
    said = failing(LoginRefused, tmp_path, trust=f', fingerprint: "{wrong}"', learn=lambda *_: True)
    assert wrong in said
    assert not (tmp_path / "known_hosts").exists()


def test_a_key_that_a_person_looked_at_is_kept_and_another_one_then_refused(tmp_path):
    asked = []

    def learn(node, kind, fingerprint):
        asked.append((node, kind))
        return True

    async def go(learn):
        async with sealock(tmp_path, trust="", learn=learn) as (driver, _server):
            await driver.read("a")
            first = (tmp_path / "known_hosts").read_text()
            await driver.close()
            await driver.read("a")  # asked no more
            return first

    assert asyncio.run(go(learn)).startswith("[127.0.0.1]:")
    assert asked == [("sealock/a", "ssh-ed25519")]
    said = failing(LoginRefused, tmp_path, trust="", learn=lambda *_: False)
    assert "not known here" in said


@pytest.mark.parametrize(
    ("kind", "options", "words"),
    [
        (LoginRefused, {"secret": "wr0ng-word"}, "refuses the login of reader-read"),
        (LoginRefused, {"what": Act(kind="restart"), "master": "wr0ng-word"}, "no right"),
        (DeviceRefused, {"what": Act(kind="install", package="none.pkg")}, "no package none.pkg here"),
        (DeviceRefused, {"what": Act(kind="unload", package="a; restart")}, "cannot stand in a command"),
        (WrongMachine, {"serial": "ST-9"}, "answers as serial ST-1"),
        (LoginRefused, {"faults": [Fault(name="refuse_login")]}, "refuses the login"),
        (AnswerLost, {"faults": [Fault(name="slow", value=9)]}, "took too long"),
    ],
)
def test_what_goes_wrong_at_a_prompt_is_said_in_its_own_class(tmp_path, monkeypatch, kind, options, words):
    if kind is AnswerLost:
        monkeypatch.setattr("gallant.drivers.base.READ_TRIES", 1)
        profile = load_profile("gorsefield-stile", Path())
        monkeypatch.setitem(globals(), "load_profile", lambda *_: _replaced(profile, timeout_s=0.5))
    said = failing(kind, tmp_path, **options)
    assert words in said
    assert "wr0ng-word" not in said


def _replaced(record, **changes):
    from gallant.core.records import replace

    return replace(record, **changes)


# --- commands on this very host

LOCAL = r"""
gallant: profile/1
name: here
product: t/host
driver: shell
transport: local
timeout_s: 5
errors:
  - {pattern: "not now", means: passing}
reads:
  about:
    - {run: "echo serial=X7 version=1.2 boot=b1", match: "serial=(?P<s>\\S+) version=(?P<v>\\S+) boot=(?P<b>\\S+)", take: {serial: s, version: v, boot: b}}
  parts:
    - run: "printf 'nic1 5.16\nnic2 5.20\n'"
      rows: "^(?P<name>\\S+) (?P<version>\\S+)$"
      take: {components: "rows[].{name: name, kind: 'NIC', product: 't/nic', version: version}"}
  facets:
    - {run: "echo '[{\"n\": \"link\", \"s\": \"up\"}]'", take: {facets: "data[].{name: n, state: s}"}}
  gauges:
    - when: "vers:dotted/>=2.0"
      run: "echo never; exit 9"
  packages:
    - {run: COMMAND, take: {gauges: "[{name: 'n', value: length(text), unit: ''}]"}}
acts:
  restart: {calls: [{run: "echo {reason}", take: {message: text}}]}
  drain: {calls: [{run: "read x; echo got $x", answers: {"never": "y"}}]}
"""
HERE = """
gallant: estate/1
name: t
sites: {s: {}}
systems:
  here: {product: t/host, shape: single, site: s, driver: shell, profile: p, nodes: {n: {address: "local:", serial: X7}}}
"""


def local(command: str = "true", act: Act | None = None, more: str = "", rows: str = ""):
    estate = parse_estate("e", HERE)
    tools = Tools(credentials=lambda purpose: Credential("me", "x"), clock=EstateClock(estate))
    text = LOCAL.replace("COMMAND", repr(command)).replace("acts:\n", f"{rows}acts:\n") + more
    driver = ShellDriver(estate.systems["here"], parse_profile("p", text), tools)

    async def go():
        if act is not None:
            return await driver.act("n", act, send_by=driver.clock.real() + 9)
        return await driver.read("n")

    return asyncio.run(go())


def test_commands_on_this_host_give_groups_rows_and_json():
    found = local("seq 3000")
    assert [(c.name, c.version) for c in found.components] == [("image", "1.2"), ("nic1", "5.16"), ("nic2", "5.20")]
    assert found.facets[0].state == "up"
    assert found.gauge("n") > 10_000


def test_a_value_in_a_command_is_one_word_whatever_stands_in_it():
    assert local(act=Act(kind="restart", reason="$(id); 'x' `y`")).message == "$(id); 'x' `y`"


@pytest.mark.parametrize(
    ("command", "kind", "words"),
    [
        ("exit 3", DeviceRefused, "exit status 3"),
        ("echo not now >&2; exit 1", NotReached, "not now"),
        ("printf 'failed: not now\\nIs it there?\\n' >&2; exit 1", NotReached, "refuses: failed: not now."),
        ("printf 'one\\ntwo\\n' >&2; exit 1", DeviceRefused, "refuses: two."),
        ("yes xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx", DeviceRefused, "more than 64 MiB"),
        ("sleep 77", AnswerLost, "took too long"),
        ("printf '\\033[2Jbad\\n' >&2; exit 1", DeviceRefused, "refuses: [2Jbad"),
    ],
)
def test_a_command_that_ends_badly_is_bounded_and_said(monkeypatch, command, kind, words):
    if kind is AnswerLost:
        monkeypatch.setitem(globals(), "LOCAL", LOCAL.replace("timeout_s: 5", "timeout_s: 0.4"))
        monkeypatch.setattr("gallant.drivers.base.READ_TRIES", 1)
    with pytest.raises(kind) as caught:
        local(command)
    assert words in caught.value.what
    assert "\x1b" not in caught.value.what


def test_the_last_word_of_an_act_decides_and_not_what_it_said_on_its_way(monkeypatch):
    """What it tried may have been done half by then, so that it does not count as never begun."""
    order = "printf 'not now\\nnothing was moved\\n' >&2; exit 1"
    monkeypatch.setitem(globals(), "LOCAL", LOCAL.replace('"echo {reason}"', repr(order)))
    with pytest.raises(DeviceRefused, match="refuses: nothing was moved"):
        local(act=Act(kind="restart"))


OWN_CHECKS = """
checks:
  - {id: a-link, well: "length(facets[?state=='up']) >= `1`", level: stop, message: no link at all}
  - {id: two-links, well: "length(facets[?state=='up']) >= `2`", level: warn, message: one link alone, next: look at the other}
  - {id: told, well: "gauges[?name=='nothing'].value | [0] > `1`", level: note, message: not told}
"""


def test_a_profiles_own_checks_count_the_rows_of_the_readings_lists():
    alarms = {a.check: (a.level, a.text, a.next) for a in local(more=OWN_CHECKS).alarms}
    assert alarms == {
        "two-links": ("warn", "one link alone", "look at the other"),
        "told": ("note", "not told", None),
    }


def test_rows_that_lack_something_are_left_out_and_the_reading_says_which():
    told = json.dumps([{"name": "a.pkg", "sha256": "00"}, {"name": "b.pkg", "sha256": "00", "bytes": 7}, 3])
    call = json.dumps({"run": f"echo '{told}'", "take": {"packages": "data"}})
    more = f"  accounts:\n    - {call}\n"
    found = local(rows=more)
    assert [p.name for p in found.packages] == ["b.pkg"]
    assert found.oddities == ("2 of 3 rows of packages are left out: the first has no bytes",)
