"""The ways in which a device lets one in: a session, the account with every request, a static token, or nothing at
all."""

from __future__ import annotations

import asyncio
import base64

import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.ports import LoginRefused
from gallant.drivers.profile_reading import parse_profile

from .test_hostile import web_device

PROFILE = """
gallant: profile/1
name: plain
product: plain/box
driver: http
login: {login}
reads:
  about: [{{get: /about, take: {{serial: s, version: v, boot: b}}}}]
  parts: [{{get: /parts, take: {{components: "parts[].{{name: n, kind: 'disk', product: 'plain/disk', version: v}}"}}}}]
"""
ABOUT = {"s": "S1", "v": "1.0", "b": "1"}


def reading(login: str, wanted: dict[str, str]):
    """What a device that wants these headers is read as, and how often it refused."""
    refused = []

    def guarded(body):
        async def answer(request: web.Request) -> web.StreamResponse:
            if any(request.headers.get(name) != value for name, value in wanted.items()):
                refused.append(request.path)
                return web.json_response({"text": "who are you?"}, status=401)
            return web.json_response(body)

        return answer

    async def go():
        answers = {"/about": guarded(ABOUT), "/parts": guarded({"parts": [{"n": "disk-1", "v": "3"}]})}
        async with web_device(answers, profile=PROFILE.format(login=login)) as (device, _):
            user, secret, _ = device.credential("read")
            for name, value in wanted.items():
                wanted[name] = value.format(secret=secret, both=base64.b64encode(f"{user}:{secret}".encode()).decode())
            try:
                return await device.read("n"), refused
            except LoginRefused as error:
                with pytest.raises(LoginRefused):  # and it is not tried again
                    await device.read("n")
                return error, refused

    return asyncio.run(go())


@pytest.mark.parametrize(
    ("login", "wanted"),
    [
        ("{by: basic}", {"Authorization": "Basic {both}"}),
        ("{by: header, header: X-Api-Key}", {"X-Api-Key": "{secret}"}),
        ('{by: header, header: Authorization, value: "Token {secret}"}', {"Authorization": "Token {secret}"}),
        ("{by: nothing}", {}),
    ],
    ids=["basic", "key", "token", "nothing"],
)
def test_a_device_without_sessions_is_read_by_what_it_wants(login, wanted):
    found, refused = reading(login, wanted)
    assert (found.serial, [c.name for c in found.components], refused) == ("S1", ["image", "disk-1"], [])


@pytest.mark.parametrize("login", ["{by: basic}", "{by: header, header: X-Api-Key}"])
def test_a_secret_that_is_wrong_is_refused_once_and_never_shown(login):
    error, refused = reading(login, {"Authorization": "something else"})
    assert isinstance(error, GallantError)
    assert "refuses the login of" in error.what
    assert len(refused) == 1


@pytest.mark.parametrize(
    ("login", "words"),
    [
        ("{by: session}", "the call that gets one"),
        ("{by: header}", "its name, and a value"),
        ('{by: header, header: X, value: "fixed"}', "a value with {secret}"),
        ("{by: basic, cookies: yes}", "no call, logout or cookies"),
        ("{by: magic}", "one of session, basic, header, nothing"),
    ],
)
def test_a_login_that_makes_no_sense_is_told_with_its_place(login, words):
    with pytest.raises(GallantError) as invalid:
        parse_profile("p.yaml", PROFILE.format(login=login))
    assert words in str(invalid.value)
    assert "p.yaml:6" in str(invalid.value)
