"""The debian driver against a real host: dpkg, apt, systemd, and a restart that is one."""

from __future__ import annotations

import asyncio
import io
import subprocess
import tarfile
import time
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, DeviceRefused
from gallant.drivers.debian import DebianDriver
from gallant.drivers.profile_reading import load_profile
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock

from .repository import package, signed

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  gates:
    product: debian/host
    shape: single
    site: s
    driver: debian
    profile: debian
    nodes: {{a: {{address: "ssh://{address}", serial: "{serial}", fingerprint: "{fingerprint}"}}}}
"""


def publish(host, folder: Path) -> None:
    """Have the host name the signed repository as its one channel, beside one that is not there."""
    signed(folder)
    subprocess.run(["cp", "-a", str(folder / "repo") + "/.", str(host.root / "srv" / "repo")], check=True)
    (host.root / "etc" / "apt" / "site.gpg").write_bytes((folder / "site.gpg").read_bytes())
    (host.root / "etc" / "apt" / "sources.list").write_text(
        "deb [signed-by=/etc/apt/site.gpg] file:/srv/repo site main\n"
        "deb [signed-by=/etc/apt/site.gpg] file:/srv/gone site main\n"
        "# deb http://old.skerry.invalid/ site main\n"
    )


def run(host, work, profile: str = "debian"):
    estate = parse_estate("e", ESTATE.format(address=host.address, serial=host.serial, fingerprint=host.fingerprint))

    @asynccontextmanager
    async def driving():
        tools = Tools(credentials=lambda purpose: Credential("root", host.key, "key"), clock=EstateClock(estate))
        driver = DebianDriver(estate.systems["gates"], load_profile(profile, Path()), tools)
        try:
            yield driver
        finally:
            await driver.close()

    async def go():
        async with driving() as driver:
            return await work(driver)

    return asyncio.run(go())


async def order(driver, act: Act):
    return await driver.act("a", act, send_by=driver.clock.real() + 30)


async def finished(driver, handle: str):
    until = time.monotonic() + 60
    while (job := await driver.job("a", handle)).state == "running":
        assert time.monotonic() < until
        await asyncio.sleep(0.2)
    return job


def test_a_host_is_read_updated_in_order_and_really_restarted(host, tmp_path):
    conffile = {"etc/kissgate.conf": "gates=4\n"}
    package(tmp_path, "kissgate", "1.2-1", files=conffile)
    package(tmp_path, "kissgate-lanes", "3.0-1", "Depends: kissgate (>= 1.3)\n")
    package(
        tmp_path,
        "kissgate",
        "1.3-1",
        files={"etc/kissgate.conf": "gates=6\n"},
        postinst="touch /run/reboot-required; echo kissgate > /run/reboot-required.pkgs",
    )
    publish(host, tmp_path)

    async def work(driver):
        await driver.run("a", "apt-get -q update", "act", 60)
        first = await finished(
            driver, (await order(driver, Act(kind="install", package="kissgate", release="1.2-1"))).handle
        )
        await driver.run("a", "sh -c 'echo gates=5 > /etc/kissgate.conf; apt-mark hold bash'", "act", 60)
        before = await driver.read("a")
        tried = await driver.self_test("a", "kissgate=1.3-1 kissgate-lanes=3.0-1")
        impossible = await driver.self_test("a", "kissgate=9-9")
        both = Act(kind="install", release="kissgate=1.3-1 kissgate-lanes=3.0-1")
        job = await finished(driver, (await order(driver, both)).handle)
        kept = (await driver.run("a", "cat /etc/kissgate.conf", "read")).text
        wanting = await driver.read("a")
        texts: list[bytes] = []
        await driver.export("a", "etc.tar", texts.append)
        await order(driver, Act(kind="restart", reason="window 7; it's $(due)"))
        return first, before, tried, impossible, job, kept, wanting, b"".join(texts)

    first, before, tried, impossible, job, kept, wanting, etc = run(host, work)
    assert (first.state, job.state, job.kind) == ("done", "done", "install"), (first, job)
    parts = {c.name: c.version for c in before.components}
    assert parts["kissgate"] == "1.2-1"
    facets = {f.name: f.state for f in before.facets}
    assert facets["package bash"] == "kept back"
    assert facets["conffile /etc/kissgate.conf"] == "changed"
    assert facets["restart"] == "not wanted"
    assert {c.name: (c.enabled, c.state) for c in before.channels} == {
        "file:/srv/repo site": (True, "reachable"),
        "file:/srv/gone site": (True, "unreachable"),
        "http://old.skerry.invalid site": (False, "unknown"),
    }
    assert tried.findings == ()
    assert impossible.findings[0].level == "stop"
    assert kept == "gates=5\n"  # what a person wrote stays
    assert {c.name: c.version for c in wanting.components}["kissgate-lanes"] == "3.0-1"
    assert {f.name: f.state for f in wanting.facets}["restart"] == "wanted"
    assert [a.text for a in wanting.alarms] == ["a restart is wanted for kissgate"]
    (tmp_path / "etc.tar").write_bytes(etc)
    with tarfile.open(tmp_path / "etc.tar") as archive:
        assert archive.extractfile("etc/kissgate.conf").read() == b"gates=5\n"

    async def after(driver):
        until = time.monotonic() + 60
        while True:
            try:
                found = await driver.read("a")
            except GallantError:
                found = None
            if found is not None and found.boot != before.boot:
                said = await driver.run(
                    "a", "journalctl -b -1 --no-pager -q 2>/dev/null | grep -c 'window 7' || true", "read"
                )
                return found, said.text
            assert time.monotonic() < until, (host.folder / "console").read_text(errors="replace")[-1500:]
            await asyncio.sleep(0.2)

    found, _ = run(host, after)
    assert found.boot != before.boot
    assert {f.name: f.state for f in found.facets}["restart"] == "not wanted"


def test_what_cannot_be_installed_fails_and_says_why(host, tmp_path):
    package(tmp_path, "kissgate", "1.2-1", "Depends: nowhere-to-be-had\n")
    publish(host, tmp_path)

    async def work(driver):
        await driver.run("a", "apt-get -q update", "act", 60)
        job = await finished(
            driver, (await order(driver, Act(kind="install", package="kissgate", release="1.2-1"))).handle
        )
        with pytest.raises(DeviceRefused) as caught:
            await driver.job("a", "install-20000101000000-abcdef")
        return job, caught.value

    job, unknown = run(host, work)
    assert job.state == "failed"
    assert "knows no job" in unknown.what


def updater(version: str) -> str:
    """An updater that takes 2.5 only when it is 1.2 itself."""
    return f"""
case "$1" in
  install) [ {version} = 1.2 ] || {{ echo "too old for $2" >&2; exit 3; }}
    apt-get -y -q install "manifest=$2"; touch /var/lib/manifest-reload;;
esac
"""


CTL = """
case "$1" in
  parts) echo "schema database $(cat /srv/manifest/schema)";;
  needs) echo "manifest-tools 1.2-1";;
  state) if [ -e /var/lib/manifest-reload ]; then echo "reload: due"; else echo "reload: none"; fi;;
  migrate) echo SCHEMA > /srv/manifest/schema;;
  reload) rm -f /var/lib/manifest-reload; echo "read again";;
  dump) echo "-- schema $(cat /srv/manifest/schema)";;
esac
"""


def test_an_application_is_updated_after_the_package_that_it_needs_and_migrated(host, tmp_path):
    for version in ("1.1", "1.2"):
        package(tmp_path, "manifest-tools", f"{version}-1", tools={"manifest-tools": updater(version)})
    for version, schema in (("2.4", "2026-03"), ("2.5", "2026-09")):
        package(tmp_path, "manifest", f"{version}-1", tools={"manifest-ctl": CTL.replace("SCHEMA", schema)})
    publish(host, tmp_path)
    data = host.root / "srv" / "manifest"
    data.mkdir()
    (data / "schema").write_text("2026-03\n")
    (data / "passengers").write_text("17\n")

    async def work(driver):
        await driver.run("a", "apt-get -q update", "act", 60)
        first = "apt-get -y -q install manifest=2.4-1 manifest-tools=1.1-1"
        assert (await driver.run("a", first, "act", 60)).status == 0
        before = await driver.read("a")
        handle = (await order(driver, Act(kind="install", component="manifest", release="2.5-1"))).handle
        await driver.done("a")
        job = await finished(driver, handle)
        texts: dict[str, list[bytes]] = {"data.tar": [], "database.sql": []}
        for name, parts in texts.items():
            await driver.export("a", name, parts.append)
        return before, job, await driver.read("a"), {n: b"".join(p) for n, p in texts.items()}

    before, job, after, held = run(host, work, "skerry-manifest")
    assert (job.state, job.message) == ("done", "read again")
    versions = [{c.name: c.version for c in r.components} for r in (before, after)]
    names = ("manifest-tools", "manifest", "database")
    assert [tuple(v[n] for n in names) for v in versions] == [
        ("1.1-1", "2.4-1", "2026-03"),
        ("1.2-1", "2.5-1", "2026-09"),
    ]
    assert {f.name: f.state for f in after.facets}["manifest reload"] == "none"
    assert held["database.sql"] == b"-- schema 2026-09\n"
    with tarfile.open(fileobj=io.BytesIO(held["data.tar"])) as archive:
        assert archive.extractfile("srv/manifest/passengers").read() == b"17\n"
