"""The http driver against devices that are slow, wrong or hostile; real sockets, no device of ours behind them."""

from __future__ import annotations

import asyncio
import dataclasses
import hashlib
import json
import ssl
from contextlib import asynccontextmanager
from pathlib import Path

import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate
from gallant.core.ports import Act, AnswerLost, DeviceRefused, LoginRefused, NotReached, NotSent, WrongMachine
from gallant.core.records import replace
from gallant.drivers.http.driver import HttpDriver, new_session
from gallant.drivers.profile import PassingRule
from gallant.drivers.profile_reading import load_profile
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock
from gallant.standin.certificates import self_signed
from gallant.standin.ports import reserve

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  dev:
    product: ostrel/shoal
    shape: single
    site: s
    driver: http
    profile: ostrel-shoal
    nodes:
      n: {{address: "https://127.0.0.1:{port}", serial: S1{trust}}}
"""
NODE = {
    "serial": "S1",
    "model": "m",
    "release": "2.8.5",
    "build": "1",
    "starts_next": "2.8.5",
    "started": "1",
    "duty": "serving",
    "condition": "working",
    "clock": "2026-11-25T00:00:00Z",
    "network": "10.0.0.0/24",
    "expander": {"module": "m", "release": "1.6"},
}
GOOD = {
    "/v1/node": NODE,
    "/v1/replica": {"state": "matched", "seconds_left": 0, "paths": 2},
    "/v1/packages": {"free_bytes": 1, "items": []},
    "/v1/tasks": {"items": []},
    "/v1/snapshots": {"items": []},
    "/v1/updates": {"items": [{"release": "2.11.3"}]},
    "/v1/session": {"token": "t0ken-t0ken", "lasts_s": 60},
}


class Device:
    """A device whose every answer a test can replace: `answers[path]` is a body or a handler."""

    def __init__(self) -> None:
        self.answers: dict = dict(GOOD)
        self.seen: list[str] = []

    async def handle(self, request: web.Request) -> web.StreamResponse:
        self.seen.append(f"{request.method} {request.path}")
        answer = self.answers.get(request.path)
        if callable(answer):
            return await answer(request)
        return (
            web.json_response(answer)
            if answer is not None
            else web.json_response({"problem": "no such thing"}, status=404)
        )


@asynccontextmanager
async def serving(device: Device, trust: str | None = None, timeout_s: float = 1.0, secret: str = "s3cret-word"):
    context, fingerprint, _ = self_signed("dev", "127.0.0.1")
    keeper, port = reserve("127.0.0.1")
    keeper.close()
    app = web.Application()
    app.router.add_route("*", "/{tail:.*}", device.handle)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", port, ssl_context=context).start()
    line = f', fingerprint: "{fingerprint}"' if trust is None else trust
    estate = parse_estate("e", ESTATE.format(port=port, trust=line))
    try:
        async with driving(estate, timeout_s, secret) as driver:
            yield driver
    finally:
        await runner.cleanup()


@asynccontextmanager
async def driving(estate: Estate, timeout_s: float = 1.0, secret: str = "s3cret-word"):
    async with new_session() as session:
        profile = replace(load_profile("ostrel-shoal", Path()), timeout_s=timeout_s)
        tools = Tools(
            credentials=lambda purpose: Credential(purpose, secret), clock=EstateClock(estate), session=session
        )
        yield HttpDriver(estate.systems["dev"], profile, tools)


def reading_of(device: Device, **options):
    async def go():
        async with serving(device, **options) as driver:
            return await driver.read("n")

    return asyncio.run(go())


def failing(kind: type[GallantError], device: Device, **options) -> GallantError:
    with pytest.raises(kind) as caught:
        reading_of(device, **options)
    return caught.value


def test_a_good_device_is_read_with_its_words_turned_into_ours():
    reading = reading_of(Device())
    assert (reading.serial, reading.version, reading.role, reading.state, reading.in_sync) == (
        "S1",
        "2.8.5",
        "active",
        "in_service",
        True,
    )
    assert [c.name for c in reading.components] == ["image", "expander"]
    assert reading.gauge("free space") == 1


def test_a_word_that_no_table_knows_is_unknown_and_never_a_default():
    device = Device()
    device.answers["/v1/node"] = {**NODE, "duty": "dancing", "condition": None}
    reading = reading_of(device)
    assert (reading.role, reading.state) == ("unknown", "unknown")


def test_one_login_serves_many_reads_and_connections_are_used_again():
    device = Device()

    async def go():
        async with serving(device) as driver:
            for _ in range(5):
                await driver.read("n")
            await driver.close()

    asyncio.run(go())
    assert device.seen.count("POST /v1/session") == 1
    assert device.seen.count("DELETE /v1/session") == 1


def test_a_session_that_ran_out_is_renewed_once():
    device, tokens = Device(), iter(["one-token", "two-token", "three-token"])

    async def login(request):
        return web.json_response({"token": next(tokens), "lasts_s": 1})

    async def node(request):
        return (
            web.json_response(NODE)
            if request.headers["X-Shoal-Token"] == "two-token"
            else web.json_response({"problem": "no session"}, status=401)
        )

    device.answers |= {"/v1/session": login, "/v1/node": node}
    assert reading_of(device).serial == "S1"
    assert device.seen.count("POST /v1/session") == 2


def test_another_serial_is_another_machine():
    device = Device()
    device.answers["/v1/node"] = {**NODE, "serial": "S9"}
    error = failing(WrongMachine, device)
    assert "answers as serial S9; the estate says S1" in error.what
    assert error.serial == "S9"


def test_a_certificate_that_nothing_vouches_for_is_refused_with_the_line_to_add():
    error = failing(LoginRefused, Device(), trust="")
    assert "certificate that is not trusted; nothing was sent" in error.what
    assert "fingerprint: sha256:" in error.next


def test_a_certificate_other_than_the_pinned_one_is_refused_with_both_shown():
    device = Device()
    error = failing(LoginRefused, device, trust=f', fingerprint: "sha256:{"0" * 64}"')
    assert f"the estate pins sha256:{'0' * 64}" in error.why
    assert device.seen == []


def test_a_ca_file_vouches_for_the_certificate_it_signed(tmp_path):
    device = Device()

    async def go():
        context, _, pem = self_signed("dev", "127.0.0.1")
        (tmp_path / "ca.pem").write_bytes(pem)
        keeper, port = reserve("127.0.0.1")
        keeper.close()
        app = web.Application()
        app.router.add_route("*", "/{tail:.*}", device.handle)
        runner = web.AppRunner(app, access_log=None)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", port, ssl_context=context).start()
        async with driving(parse_estate("e", ESTATE.format(port=port, trust=f', ca: "{tmp_path}/ca.pem"'))) as driver:
            assert (await driver.read("n")).serial == "S1"
        await runner.cleanup()

    asyncio.run(go())


def test_a_device_that_is_not_there_was_not_reached():
    keeper, port = reserve("127.0.0.1")

    async def go():
        async with driving(
            parse_estate("e", ESTATE.format(port=port, trust=f', fingerprint: "sha256:{"0" * 64}"'))
        ) as driver:
            await driver.read("n")

    with pytest.raises(NotReached, match="cannot be reached at https://127.0.0.1"):
        asyncio.run(go())
    keeper.close()


def test_a_device_that_speaks_no_tls_is_refused_clearly():
    async def go():
        keeper, port = reserve("127.0.0.1")
        keeper.close()

        async def talk(reader, writer):
            writer.write(b"SSH-2.0-nothing\r\n")
            writer.close()

        server = await asyncio.start_server(talk, "127.0.0.1", port)
        async with driving(
            parse_estate("e", ESTATE.format(port=port, trust=f', fingerprint: "sha256:{"0" * 64}"'))
        ) as driver:
            try:
                await driver.read("n")
            finally:
                server.close()

    with pytest.raises((NotReached, AnswerLost)):
        asyncio.run(go())


async def endless(request):
    """Far more than any answer may have; it ends by itself when nobody takes it any more."""
    answer = web.StreamResponse()
    await answer.prepare(request)
    for _ in range(400):
        if request.transport is None or request.transport.is_closing():
            break
        await answer.write(b"[" + b" " * 65536)
        await asyncio.sleep(0)
    return answer


async def dripping(request):
    answer = web.StreamResponse()
    await answer.prepare(request)
    for _ in range(200):
        if request.transport is None or request.transport.is_closing():
            break
        await answer.write(b" ")
        await asyncio.sleep(0.05)
    return answer


async def deep(request):
    return web.Response(body=b"[" * 100_000 + b"]" * 100_000)


async def elsewhere(request):
    raise web.HTTPFound("https://127.0.0.2/")


async def cut(request):
    request.transport.abort()
    return web.Response()


def saying(body: bytes, status: int = 200):
    async def answer(request):
        return web.Response(body=body, status=status)

    return answer


HOSTILE = [
    ("endless", endless, DeviceRefused, "more than 8 MiB"),
    ("dripping", dripping, AnswerLost, "took too long"),
    ("deep", deep, DeviceRefused, "not JSON"),
    ("elsewhere", elsewhere, DeviceRefused, "answered with a redirect"),
    ("cut", cut, AnswerLost, "connection was cut"),
    ("not-json", saying(b"<html>"), DeviceRefused, "not JSON"),
    ("empty", saying(b""), DeviceRefused, "does not say its serial"),
    ("list", saying(b"[1]"), DeviceRefused, "does not say its serial"),
    (
        "wrong-types",
        saying(json.dumps({"serial": ["S1"], "release": {}, "started": True}).encode()),
        DeviceRefused,
        "does not say",
    ),
    ("refusing", saying(b'{"problem": "busy: \\u001b[31m\\u202e!"}', 409), DeviceRefused, "busy: [31m!"),
    ("forbidden", saying(b"{}", 403), LoginRefused, "does not let us"),
    ("starting", saying(b"{}", 503), NotReached, "refuses"),
    ("nan", saying(b'{"serial": NaN}'), DeviceRefused, "not JSON"),
]


@pytest.mark.parametrize(("answer", "kind", "words"), [h[1:] for h in HOSTILE], ids=[h[0] for h in HOSTILE])
def test_a_hostile_answer_harms_nothing_and_is_named(answer, kind, words):
    device = Device()
    device.answers["/v1/node"] = answer
    assert words in failing(kind, device).what


def test_no_control_character_of_a_device_comes_through():
    device = Device()
    device.answers["/v1/node"] = {**NODE, "release": "2.8.5\x1b]0;evil\x07", "model": "a\u202eb\nc"}
    reading = reading_of(device)
    assert reading.version == "2.8.5]0;evil"
    assert reading.model == "ab c"


def test_a_read_that_the_network_cut_is_tried_again():
    device, tries = Device(), []

    async def flaky(request):
        tries.append(1)
        if len(tries) < 3:
            request.transport.abort()
        return web.json_response(NODE)

    device.answers["/v1/node"] = flaky
    assert reading_of(device).serial == "S1"


def test_an_order_is_never_sent_twice_and_its_lost_answer_is_called_lost():
    device, orders = Device(), []

    async def tasks(request):
        if request.method == "POST":
            orders.append(await request.json())
            request.transport.abort()
        return web.json_response({"items": []})

    device.answers["/v1/tasks"] = tasks

    async def go():
        async with serving(device) as driver:
            await driver.act("n", Act(kind="install", package="p.pkg"), send_by=driver.clock.real() + 5)

    with pytest.raises(AnswerLost):
        asyncio.run(go())
    assert orders == [{"do": "install", "package": "p.pkg"}]


@pytest.mark.parametrize("gone", [NotReached, NotSent])
def test_an_order_of_several_calls_is_not_unsent_once_the_first_of_them_went_out(gone):
    device, sent = Device(), []

    async def go(failing_at: int):
        async with serving(device) as driver:
            once = driver.profile.acts["install"]
            driver.profile = replace(driver.profile, acts={"install": replace(once, calls=(*once.calls, *once.calls))})
            ask = driver._ask

            async def failing(node, asked):
                if asked.purpose == "act":
                    sent.append(asked.call.verb)
                    if len(sent) == failing_at:
                        raise gone("the wire was cut.")
                return await ask(node, asked)

            driver._ask = failing
            await driver.act("n", Act(kind="install", package="p.pkg"), send_by=driver.clock.real() + 5)

    for failing_at, expected in ((1, gone), (2, AnswerLost)):
        sent.clear()
        with pytest.raises(expected) as told:
            asyncio.run(go(failing_at))
        assert type(told.value) is expected
    assert "1 of the 2 calls of install went out" in told.value.what


def test_an_order_whose_time_is_over_is_not_sent():
    device = Device()

    async def go():
        async with serving(device) as driver:
            await driver.act("n", Act(kind="restart"), send_by=driver.clock.real() - 1)

    with pytest.raises(NotSent):
        asyncio.run(go())
    assert "POST /v1/tasks" not in device.seen


def test_no_message_of_a_device_carries_a_secret_that_was_sent_to_it():
    device = Device()
    device.answers["/v1/session"] = saying(b'{"problem": "wrong password s3cret-word for act"}', 401)
    error = failing(LoginRefused, device)
    assert "s3cret-word" not in str(error)
    assert "•••" in error.what


def test_a_package_name_cannot_leave_its_place_in_the_path():
    device, paths = Device(), []

    async def record(request):
        paths.append(request.raw_path)
        return web.json_response({})

    async def go():
        async with serving(device) as driver:
            device.handle_all = record
            for path in ("/v1/packages/..%2F..%2Fetc",):
                device.answers[path] = record
            await driver.act("n", Act(kind="unload", package="../../etc"), send_by=driver.clock.real() + 5)

    with pytest.raises(DeviceRefused):
        asyncio.run(go())
    assert any(seen.startswith("DELETE /v1/packages/") for seen in device.seen)


def test_an_error_that_a_restart_is_known_to_bring_is_no_refusal_for_as_long_as_its_profile_says():
    rule = PassingRule(status=(409,), pattern="waking", within_s=90)

    async def waking(request):
        return web.json_response({"problem": "still waking up"}, status=409)

    device = Device()
    device.answers["/v1/node"] = waking

    async def read(passing, wait_s=0.0):
        async with serving(device) as driver:
            driver.profile = replace(driver.profile, passing=passing, errors=())
            for _ in range(2):
                try:
                    await driver.read("n")
                except GallantError as error:
                    last = error
                await asyncio.sleep(wait_s)
            return type(last)

    assert asyncio.run(read(())) is DeviceRefused
    assert asyncio.run(read((rule,))) is NotReached
    assert asyncio.run(read((replace(rule, within_s=0.01),), wait_s=0.05)) is DeviceRefused
    assert asyncio.run(read((replace(rule, pattern="asleep"),))) is DeviceRefused


def test_a_package_that_was_altered_in_stock_is_not_sent(tmp_path):
    device, body, got = Device(), b"what the publisher signed", []
    name = "shoal-1.pkg"
    (tmp_path / name).write_bytes(body)

    async def upload(request):
        got.append(await request.read())
        return web.json_response({})

    device.answers[f"/v1/packages/{name}"] = upload
    act = Act(kind="preload", package=name, sha256=hashlib.sha256(body).hexdigest(), bytes=len(body))

    async def go():
        async with serving(device) as driver:
            driver.tools = dataclasses.replace(driver.tools, package_file=lambda name, sha256: tmp_path / name)
            await driver.act("n", act, send_by=driver.clock.real() + 5)
            (tmp_path / name).write_bytes(body[:-1] + b"x")
            with pytest.raises(NotSent, match="not what the catalog says"):
                await driver.act("n", act, send_by=driver.clock.real() + 5)

    asyncio.run(go())
    assert got == [body]


def test_the_shared_context_verifies():
    from gallant.drivers.tls import shared_context

    assert shared_context().verify_mode == ssl.CERT_REQUIRED
    assert shared_context().check_hostname
