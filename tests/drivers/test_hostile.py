"""What a hostile or broken device may try, over every protocol: bounded, refused, and nothing of it steers a
terminal."""

from __future__ import annotations

import asyncio
import contextlib
from contextlib import asynccontextmanager
from pathlib import Path

import asyncssh
import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, AnswerLost, DeviceRefused, NotReached
from gallant.core.records import replace
from gallant.drivers.http.driver import HttpDriver, new_session
from gallant.drivers.manual import ManualDriver
from gallant.drivers.netconf.driver import NetconfDriver
from gallant.drivers.profile_reading import load_profile, parse_profile
from gallant.drivers.redfish.driver import RedfishDriver
from gallant.drivers.tools import Credential, Tools
from gallant.drivers.xml import NotXml, parse_xml
from gallant.operations.ground.clock import EstateClock
from gallant.standin.certificates import self_signed
from gallant.standin.ports import reserve
from gallant.stock.serve import serving

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  dev:
    product: t/dev
    shape: single
    site: s
    driver: {driver}
    profile: p
    nodes: {{n: {{address: "{address}", serial: S1, fingerprint: "{fingerprint}"}}}}
"""
HTTP = """
gallant: profile/1
name: t
product: t/dev
driver: http
timeout_s: 2
login: {call: {post: /login, send: {user: "{user}"}, take: {token: token}}, header: X-T}
reads:
  about: [{get: /about, take: {serial: serial, version: version, boot: boot}}]
  facets: [{get: /list, pages: {next: next, rows: rows}, take: {facets: "rows[].{name: name, state: state}"}}]
  parts: [{get: /xml, find: {parts: {at: "//part", name: "@name", version: "@version"}},
           take: {components: "parts[].{name: name, kind: 'NIC', product: 't/nic', version: version}"}}]
"""
GOOD = {
    "/login": {"token": "t0ken-t0ken"},
    "/about": {"serial": "S1", "version": "1.0", "boot": "b"},
    "/list": {"rows": [], "next": None},
    "/xml": "<r><part name='n1' version='1'/></r>",
}


@asynccontextmanager
async def web_device(answers: dict, driver: str = "http", profile: str = HTTP):
    """A device whose answers are bodies, texts or handlers, and a driver in front of it."""
    seen: list[str] = []

    async def handle(request: web.Request) -> web.StreamResponse:
        seen.append(request.path_qs)
        answer = answers.get(request.path_qs, answers.get(request.path))
        if callable(answer):
            return await answer(request)
        if answer is None:
            return web.json_response({}, status=404)
        return web.Response(text=answer) if isinstance(answer, str) else web.json_response(answer)

    context, fingerprint, _ = self_signed("dev", "127.0.0.1")
    keeper, port = reserve("127.0.0.1")
    keeper.close()
    app = web.Application()
    app.router.add_route("*", "/{tail:.*}", handle)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", port, ssl_context=context).start()
    estate = parse_estate(
        "e", ESTATE.format(driver=driver, address=f"https://127.0.0.1:{port}", fingerprint=fingerprint)
    )
    try:
        async with new_session() as session:
            tools = Tools(
                credentials=lambda purpose: Credential("u", "s3cret-word"), clock=EstateClock(estate), session=session
            )
            kind = {"http": HttpDriver, "redfish": RedfishDriver}[driver]
            yield kind(estate.systems["dev"], parse_profile("p", profile), tools), seen
    finally:
        await runner.cleanup()


def read(answers: dict, **options):
    async def go():
        async with web_device({**GOOD, **answers}, **options) as (driver, seen):
            return await driver.read("n"), seen

    return asyncio.run(go())


async def endless(request):
    answer = web.StreamResponse()
    await answer.prepare(request)
    with contextlib.suppress(ConnectionError):
        for _ in range(80):
            await answer.write(b"[" * 1024 * 1024)
    return answer


async def drip(request):
    answer = web.StreamResponse()
    await answer.prepare(request)
    with contextlib.suppress(ConnectionError):
        while True:
            await answer.write(b" ")
            await asyncio.sleep(0.05)


def moved(where: str):
    async def answer(request):
        return web.Response(status=302, headers={"Location": where})

    return answer


BOMB = '<!DOCTYPE r [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><r><part name="n" version="&b;"/></r>'
OUTSIDE = '<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/passwd">]><r>&x;</r>'


@pytest.mark.parametrize(
    ("answers", "kind", "words"),
    [
        ({"/about": endless}, DeviceRefused, "more than 64 MiB"),
        ({"/about": "[" * 5000}, DeviceRefused, "not JSON"),
        ({"/about": '{"a":' * 70 + "1" + "}" * 70}, DeviceRefused, "nested too deep"),
        ({"/about": '"' + "x" * 9_000_000 + '"'}, DeviceRefused, "more than 8 MiB"),
        ({"/about": drip}, AnswerLost, "took too long"),
        ({"/xml": BOMB}, DeviceRefused, "document type"),
        ({"/xml": OUTSIDE}, DeviceRefused, "document type"),
        ({"/xml": "<r>" * 100 + "</r>" * 100}, DeviceRefused, "nested deeper"),
        ({"/xml": "<r"}, DeviceRefused, "not XML"),
        ({"/xml": "<r>" + "<part name='p' version='1'/>" * 20_001 + "</r>"}, DeviceRefused, "more than 20,000 rows"),
        ({"/list": {"rows": [{"name": "a"}] * 20_001}}, DeviceRefused, "more than 20,000"),
        ({"/list": {"rows": [], "next": "/list"}}, DeviceRefused, "no end"),
        ({"/list": {"rows": [], "next": "https://elsewhere.invalid/x"}}, DeviceRefused, "leads elsewhere"),
        ({"/about": moved("https://elsewhere.invalid/about")}, DeviceRefused, "answered with a redirect"),
        ({"/about": moved("http://127.0.0.1/about")}, DeviceRefused, "answered with a redirect"),
        ({"/about": moved("/about")}, DeviceRefused, "answered with a redirect"),
    ],
)
def test_a_device_that_says_too_much_too_deep_too_slowly_or_leads_astray_is_refused(answers, kind, words):
    with pytest.raises(kind) as caught:
        read(answers)
    assert words in caught.value.what


def test_redirects_are_followed_five_times_on_the_same_node_and_no_more():
    hops = {f"/r{n}": moved(f"/r{n + 1}") for n in range(9)}
    found, _ = read({**hops, "/about": moved("/r1"), "/r5": GOOD["/about"]})
    assert found.version == "1.0"
    with pytest.raises(DeviceRefused):
        read({**hops, "/about": moved("/r1"), "/r6": GOOD["/about"]})


def test_pages_are_put_together_and_names_cannot_steer_a_terminal():
    pages = {
        "/list": {"rows": [{"name": "a\x1b[2J\u202eb", "state": "up\r\n"}], "next": "/list?from=1"},
        "/list?from=1": {"rows": [{"name": "c", "state": "x" * 5000}, "no row"], "next": None},
    }
    found, seen = read({**pages, "/about": {"serial": "S1", "version": "1.0\x07", "boot": "b"}})
    assert [f.name for f in found.facets] == ["a[2Jb", "c"]
    assert found.facets[0].state == "up"
    assert len(found.facets[1].state) <= 200
    assert found.version == "1.0"
    assert "/list?from=1" in seen


REDFISH = "gallant: profile/1\nname: t\nproduct: t/dev\ndriver: redfish\ntimeout_s: 2\n"
ROOT = {
    "Systems": {"@odata.id": "/redfish/v1/Systems"},
    "UpdateService": {"@odata.id": "/redfish/v1/Update"},
    "Managers": {"@odata.id": "https://elsewhere.invalid/redfish/v1/Managers"},
}
TREE = {
    "/redfish/v1/": ROOT,
    "/redfish/v1/Systems": {"Members": [{"@odata.id": "/redfish/v1/Systems/1"}]},
    "/redfish/v1/Systems/1": {"SerialNumber": "S1", "BiosVersion": "2", "PowerState": "On"},
    "/redfish/v1/Update": {"FirmwareInventory": {"@odata.id": "/redfish/v1/Inv"}},
    "/redfish/v1/Inv": {
        "Members": [
            {"@odata.id": "/redfish/v1/gone"},
            {"Id": "a/../../etc", "Version": "1\x1b[m"},
            {"Id": 7, "Version": 8},
            "x",
        ],
        "Members@odata.nextLink": "/redfish/v1/Inv",
    },
}


def test_a_redfish_tree_that_loops_lies_and_leads_elsewhere_still_gives_what_is_true():
    found, seen = read(TREE, driver="redfish", profile=REDFISH)
    assert (found.serial, found.version, found.state) == ("S1", "2", "in_service")
    assert [(c.name, c.version) for c in found.components] == [("image", "2"), ("a-etc", "1[m")]
    assert any("lists /redfish/v1/gone and does not give it" in o for o in found.oddities)
    assert seen.count("/redfish/v1/Inv") == 1
    assert not any("elsewhere" in path for path in seen)


@pytest.mark.parametrize(
    "broken", [[], "text", {"Systems": 7}, {"Systems": {"@odata.id": ["x"]}}, {"Links": {"Sessions": {}}}]
)
def test_a_redfish_root_of_any_form_is_an_error_and_no_defect(broken):
    with pytest.raises(GallantError):
        read({"/redfish/v1/": broken}, driver="redfish", profile=REDFISH)


@pytest.mark.parametrize("text", ["<a/>", "<a><b/></a>"])
def test_plain_xml_is_read(text):
    assert parse_xml(text.encode()).tag == "a"


@pytest.mark.parametrize(
    "raw", [b"", b"\x00\x01", b"<a>" * 200, BOMB.encode(), BOMB.encode("utf-16"), OUTSIDE.encode()]
)
def test_what_is_no_plain_xml_is_refused(raw):
    with pytest.raises(NotXml):
        parse_xml(raw)


# --- NETCONF

HELLO = (
    '<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.1'
    "</capability></capabilities></hello>]]>]]>"
)


END = "and then it goes"


async def over_netconf(talk, work):
    """What `work(driver)` gives, with a server whose sessions are `talk(process)`."""

    class Open(asyncssh.SSHServer):
        def begin_auth(self, username):
            return False

    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.listen("127.0.0.1", 0, server_factory=Open, server_host_keys=[key], process_factory=talk)
    port = server.sockets[0].getsockname()[1]
    estate = parse_estate(
        "e",
        ESTATE.format(driver="netconf", address=f"ssh://127.0.0.1:{port}", fingerprint=key.get_fingerprint("sha256")),
    )
    tools = Tools(credentials=lambda purpose: Credential("u", "s"), clock=EstateClock(estate))
    driver = NetconfDriver(estate.systems["dev"], replace(load_profile("netconf", Path()), timeout_s=2.0), tools)
    try:
        return await work(driver)
    finally:
        await driver.close()
        server.close()


def netconf(*said: str) -> GallantError:
    """What a server that says these texts, one after each message, comes to."""

    async def talk(process):
        with contextlib.suppress(asyncssh.Error, OSError):
            for text in said:
                if text == END:
                    process.exit(0)
                    return
                process.stdout.write(text)
                await process.stdin.read(65536)
            while await process.stdin.read(65536):
                pass

    with pytest.raises(GallantError) as caught:
        asyncio.run(over_netconf(talk, lambda driver: driver.read("n")))
    return caught.value


@pytest.mark.parametrize("lost", [1, 2])
def test_a_netconf_server_that_drops_what_comes_with_the_hello_is_begun_with_anew(lost):
    sessions = []

    async def talk(process):
        number = len(sessions)
        sessions.append([])
        with contextlib.suppress(asyncssh.Error, OSError, EOFError):
            process.stdout.write(HELLO)
            await process.stdin.readuntil("]]>]]>")
            while text := await process.stdin.readuntil("\n##\n"):
                sessions[number].append(text)
                if number >= lost:
                    reply = f'<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="{len(sessions[number])}"><ok/></rpc-reply>'
                    process.stdout.write(f"\n#{len(reply)}\n{reply}\n##\n")

    asyncio.run(over_netconf(talk, lambda driver: driver.rpc("n", "<order/>", "act")))
    assert [["<order/>" in text for text in heard[:2]] for heard in sessions] == [[False]] * lost + [[False, True]]


@pytest.mark.parametrize(
    ("said", "kind", "words"),
    [
        (["hello there]]>]]>"], DeviceRefused, "not XML"),
        (["<hello/>]]>]]>"], NotReached, "neither base 1.0 nor 1.1"),
        ([HELLO, "no framing at all, none whatever"], DeviceRefused, "breaks the framing"),
        ([HELLO, "\n#4294967295\n"], DeviceRefused, "more than 64 MiB"),
        ([HELLO, "\n#5\n<a/>\n\n##\n"], NotReached, "answers nothing after"),
        ([HELLO, END], NotReached, "ended the session"),
        ([f"<!DOCTYPE x [<!ENTITY y 'z'>]>{HELLO}"], DeviceRefused, "document type"),
    ],
)
def test_a_netconf_server_that_breaks_the_rules_is_refused_and_bounded(said, kind, words):
    error = netconf(*said)
    assert isinstance(error, kind)
    assert words in error.what


# --- by hand, and a package's own address


def manual(*answers):
    estate = parse_estate(
        "e", ESTATE.replace(', fingerprint: "{fingerprint}"', "").format(driver="manual", address="hands:")
    )
    asked, left = [], list(answers)

    def hands(question: str):
        asked.append(question)
        return left.pop(0) if left else None

    tools = Tools(
        credentials=lambda purpose: Credential("", ""), clock=EstateClock(estate), hands=hands if answers else None
    )
    return ManualDriver(estate.systems["dev"], load_profile("by-hand", Path()), tools), asked


def test_what_only_a_person_can_do_is_asked_of_one():
    driver, asked = manual("4.2", "S1", "done", "no, it is locked")
    found = asyncio.run(driver.read("n"))
    assert (found.version, found.serial, found.role) == ("4.2", "S1", "alone")
    act = Act(kind="install", release="4.3")
    taken = asyncio.run(driver.act("n", act, send_by=driver.clock.real() + 9))
    assert taken.message == "done by hand"
    assert "Install 4.3 on dev/n" in asked[2]
    with pytest.raises(DeviceRefused, match="it is locked"):
        asyncio.run(driver.act("n", act, send_by=driver.clock.real() + 9))
    with pytest.raises(NotReached, match="nobody is at a terminal"):
        asyncio.run(manual()[0].read("n"))


def test_a_packages_address_is_for_its_node_and_its_time_alone(tmp_path):
    (tmp_path / "p.pkg").write_bytes(b"body")

    async def go():
        async with new_session() as session:
            async with serving("127.0.0.1", tmp_path / "p.pkg") as url, session.get(url, ssl=False) as good:
                async with session.get(url.replace("p.pkg", "") + "../estate.yaml") as outside:
                    pass
                async with session.get("/".join(url.split("/")[:3]) + "/guess/p.pkg") as guessed:
                    pass
                got = good.status, await good.read(), outside.status, guessed.status
            async with serving("127.0.0.2", tmp_path / "p.pkg") as other, session.get(other) as stranger:
                status = stranger.status
            with pytest.raises(OSError):
                await session.get(url)
            return got, status

    assert asyncio.run(go()) == ((200, b"body", 404, 404), 404)


class Counting:
    """A throttle that lets everything through, and remembers how much that was."""

    def __init__(self) -> None:
        self.seen = 0

    async def let(self, count: int) -> None:
        self.seen += count


def test_what_a_device_fetches_itself_goes_past_the_sites_throttle_also_in_part(tmp_path):
    body = bytes(range(256)) * 1000
    (tmp_path / "p.pkg").write_bytes(body)
    whole = len(body)
    asked = {
        None: (200, body, whole),
        "bytes=200000-": (206, body[200_000:], whole - 200_000),
        "bytes=0-9": (206, body[:10], 10),
        "bytes=-7": (206, body[-7:], 7),
        f"bytes={whole}-": (416, None, 0),
        "bytes=9-3": (416, None, 0),
        "bytes=x": (416, None, 0),
    }

    async def go(header: str | None):
        throttle = Counting()
        async with (
            new_session() as session,
            serving("127.0.0.1", tmp_path / "p.pkg", throttle) as url,
            session.get(url, headers={"Range": header} if header else {}) as answer,
        ):
            return answer.status, await answer.read(), throttle.seen, answer.headers.get("Content-Range")

    for header, (status, content, counted) in asked.items():
        got = asyncio.run(go(header))
        assert (got[0], got[2]) == (status, counted), header
        if content is not None:
            assert got[1] == content
    assert asyncio.run(go("bytes=0-9"))[3] == f"bytes 0-9/{whole}"
