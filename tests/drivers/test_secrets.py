"""A secret that a device gives back is in nothing that comes out
of a driver: no reading, job, answer to an order or error."""

from __future__ import annotations

import asyncio
import json
from dataclasses import replace

import msgspec
import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.ports import Act
from gallant.core.readings import Reading
from gallant.core.records import clean
from gallant.drivers.tools import Credential

from .test_hostile import web_device

SECRETS = ("s3cret-word", "pa\"ss\\wo'rd", "tab\there word", "pässwörd", "x" * 300 + "y")
PROFILE = """
gallant: profile/1
name: t
product: t/dev
driver: http
timeout_s: 2
login: {call: {post: /login, send: {user: "{user}"}, take: {token: token}}, header: X-T}
reads:
  about:
    - get: /about
      take: {serial: serial, version: version, boot: boot, build: text, next_version: text, model: text, network: text,
             part_number: text, role: text, state: text, sync: text, answers_for: "[text]", offers: "[text]",
             alarms: "[{text: text, level: text}]", facets: "[{name: text, state: text}]",
             gauges: "[{name: text, value: `1`, unit: text}]",
             components: "[{name: text, kind: text, product: text, version: text, next_version: text, build: text}]",
             packages: "[{name: text, sha256: text, bytes: `1`}]", channels: "[{name: text, state: text, why: text}]",
             jobs: "[{id: text, kind: text, state: text, message: text, release: text}]",
             expiries: "[{name: text, kind: text, ends: '2027-01-01T00:00:00Z'}]",
             snapshots: "[{name: text, taken: '2027-01-01T00:00:00Z', of: text}]"}
job: [{get: /job, take: {state: text, kind: text, message: text, release: text}}]
self_test: [{get: /test, take: {findings: "[{text: text, level: text}]"}}]
acts: {install: {calls: [{post: /orders, take: {handle: text, message: text}}]}, restart: {calls: [{post: /no}]}}
"""
# Fields of a reading that are not a device's own text.
OURS = ("system", "node", "taken", "product", "serial", "version", "boot", "sync_remaining_s")


def forms(secret: str) -> set[str]:
    return {secret, clean(secret), json.dumps(secret)[1:-1], msgspec.json.encode(secret).decode()[1:-1], secret[:150]}


@pytest.mark.parametrize("secret", SECRETS)
def test_a_secret_that_a_device_gives_back_comes_out_nowhere(secret):
    text = f"before {secret} after"
    told = []

    async def refused(request):
        return web.Response(status=409, text=json.dumps({"message": text}))

    answers = {
        "/login": {"token": "t0ken-t0ken"},
        "/about": {"serial": "S1", "version": "1.0", "boot": "b", "text": text},
        "/job": {"text": text},
        "/test": {"text": text},
        "/orders": {"text": text},
        "/no": refused,
    }

    async def go():
        async with web_device(answers, profile=PROFILE) as (driver, _):
            driver.tools = replace(driver.tools, credentials=lambda _: Credential("u", secret), told=told.append)
            soon = driver.clock.real() + 5
            reading = await driver.read("n")
            job, tested = await driver.job("n", "7"), await driver.self_test("n", "2")
            taken = await driver.act("n", Act(kind="install"), send_by=soon)
            with pytest.raises(GallantError) as error:
                await driver.act("n", Act(kind="restart"), send_by=soon)
            return reading, job, tested, taken, error.value

    reading, job, tested, taken, error = asyncio.run(go())
    filled = [f for f in Reading.__struct_fields__ if f not in OURS and getattr(reading, f) not in (None, (), "")]
    assert len(filled) >= 20
    assert job.message.startswith("before •••")
    said = [msgspec.json.encode(r).decode() for r in (reading, job, tested, taken)] + [str(error), repr(told)]
    for form in forms(secret):
        assert not [one for one in said if form in one]


@pytest.mark.parametrize("token", ["a\nb: c", "a\r\n\r\nb", "\u00e9", " a", "a\x00b"])
def test_a_token_that_no_header_can_carry_is_a_refusal(token):
    async def go():
        async with web_device({"/login": {"token": token}}, profile=PROFILE) as (driver, _):
            await driver.read("n")

    with pytest.raises(GallantError, match="no request can carry"):
        asyncio.run(go())
