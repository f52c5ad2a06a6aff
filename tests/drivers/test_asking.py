"""Every way in which a service may be asked: well, not well, and silent; on loopback."""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import ssl
import struct
import tempfile
import time
from pathlib import Path

import pytest

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.services import FAST_S, SLOW_S, HttpAsked, Service
from gallant.core.outages import Watched
from gallant.drivers.asking import ways_in
from gallant.drivers.commands import run_command
from gallant.drivers.probe import SocketProber, probe
from gallant.standin.certificates import self_signed
from gallant.standin.ports import bound, reserve

from .test_probe import READ, RealClock


def asked(port: int, **how):
    return probe("s", Service(address=f"127.0.0.1:{port}", **how), RealClock(), ways_in(Path("/")), 0.6)


@contextlib.asynccontextmanager
async def speaking(answer, tls: ssl.SSLContext | None = None):
    """A server that gives whatever is said to it to `answer`, and sends back what that says."""

    async def talk(reader, writer):
        with contextlib.suppress(OSError):
            writer.write(answer(await reader.read(4096)))
            await writer.drain()
            writer.close()

    keeper, port = reserve("127.0.0.1")
    server = await asyncio.start_server(talk, sock=bound("127.0.0.1", port), ssl=tls)
    try:
        yield port
    finally:
        server.close()
        keeper.close()


@contextlib.asynccontextmanager
async def hearing(answer):
    """The same for datagrams; None answers nothing."""

    class Server(asyncio.DatagramProtocol):
        def connection_made(self, transport):
            self.transport = transport

        def datagram_received(self, data, where):
            if (said := answer(data)) is not None:
                self.transport.sendto(said, where)

    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(Server, local_addr=("127.0.0.1", 0))
    try:
        yield transport.get_extra_info("sockname")[1]
    finally:
        transport.close()


def over_tcp(answer, behind=None, **how):
    async def go():
        async with speaking(answer, behind) as port:
            return await asked(port, **how)

    return asyncio.run(go())


def over_udp(answer, **how):
    async def go():
        async with hearing(answer) as port:
            return await asked(port, **how)

    return asyncio.run(go())


def page(status: int, body: str = "{}", more: str = ""):
    head = f"HTTP/1.1 {status} X\r\nContent-Length: {len(body)}\r\nConnection: close\r\n{more}\r\n"
    return lambda request: (head + body).encode()


PLAIN = HttpAsked(path="/health", tls=False)


def test_a_page_is_well_by_its_status_and_by_what_its_json_says():
    assert over_tcp(page(200), http=PLAIN).ok
    assert over_tcp(page(503), http=PLAIN).why == "status 503"
    assert over_tcp(page(404), http=HttpAsked(path="/", tls=False, status=(200, 404))).ok
    ready = HttpAsked(path="/", tls=False, well="state == 'ready'")
    assert over_tcp(page(200, '{"state": "ready"}'), http=ready).ok
    assert over_tcp(page(200, '{"state": "starting"}'), http=ready).why == "state == 'ready' does not hold"
    assert over_tcp(page(200, "no json"), http=ready).why == "state == 'ready' cannot be told from its answer"


def test_a_page_that_leads_elsewhere_is_not_followed():
    assert over_tcp(page(302, more="Location: http://127.0.0.1:1/\r\n"), http=PLAIN).why == "status 302"


def test_what_speaks_no_http_and_what_does_not_answer_are_two_reasons():
    assert over_tcp(lambda request: b"SSH-2.0-x\r\n", http=PLAIN).why == "it speaks no HTTP that can be understood"
    assert asyncio.run(asked(1, http=PLAIN)).why == "connection refused"
    assert asyncio.run(asked(1, tls=True)).why == "connection refused"


def test_a_name_server_has_to_know_the_name():
    def knows(records: int, error: int = 0):
        return lambda q: q[:2] + struct.pack("!5H", 0x8180 | error, 1, records, 0, 0) + q[12:]

    assert over_udp(knows(1), dns="tickets.example").ok
    assert over_udp(knows(0), dns="tickets.example").why == "it knows no address of tickets.example"
    assert over_udp(knows(0, 3), dns="tickets.example").why == "it answers with the error 3"
    assert over_udp(lambda q: b"\0\0" + q[2:], dns="tickets.example").why.startswith("the answer is not")
    assert over_udp(lambda q: None, dns="tickets.example").why == "no answer within 0.6 s"


def test_the_question_to_a_name_server_is_as_the_standard_has_it():
    heard = []
    over_udp(lambda q: heard.append(q), dns="a.example.")
    assert heard[0][2:] == bytes.fromhex("0100 0001 0000 0000 0000 01 61 07 6578616d706c65 00 0001 0001")


def test_a_time_server_has_to_have_the_time():
    def tells(first: int = 0x24, stratum: int = 2, stamp: bool = True):
        return lambda q: bytes([first, stratum]) + bytes(22) + (q[40:48] if stamp else bytes(8)) + bytes(16)

    assert over_udp(tells(), ntp=True).ok
    assert over_udp(tells(first=0xE4), ntp=True).why == "its clock is not set"
    assert over_udp(tells(stratum=0), ntp=True).why == "its clock is not set"
    assert over_udp(tells(stamp=False), ntp=True).why.startswith("the answer is not")
    assert over_udp(lambda q: b"short", ntp=True).why.startswith("the answer is not")


def test_an_echo_comes_back_where_this_machine_lets_one_ask():
    told = asyncio.run(asked(1, ping=True))
    assert told.ok or "lets nobody ping" in told.why


def test_a_command_of_ones_own_is_well_when_it_ends_with_nothing_wrong_and_does_not_outlive_its_probe():
    assert asyncio.run(asked(1, run="/bin/true")).ok
    assert asyncio.run(asked(1, run="sh -c 'exit 3'")).why == "the command ended with 3"
    assert "no such file" in asyncio.run(asked(1, run="/no/such/command")).why
    with tempfile.TemporaryDirectory() as folder:
        mark = Path(folder) / "pid"
        late = asyncio.run(asked(1, run=f"sh -c 'echo $$ > {mark}; exec sleep 60'"))
        assert late.why == "no answer within 0.6 s"
        with pytest.raises(ProcessLookupError):
            os.kill(int(mark.read_text()), 0)


def test_a_command_of_ones_own_runs_in_the_estates_folder_and_sees_no_secret(tmp_path, monkeypatch):
    """Whatever the current folder has, and whatever PATH says of it."""
    estate, current = tmp_path / "estate", tmp_path / "current"
    for folder, word in ((estate, "mine"), (current, "theirs")):
        folder.mkdir()
        for name in ("tell", "plainly"):
            (folder / name).write_text(f"#!/bin/sh\n(echo {word}; pwd; env) > {tmp_path}/said-$1\n")
            (folder / name).chmod(0o755)
    monkeypatch.chdir(current)
    monkeypatch.setenv("PATH", f":.:{estate}:/usr/bin:/bin")
    monkeypatch.setenv("QUAY_ACT", "s3cret")
    for program in ("./tell", "plainly"):
        assert asyncio.run(run_command([program, program[-4:]], estate)) == 0
        said = (tmp_path / f"said-{program[-4:]}").read_text().splitlines()
        assert said[:2] == ["mine", str(estate)]
        assert not [line for line in said if "s3cret" in line]
        assert {line.partition("=")[0] for line in said[2:]} <= {"PATH", "HOME", "LANG", "LC_ALL", "LC_CTYPE", "LOGNAME", "PWD", "SHELL", "SHLVL", "TMPDIR", "TZ", "USER", "XDG_RUNTIME_DIR", "_", "OLDPWD"}  # fmt: skip


def test_a_service_is_asked_at_the_pace_of_its_kind():
    services = {"fast": Service(address="h:1"), "slow": Service(address="h:1", tls=True)}
    services["own"] = Service(address="h:1", every_s=0.5)
    prober = SocketProber(services, RealClock())
    seen = [name for beat in range(100) for name, _ in prober._due(beat * FAST_S)]
    assert (seen.count("fast"), seen.count("slow"), seen.count("own")) == (100, 8, 16)
    assert (Service(address="h:1").pace_s, Service(address="h:1", ntp=True).pace_s) == (FAST_S, SLOW_S)


def test_a_service_that_may_be_nowhere_just_now_is_asked_as_often_as_it_can_be_and_then_at_its_own_pace_again():
    services = {"rare": Service(address="h:1", every_s=30), "page": Service(address="h:1", tls=True, every_s=30)}
    prober = SocketProber(services, RealClock())

    def seen(first: float, seconds: float) -> tuple[int, int]:
        beats = int(seconds / FAST_S)
        names = [name for beat in range(beats) for name, _ in prober._due(first + beat * FAST_S)]
        return names.count("rare"), names.count("page")

    assert seen(0, 16) == (1, 1)
    prober.hurry(frozenset(services))
    hurried = seen(16, 8)
    assert hurried[0] >= 99
    assert 24 <= hurried[1] <= 34  # a page takes more than a connection
    prober.hurry(frozenset())
    assert sum(seen(24, 28)) <= 2


def test_where_people_log_in_is_never_asked_fast():
    services = {"s/a": Service(address="h:1", every_s=SLOW_S)}
    prober = SocketProber(services, RealClock(), watches=[Watched(system="s", service="s/a", is_address=True)])

    def seen(first: float, seconds: float) -> int:
        return sum(len(prober._due(first + beat * FAST_S)) for beat in range(int(seconds / FAST_S)))

    assert seen(0, 16) <= 17
    prober.hurry(frozenset(services))
    assert 48 <= seen(16, 16) <= 66


ESTATE = """
gallant: estate/1
name: x
sites: {{here: {{}}}}
systems:
  s:
    product: a/b
    shape: single
    site: here
    driver: http
    profile: ostrel-shoal
    nodes: {{a: {{address: "https://127.0.0.1:1", serial: S}}}}
    services: {{x: {service}}}
"""


@pytest.mark.parametrize(
    ("service", "words"),
    [
        ('{address: "h:1", tls: yes, ntp: yes}', "tls and ntp: a service is asked in one way"),
        ('{address: "h:1", dns: "a b"}', "dns: write the name that is asked for"),
        ('{address: "h:1", run: "sh -c \'open"}', "run: No closing quotation"),
        ('{address: "h:1", http: {path: x}}', "path: begins with /"),
        ('{address: "h:1", http: {status: [7]}}', "status: one or more of 100 to 599"),
        ('{address: "h:1", http: {well: "state =="}}', "well: "),
        ('{address: "h:1", budget_s: 0}', "expected a number > 0"),
        ('{address: "h:1", certificate_days: 7}', "certificate_days: only an answer by tls, or by http with tls"),
        ('{address: "h:1", within_ms: 0}', "expected a number > 0"),
        ('{address: "h:1", every_s: 0.01}', "expected a number >= 0.08"),
    ],
)
def test_a_service_that_cannot_be_asked_like_that_is_an_error_of_the_file(service, words):
    with pytest.raises(GallantError) as caught:
        parse_estate("estate.yaml", ESTATE.format(service=service))
    assert words in str(caught.value)


def test_a_handshake_needs_no_certificate_that_anybody_knows():
    context, _, _ = self_signed("somebody", "127.0.0.1")
    assert over_tcp(lambda request: b"", context, tls=True).ok
    assert over_tcp(page(200), context, http=HttpAsked()).ok
    assert not over_tcp(lambda request: b"no tls here\r\n", tls=True).ok


def test_an_answer_that_comes_too_late_for_its_users_is_none():
    def slowly(request: bytes) -> bytes:
        time.sleep(0.15)  # the server is slow, which is what is looked at
        return b"block 7 abcd\n"

    late = over_tcp(slowly, read=READ, within_ms=100)
    assert (late.ok, re.sub(r"\d+", "N", late.why)) == (False, "it answered after N ms, and may take N")
    assert over_tcp(slowly, read=READ, within_ms=5000).ok


@pytest.mark.parametrize("how", [{"tls": True}, {"http": HttpAsked()}], ids=["tls", "http"])
def test_a_certificate_that_ends_too_soon_is_found(how):
    def said(days: float, wanted: float) -> str:
        context, _, _ = self_signed("somebody", "127.0.0.1", days)
        return over_tcp(page(200), context, certificate_days=wanted, **how).why

    assert said(20.5, 7) == ""
    assert said(20.5, 30) == "its certificate ends in 20 days"
    assert said(-1, 0) == "its certificate has ended"
