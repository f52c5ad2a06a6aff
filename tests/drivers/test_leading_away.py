"""A device whose answers lead elsewhere is followed on itself
alone: neither a package nor a session goes to another place."""

from __future__ import annotations

import asyncio
import hashlib
from dataclasses import replace

import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.ports import Act, DeviceRefused
from gallant.drivers.http.wire import own_path
from gallant.standin.certificates import self_signed
from gallant.standin.ports import reserve

from .test_hostile import GOOD, HTTP, REDFISH, web_device

BODY = b"a package of some bytes"
ROOT = "/redfish/v1/"


def tree(**changes):
    """A Redfish service that can be updated, restarted and asked for its task; some of its links changed."""
    link = {
        "push": f"{ROOT}push",
        "reset": f"{ROOT}reset",
        "update": f"{ROOT}simple",
        "member": f"{ROOT}Systems/1",
        "task": f"{ROOT}Tasks/1",
        **changes,
    }
    system = {
        "@odata.id": f"{ROOT}Systems/1",
        "SerialNumber": "S1",
        "BiosVersion": "2",
        "PowerState": "On",
        "Actions": {
            "#ComputerSystem.Reset": {
                "target": link["reset"],
                **({"@Redfish.ActionInfo": link["info"]} if "info" in link else {}),
            }
        },
    }
    update = {
        "MultipartHttpPushUri": link["push"],
        "Actions": {"#UpdateService.SimpleUpdate": {"target": link["update"]}},
    }
    if link["push"] is None:
        del update["MultipartHttpPushUri"]
    if "plain" in link:
        update = {"HttpPushUri": link["plain"]}
    return {
        ROOT: {
            "Systems": {"@odata.id": f"{ROOT}Systems"},
            "UpdateService": {"@odata.id": f"{ROOT}Update"},
            "Links": {"Sessions": {"@odata.id": link.get("sessions", f"{ROOT}Sessions")}},
        },
        f"{ROOT}Systems": {"Members": [{"@odata.id": link["member"]}]},
        f"{ROOT}Systems/1": system,
        f"{ROOT}Update": update,
        f"{ROOT}Sessions": logged_in,
        f"{ROOT}push": {"@odata.id": link["task"], "TaskState": "Running"},
        f"{ROOT}reset": {},
    }


async def logged_in(request: web.Request) -> web.Response:
    return web.json_response({}, status=201, headers={"X-Auth-Token": "t0ken-t0ken", "Location": f"{ROOT}Sessions/1"})


async def caught(tmp_path, answers, work, driver="redfish", profile=REDFISH):
    """What came to another place while `work` was done with a device of these answers; `{other}` in them is that
    place."""
    came: list[str] = []

    async def handle(request: web.Request) -> web.Response:
        came.append(f"{request.method} {request.path_qs}")
        return web.json_response({"@odata.id": f"{ROOT}Tasks/1", "TaskState": "Running"}, status=202)

    context, _, _ = self_signed("other", "127.0.0.2")
    keeper, port = reserve("127.0.0.2")
    keeper.close()
    app = web.Application()
    app.router.add_route("*", "/{tail:.*}", handle)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.2", port, ssl_context=context).start()
    (tmp_path / "p.pkg").write_bytes(BODY)
    made = answers(f"127.0.0.2:{port}")
    try:
        async with web_device(made, driver=driver, profile=profile) as (device, seen):
            device.tools = replace(device.tools, package_file=lambda name, sha256: tmp_path / "p.pkg")
            problem = None
            try:
                await work(device)
            except GallantError as error:
                problem = error
            return came, problem, seen
    finally:
        await runner.cleanup()


INSTALL = Act(kind="install", package="p.pkg", sha256=hashlib.sha256(BODY).hexdigest(), bytes=len(BODY))
RESTART = Act(kind="restart", reason="a test")


def act(order):
    async def work(device):
        await device.act("n", order, send_by=device.clock.real() + 5)

    return work


AWAY = ("@{other}/x", "https://{other}/x", "//{other}/x", "https:{other}/x", "\\\\{other}\\x", ".{other}/x", "x")


@pytest.mark.parametrize("link", AWAY)
@pytest.mark.parametrize(
    ("name", "order"),
    [("push", INSTALL), ("plain", INSTALL), ("reset", RESTART), ("info", RESTART), ("member", RESTART)],
)
def test_an_order_goes_to_the_node_or_nowhere(tmp_path, name, order, link):
    came, problem, _ = asyncio.run(caught(tmp_path, lambda other: tree(**{name: link.format(other=other)}), act(order)))
    assert came == []
    assert isinstance(problem, DeviceRefused), problem
    assert "leads to another place" in problem.what
    assert "nothing was sent there" in problem.what


@pytest.mark.parametrize("link", AWAY[:3])
def test_a_reading_says_which_link_it_did_not_follow(tmp_path, link):
    async def work(device):
        found = await device.read("n")
        assert any("links to another place" in oddity for oddity in found.oddities)

    def answers(other):
        made = tree()
        made[ROOT]["Managers"] = {"@odata.id": link.format(other=other)}
        return made

    came, problem, _ = asyncio.run(caught(tmp_path, answers, work))
    assert (came, problem) == ([], None)


def test_a_login_and_a_task_elsewhere_get_no_account_and_no_session(tmp_path):
    def answers(other):
        return tree(sessions=f"https://{other}/Sessions")

    came, _, _ = asyncio.run(caught(tmp_path, answers, act(RESTART)))
    assert came == []

    async def job(device):
        await device.job("n", "@127.0.0.2:9/task")

    came, problem, _ = asyncio.run(caught(tmp_path, lambda other: tree(), job))
    assert came == []
    assert "leads to another place" in problem.what


PROFILE = (
    HTTP
    + """
job: [{get: "{handle}", take: {state: state}}]
acts:
  install: {calls: [{post: /orders, take: {_where: where}}, {put: "{_where}", upload: package}]}
  cancel: {calls: [{delete: "{reason}"}]}
"""
)


@pytest.mark.parametrize("link", AWAY[:4])
def test_what_a_profile_takes_from_an_answer_leads_nowhere_else(tmp_path, link):
    def answers(other):
        return {**GOOD, "/orders": {"where": link.format(other=other)}}

    came, problem, _ = asyncio.run(caught(tmp_path, answers, act(INSTALL), "http", PROFILE))
    assert came == []
    assert isinstance(problem, GallantError)


@pytest.mark.parametrize(
    ("link", "path"),
    [
        ("/a/b", "/a/b"),
        ("/a?b=c&d", "/a?b=c&d"),
        ("https://h/a", "/a"),
        ("https://H:443/a?x", "/a?x"),
        ("https://h:444/a", None),
        ("http://h/a", None),
        ("https://u@h/a", None),
        ("https://h.other/a", None),
        ("//h/a", None),
        ("@h/a", None),
        ("a/b", None),
        ("", None),
        ("/a b", None),
        ("/a\nHost: x", None),
        ("/\u00e9", None),
        ("https://h:notaport/a", None),
        ("https://[::1", None),
    ],
)
def test_a_link_is_a_path_of_the_node_or_none(link, path):
    assert own_path(link, "https://h") == path
