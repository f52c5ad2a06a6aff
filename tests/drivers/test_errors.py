"""An error is looked at first, whatever the status says: some devices call everything good."""

from __future__ import annotations

import asyncio

import pytest

from gallant.core.ports import Act, DeviceRefused, LoginRefused

from .test_hostile import web_device

PROFILE = """
gallant: profile/1
name: polite
product: polite/box
driver: http
login: {call: {post: /login, send: {user: "{user}"}, take: {token: t}}, header: X-T}
errors:
  - {pattern: '"rc": ?7', means: already}
  - {pattern: '"rc": ?[1-9]', means: refused}
reads:
  about: [{get: /about, take: {serial: s, version: v, boot: b}}]
  parts: [{get: /parts, take: {components: "parts[].{name: n, kind: 'disk', product: 'polite/disk', version: v}"}}]
acts:
  restart: {calls: [{post: /restart, take: {handle: job}}]}
exports: [{name: all.json, call: {get: /all}}]
"""
GOOD = {
    "/login": {"t": "token", "rc": 0},
    "/about": {"s": "S1", "v": "1.0", "b": "1", "rc": 0},
    "/parts": {"parts": [{"n": "disk-1", "v": "3"}], "rc": 0},
    "/restart": {"job": "1", "rc": 0},
    "/all": {"settings": [1, 2, 3], "rc": 0},
}
BAD = {"rc": 9, "text": "the licence has ended"}


def doing(answers: dict, work):
    async def go():
        async with web_device(answers, profile=PROFILE) as (device, _):
            return await work(device)

    return asyncio.run(go())


async def reading(device):
    return await device.read("n")


async def restarting(device):
    return await device.act("n", Act(kind="restart", reason="r"), send_by=device.clock.real() + 5)


async def exporting(device) -> bytes:
    taken: list[bytes] = []
    await device.export("n", "all.json", taken.append)
    return b"".join(taken)


def test_a_device_that_calls_an_error_good_is_not_read_as_empty():
    assert [c.name for c in doing(GOOD, reading).components] == ["image", "disk-1"]
    for path in ("/about", "/parts"):
        with pytest.raises(DeviceRefused, match="the licence has ended"):
            doing({**GOOD, path: BAD}, reading)


def test_an_order_that_is_refused_with_a_good_status_was_not_taken():
    assert doing(GOOD, restarting).handle == "1"
    with pytest.raises(DeviceRefused, match="the licence has ended") as refused:
        doing({**GOOD, "/restart": BAD}, restarting)
    assert refused.value.meaning == "refused"
    with pytest.raises(DeviceRefused) as already:
        doing({**GOOD, "/restart": {"rc": 7}}, restarting)
    assert already.value.meaning == "already"


def test_an_error_is_no_backup_and_a_login_that_says_no_is_refused():
    assert b"settings" in doing(GOOD, exporting)
    with pytest.raises(DeviceRefused, match="the licence has ended"):
        doing({**GOOD, "/all": BAD}, exporting)
    with pytest.raises(LoginRefused, match="refuses the login"):
        doing({**GOOD, "/login": {"rc": 3, "text": "no such user"}}, reading)
