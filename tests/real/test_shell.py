"""The shell driver against OpenSSH, a real shell's prompt and a real pager."""

from __future__ import annotations

import asyncio
import hashlib
import os

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, LoginRefused, NotReached
from gallant.drivers.profile_reading import parse_profile
from gallant.drivers.shell import ShellDriver
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  box:
    product: t/box
    shape: single
    site: s
    driver: shell
    profile: p
    nodes: {{n: {{address: "ssh://127.0.0.1:{port}", serial: S1{trust}}}}}
"""
PROFILE = r"""
gallant: profile/1
name: t
product: t/box
driver: shell
timeout_s: 10
SHELL
errors:
  - {pattern: "No such file", means: refused}
reads:
  about:
    - run: "echo serial S1 version 3.4b boot $(cat /proc/sys/kernel/random/boot_id)"
      match: "serial (?P<s>\\S+) version (?P<v>\\S+) boot (?P<b>\\S+)"
      take: {serial: s, version: v, boot: b}
  facets:
    - run: "more -e LONG"
      rows: "^line (?P<n>\\d+)$"
      take: {gauges: "[{name: 'lines', value: length(rows), unit: ''}]"}
  packages:
    - {fetch: LONG, take: {gauges: "[{name: 'length', value: length(text), unit: ''}]"}}
acts:
  restart: {calls: [{run: "printf '%s\\n' {reason}", take: {message: text}}]}
  preload: {calls: [{run: "sha256sum INTO/{package}", upload: package, upload_to: "INTO/{package}", match: "^(?P<d>[0-9a-f]{64})", take: {message: d}}]}
exports: [{name: long.txt, call: {run: "cat LONG"}}]
"""
AT_A_PROMPT = r'shell: {prompt: "[#$] ", more: "--More--\\([0-9]+%\\)", first: ["PS1=\"ready# \"; TERM=vt100"]}'


def run(server, tmp_path, work, shell: str = "", trust: str | None = None, **tools):
    long = tmp_path / "long.txt"
    long.write_text("".join(f"line {n}\n" for n in range(2500)))
    (tmp_path / "p.pkg").write_bytes(os.urandom(300_000))
    pin = f', fingerprint: "{server.fingerprint}"' if trust is None else trust
    estate = parse_estate("e", ESTATE.format(port=server.port, trust=pin))
    text = PROFILE.replace("SHELL", shell).replace("LONG", str(long)).replace("INTO", str(tmp_path / "in"))
    (tmp_path / "in").mkdir(exist_ok=True)
    made = Tools(
        credentials=lambda purpose: Credential("root", server.key, "key"),
        clock=EstateClock(estate),
        folder=tmp_path,
        package_file=lambda name, sha256: tmp_path / name,
        **tools,
    )

    async def go():
        driver = ShellDriver(estate.systems["box"], parse_profile("p", text), made)
        try:
            return await work(driver)
        finally:
            await driver.close()

    return asyncio.run(go())


@pytest.mark.parametrize("shell", ["", AT_A_PROMPT], ids=["each-alone", "at-a-prompt"])
def test_commands_tables_files_and_a_pager_come_through_whole(sshd, tmp_path, shell):
    async def work(driver):
        found = await driver.read("n")
        texts: list[bytes] = []
        await driver.export("n", "long.txt", texts.append)
        return found, b"".join(texts)

    found, text = run(sshd(), tmp_path, work, shell)
    assert (found.serial, found.version) == ("S1", "3.4b")
    assert found.gauge("lines") == 2500
    assert found.gauge("length") == len((tmp_path / "long.txt").read_text().strip())
    assert text.decode().replace("\r", "").split() == (tmp_path / "long.txt").read_text().split()


def test_a_package_goes_by_sftp_whole_and_a_value_is_one_word(sshd, tmp_path):
    async def work(driver):
        soon = driver.clock.real() + 20
        said = await driver.act("n", Act(kind="restart", reason="a'b; $(id) `x`"), send_by=soon)
        whole = hashlib.sha256((tmp_path / "p.pkg").read_bytes()).hexdigest()
        act = Act(kind="preload", package="p.pkg", sha256=whole, bytes=300_000)
        return said.message, (await driver.act("n", act, send_by=soon)).message

    said, digest = run(sshd(), tmp_path, work)
    assert said == "a'b; $(id) `x`"
    assert digest == hashlib.sha256((tmp_path / "p.pkg").read_bytes()).hexdigest()
    assert not list((tmp_path / "in").glob("*.part"))


def test_an_unknown_host_key_and_a_wrong_key_of_ours_are_refused(sshd, tmp_path):
    server = sshd()

    async def work(driver):
        await driver.read("n")

    with pytest.raises(LoginRefused, match="not known here") as caught:
        run(server, tmp_path, work, trust="")
    assert server.fingerprint in (caught.value.why or "")
    run(server, tmp_path, work, trust="", learn_key=lambda node, kind, shown: shown == server.fingerprint)
    run(server, tmp_path, work, trust="")  # it is in known_hosts now
    server.key = server.key[:60] + "\n"
    with pytest.raises(GallantError, match="cannot be used"):
        run(server, tmp_path, work)


def test_a_server_that_is_gone_is_not_reached(sshd, tmp_path):
    server = sshd()
    server.stop()

    async def work(driver):
        await driver.read("n")

    with pytest.raises(NotReached, match="connection refused"):
        run(server, tmp_path, work)
