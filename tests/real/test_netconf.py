"""The netconf driver against a NETCONF server that nobody here wrote, behind OpenSSH."""

from __future__ import annotations

import asyncio
import subprocess
import time
from contextlib import asynccontextmanager

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, DeviceRefused
from gallant.drivers.netconf.driver import NetconfDriver
from gallant.drivers.profile_reading import parse_profile
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock
from tests.conftest import Place

from .conftest import needed

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  slipway:
    product: t/switch
    shape: single
    site: s
    driver: netconf
    profile: p
    nodes: {{a: {{address: "ssh://127.0.0.1:{port}", serial: "{fingerprint}", fingerprint: "{fingerprint}"}}}}
"""
PROFILE = """
gallant: profile/1
name: t
product: t/switch
driver: netconf
timeout_s: 30
reads:
  gauges:
    - rpc: "<get-config><source><running/></source></get-config>"
      find: {names: {at: "//sys:hostname", name: "."}}
      take: {gauges: "[{name: 'names', value: length(names), unit: ''}]"}
acts:
  drain: {calls: [{rpc: "<no-such-thing xmlns='urn:x'>{reason}</no-such-thing>"}]}
"""
SAVED = """<config><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>slipway-a</hostname></system></config>"""


@pytest.fixture(params=["running", "candidate"])
def server(tmp_path, sshd, request):
    """The server, behind OpenSSH: with a running configuration that is written itself, and with a candidate beside
    it."""
    needed("netconfd", "netconf-subsystem", "sshd")
    socket = tmp_path / "ncx.sock"
    # The server lets in anyone who came over the port that it was told.
    server = sshd(f'Subsystem netconf "/usr/sbin/netconf-subsystem --ncxserver-sockname=PORT@{socket}"\n')
    daemon = subprocess.Popen(
        [
            "netconfd", "--module=ietf-system", "--module=ietf-interfaces", "--no-startup", "--superuser=root",
            f"--target={request.param}", f"--port={server.port}", f"--ncxserver-sockname={socket}",
        ],
        cwd=tmp_path,
        stdout=(tmp_path / "netconfd.log").open("w"),
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    until = time.monotonic() + 15
    while not socket.exists():
        assert time.monotonic() < until, (tmp_path / "netconfd.log").read_text()
        time.sleep(0.02)
    yield server
    daemon.terminate()
    daemon.wait()


@pytest.fixture
def slipway(tmp_path, server):
    """An estate in front of the server: gives a function that runs a coroutine with the driver."""
    estate = parse_estate("e", ESTATE.format(port=server.port, fingerprint=server.fingerprint))

    @asynccontextmanager
    async def driving():
        tools = Tools(
            credentials=lambda purpose: Credential("root", server.key, "key"),
            clock=EstateClock(estate),
            folder=tmp_path,
            package_file=lambda name, sha256: tmp_path / name,
        )
        driver = NetconfDriver(estate.systems["slipway"], parse_profile("p", PROFILE), tools)
        try:
            yield driver
        finally:
            await driver.close()

    def run(work):
        async def go():
            async with driving() as driver:
                return await work(driver)

        return asyncio.run(go())

    return run


def test_a_datastore_alone_is_read_with_the_host_key_as_its_serial_and_a_note_of_what_it_does_not_say(slipway):
    found = slipway(lambda driver: driver.read("a"))
    assert found.serial.startswith("SHA256:")
    assert found.gauge("names") == 0
    # What the server says of itself is the machine that it runs on, if it says anything.
    assert found.version
    assert found.oddities or found.version != "not told"


def test_configuration_is_written_under_a_lock_read_back_and_exported(slipway, tmp_path):
    (tmp_path / "running.xml").write_text(SAVED)

    async def work(driver):
        taken = await driver.act("a", Act(kind="restore", package="running.xml"), send_by=driver.clock.real() + 9)
        chunks: list[bytes] = []
        await driver.export("a", "running.xml", chunks.append)
        return taken, (await driver.read("a")).gauge("names"), b"".join(chunks)

    taken, names, exported = slipway(work)
    assert taken.message in ("in place", "committed")
    assert names == 1
    assert b"slipway-a" in exported


def test_an_rpc_that_the_server_does_not_know_is_refused_in_its_own_words(slipway):
    async def work(driver):
        await driver.act("a", Act(kind="drain", reason="<&>"), send_by=driver.clock.real() + 9)

    with pytest.raises(DeviceRefused) as caught:
        slipway(work)
    assert "slipway/a refuses: " in caught.value.what
    assert len(caught.value.what) > len("slipway/a refuses: .") + 3


def test_a_lock_that_another_session_holds_is_passing(slipway):
    async def work(driver):
        store = "candidate" if (await driver._session("a", "read")).knows("candidate") else "running"
        await driver.rpc("a", f"<lock><target><{store}/></target></lock>", "read")
        with pytest.raises(GallantError) as caught:
            await driver.rpc("a", f"<lock><target><{store}/></target></lock>", "act")
        return caught.value

    assert "lock" in slipway(work).what


@pytest.fixture
def place(server, tmp_path):
    """The same estate as a folder of the program's."""
    text = ESTATE.format(port=server.port, fingerprint=server.fingerprint)
    accounts = 'backups: {plain: yes}\naccounts: {read: {user: root, secret: "key:user"}, act: {user: root, secret: "key:user"}}\n'
    (tmp_path / "estate.yaml").write_text(text.replace("sites:", f"{accounts}sites:").replace("    profile: p\n", ""))
    return Place(tmp_path)


def well(place, *words: str):
    done = place.run(*words)
    assert done.code == 0, done.out + done.err
    return done


def named(name: str):
    """Has the server call itself so; what it then runs is committed for good."""
    config = SAVED.replace("<config>", '<config xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0">').replace(
        "slipway-a", name
    )

    async def work(driver):
        candidate = (await driver._session("a", "act")).knows("candidate")
        store = "candidate" if candidate else "running"
        await driver.rpc("a", f"<edit-config><target><{store}/></target>{config}</edit-config>", "act")
        if candidate:
            await driver.rpc("a", "<commit/>", "act")

    return work


def test_what_was_changed_between_two_backups_is_seen(slipway, place):
    well(place, "survey")
    well(place, "backup", "take", "slipway")
    slipway(named("slipway-a"))
    well(place, "backup", "take", "slipway")
    newest, before = (row["id"] for row in well(place, "backup", "list", "--json").rows)
    seen = place.run("backup", "diff", before, newest)
    assert "slipway-a" in seen.out
    assert "1 item differs, 0 the same" in seen.out


def test_a_restore_is_done_when_the_running_configuration_is_what_was_saved_also_after_the_session_has_ended(
    slipway, place
):
    well(place, "survey")
    slipway(named("slipway-a"))
    well(place, "backup", "take", "slipway")
    (saved,) = (row["id"] for row in well(place, "backup", "list", "--json").rows)
    slipway(named("slipway-b"))
    done = well(place, "backup", "restore", saved, "--yes", "--json")
    assert (done.rows[0]["items"], done.rows[0]["unlike"]) == (["running.xml"], [])
    assert well(place, "backup", "diff", saved, "--json").code == 0
    assert b"slipway-a" in slipway(exported)


async def exported(driver):
    chunks: list[bytes] = []
    await driver.export("a", "running.xml", chunks.append)
    return b"".join(chunks)
