"""Whatever form a device's answers have, a driver reads them or refuses them in words; nothing else comes out of it."""

from __future__ import annotations

import asyncio
import copy
import json
import random

import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.ports import Act
from gallant.drivers.profile_reading import load_profile

from .test_hostile import REDFISH, web_device
from .test_leading_away import tree

ODD = (
    None, True, 0, -1, 5, 2**63, 1e308, "", "x", "\x1b[31m", "9" * 500, [], [5], [None], [[]], ["x"], {}, {"x": 1}, {"@odata.id": 5},
    {"@odata.id": []}, "9999-12-31T23:59:59-14:00", "0001-01-01T00:00:00+14:00", "/redfish/v1/", "a/../b", [{"a": {"b": []}}],
)  # fmt: skip
RACK = {
    **tree(),
    "/redfish/v1/Systems/1": {
        "@odata.id": "/redfish/v1/Systems/1", "SerialNumber": "S1", "Model": "m", "BiosVersion": "2", "PowerState": "On",
        "Status": {"State": "Enabled", "Health": "Warning", "Conditions": [{"Message": "hot", "Severity": "Warning"}]},
        "MemorySummary": {"TotalSystemMemoryGiB": 5}, "LastResetTime": "x",
        "Actions": {"#ComputerSystem.Reset": {"target": "/redfish/v1/reset", "@Redfish.ActionInfo": "/redfish/v1/info"}},
    },
    "/redfish/v1/info": {"Parameters": [{"Name": "ResetType", "AllowableValues": ["ForceRestart"]}]},
    "/redfish/v1/Update": {
        "FirmwareInventory": {"@odata.id": "/redfish/v1/Inv"},
        "Actions": {"#UpdateService.SimpleUpdate": {"target": "/redfish/v1/simple"}},
    },
    "/redfish/v1/Inv": {"Members": [{"Id": "Bios", "Name": "b", "Version": "2"}, {"@odata.id": "/redfish/v1/Inv/1"}]},
    "/redfish/v1/Inv/1": {"Id": "drive_1", "Version": "3"},
    "/redfish/v1/Managers": {"Members": [{"Id": "1", "FirmwareVersion": "3", "DateTime": "2026-11-26T00:00:00Z"}]},
    "/redfish/v1/Tasks": {"Tasks": {"@odata.id": "/redfish/v1/Tasks/all"}},
    "/redfish/v1/Tasks/all": {"Members": [{"Id": "1", "TaskState": "Running", "Messages": [{"Message": "m"}], "PercentComplete": 5}]},
    "/redfish/v1/Tasks/1": {"TaskState": "Running", "TaskStatus": "OK", "Messages": [{"Message": "m"}]},
}  # fmt: skip
RACK["/redfish/v1/"] = {
    **RACK["/redfish/v1/"],
    **{name: {"@odata.id": f"/redfish/v1/{name}"} for name in ("Managers", "Tasks")},
    "ProtocolFeaturesSupported": {"ExpandQuery": {"NoLinks": True, "Levels": True}},
}
BERTH = {
    "/login": {"bearer": "t0ken-t0ken"},
    "/host": {"serial": "S1", "model": "m", "runs": "1", "will_run": "1", "start": "b", "part": "leading", "mood": "working",
              "clock": "2026-11-26T00:00:00Z", "alarms": [{"level": "warning", "text": "t"}], "updates_itself": False},
    "/guests": {"guests": [{"name": "g", "state": "runs"}], "more": None},
    "/storage": {"free_gib": 3.5, "load_percent": 40},
    "/images": {"images": [{"name": "i", "sha256": "0", "bytes": 1}]},
    "/jobs": {"jobs": [{"id": "1", "what": "install", "state": "busy", "share": 5, "text": "t"}]},
    "/jobs/1": {"what": "install", "state": "busy", "share": 5, "text": "t"},
    "/snapshots": {"snapshots": [{"name": "s", "taken": "2026-11-26T00:00:00Z", "bytes": 5, "guest": "g"}]},
    "/orders": {"location": "/jobs/1"},
}  # fmt: skip


def places(value, path=()):
    yield path
    for key, item in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
        yield from places(item, (*path, key))


def changed(answers: dict, chance: random.Random) -> dict:
    """The answers with something odd in one to three places."""
    made = {path: copy.deepcopy(body) for path, body in answers.items() if not callable(body)}
    for _ in range(chance.choice((1, 1, 2, 3))):
        where = (path := chance.choice(sorted(made)), *chance.choice(list(places(made[path]))))
        within = made
        for key in where[:-1]:
            within = within[key]
        within[where[-1]] = copy.deepcopy(chance.choice(ODD))
    return {**answers, **made}


@pytest.mark.parametrize(
    ("driver", "profile", "answers", "handle"),
    [
        ("redfish", REDFISH, RACK, "/redfish/v1/Tasks/1"),
        ("http", "sundholm-berth", BERTH, "/jobs/1"),
    ],
    ids=["redfish", "http"],
)
def test_whatever_a_device_answers_is_read_or_refused(driver, profile, answers, handle, tmp_path):
    text = profile if "\n" in profile else (load_text(profile))
    now: dict = {}

    async def answer(request: web.Request) -> web.StreamResponse:
        body = now.get(request.path)
        if callable(body):
            return await body(request)
        if request.path not in now:
            return web.json_response({}, status=404)
        return web.Response(text=json.dumps(body), content_type="application/json")

    class Any(dict):
        def get(self, key, default=None):
            return answer

    async def go() -> int:
        read = 0
        async with web_device(Any(), driver=driver, profile=text) as (device, _):
            device.tools.refusals.stop()  # each answer is another device's
            for seed in range(250):
                now.clear()
                now.update(changed(answers, random.Random(seed)) if seed else answers)
                device._sessions.clear()
                soon = device.clock.real() + 5
                for work in (
                    device.read("n"),
                    device.job("n", handle),
                    device.act("n", Act(kind="restart", reason="r"), send_by=soon),
                ):
                    try:
                        await work
                        read += 1
                    except GallantError:
                        continue
        return read

    assert asyncio.run(go()) > 250  # most of it is understood all the same


def load_text(name: str) -> str:
    from pathlib import Path

    import gallant.drivers

    assert load_profile(name, Path())
    return (Path(gallant.drivers.__file__).parent / "profiles" / f"{name}.yaml").read_text()
