"""A Redfish service (DSP0266) in front of a server, and an older one that knows less.

`modern`: sessions, $expand, ETags, multipart push, tasks. `old`: basic authentication alone, no $expand, no tasks
service, properties left out and one spelled in another case.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import hashlib
import secrets
import ssl
from collections.abc import Callable, Mapping
from datetime import timedelta

import msgspec
from aiohttp import web

from gallant.core.records import rfc3339
from gallant.standin.listening import WebServer
from gallant.standin.quernix import FirmwareTask, Server

ROOT = "/redfish/v1"
PAGE = 10

BIOS_SETTINGS: dict[str, object] = {
    "StartsFrom": "network",
    "DriveSets": "on",
    "TwoThreads": "on",
    "ClockBoost": "on",
    "CoresLeftOut": 0,
    "FansRun": "even",
    "FrontSockets": "open",
    "DeskNumber": "",
}


class RedfishServer(WebServer):
    """The service of one server. Its place is `address:port`; `refresh` brings the world to now."""

    def __init__(
        self,
        server: Server,
        address: str,
        port: int,
        context: ssl.SSLContext,
        accounts: Mapping[str, str],
        refresh: Callable[[], None],
        old: bool = False,
    ) -> None:
        super().__init__(address, port, context)
        self.server, self.accounts, self.refresh, self.old = server, accounts, refresh, old
        self.tokens: dict[str, str] = {}
        self.requests: list[str] = []

    def app(self) -> web.Application:
        """The controller stays up when its server goes down."""
        app = web.Application(client_max_size=256 * 1024 * 1024)
        app.router.add_route("*", "/{tail:.*}", self.handle)
        return app

    # --- requests

    async def handle(self, request: web.Request) -> web.StreamResponse:
        self.refresh()
        self.requests.append(f"{request.method} {request.path_qs}")
        world, name = self.server.world, self.server.name
        if slow := world.fault("slow", name):
            await asyncio.sleep(slow.value)
        path = request.path.rstrip("/")
        if path in ("/redfish", ROOT) and request.method == "GET":
            return self._answer(request, self._root() if path == ROOT else {"v1": f"{ROOT}/"})
        if path == f"{ROOT}/SessionService/Sessions" and request.method == "POST" and not self.old:
            return await self._log_in(request)
        user = self._user(request)
        if user is None:
            return _problem(401, "Base.1.16.NoValidSession", "There is no valid session.", "Log in.")
        if request.method == "GET":
            found = self._resources(request).get(path)
            if found is None:
                return _problem(
                    404, "Base.1.16.ResourceMissingAtURI", f"There is nothing at {path}.", "Look for its link."
                )
            return self._answer(request, found)
        if request.method == "DELETE" and path.startswith(f"{ROOT}/SessionService/Sessions/"):
            self.tokens.pop(request.headers.get("X-Auth-Token", ""), None)
            return web.Response(status=204)
        if not user.endswith("act"):
            return _problem(403, "Base.1.16.InsufficientPrivilege", "The account may not do this.", "Use another.")
        return await self._order(request, path)

    def _user(self, request: web.Request) -> str | None:
        token = request.headers.get("X-Auth-Token")
        if token is not None:
            return self.tokens.get(token)
        kind, _, said = request.headers.get("Authorization", "").partition(" ")
        if kind == "Basic":
            try:
                user, _, secret = base64.b64decode(said).decode().partition(":")
            except (binascii.Error, UnicodeDecodeError):
                return None
            if self.accounts.get(user) == secret and self._lets_in():
                return user
            self.server.world.count(self.server.name, "refused")
            return None
        return None

    def _lets_in(self) -> bool:
        return self.server.world.fault("refuse_login", self.server.name, "login") is None

    async def _log_in(self, request: web.Request) -> web.StreamResponse:
        said = await request.json()
        self.server.world.count(self.server.name, "login")
        if self.accounts.get(said.get("UserName")) != said.get("Password") or not self._lets_in():
            self.server.world.count(self.server.name, "refused")
            return _problem(
                401, "Base.1.16.AuthenticationFailed", "The user or the password is wrong.", "Look at both."
            )
        token = secrets.token_hex(16)
        self.tokens[token] = said["UserName"]
        place = f"{ROOT}/SessionService/Sessions/{len(self.tokens)}"
        return web.json_response({"@odata.id": place}, status=201, headers={"X-Auth-Token": token, "Location": place})

    async def _order(self, request: web.Request, path: str) -> web.StreamResponse:
        task: FirmwareTask | None
        if path == f"{ROOT}/UpdateService/push" and not self.old:
            body = b""
            async for part in await request.multipart():
                data = await part.read(decode=True)  # type: ignore[union-attr]
                if part.name == "UpdateFile":  # type: ignore[union-attr]
                    body = bytes(data)
            task = self.server.push(body)
            if task is None:
                return _problem(
                    400,
                    "Update.1.1.VerificationFailed",
                    "The image is not signed for this model.",
                    "Use the publisher's.",
                )
        elif path == f"{ROOT}/UpdateService/Actions/UpdateService.SimpleUpdate":
            task = self.server.push(await self._pulled(str((await request.json()).get("ImageURI"))))
            if task is None:
                return _problem(400, "Update.1.1.TransferFailed", "The image could not be used.", "Look at ImageURI.")
        elif path == f"{ROOT}/Systems/1/Actions/ComputerSystem.Reset":
            task = self.server.reset((await request.json()).get("ResetType", ""))
            if task is None or self.old:
                return web.Response(status=204)
        else:
            return _problem(405, "Base.1.16.OperationNotAllowed", "That cannot be done here.", "Look at Actions.")
        place = f"{ROOT}/TaskService/Tasks/{task.number}"
        return web.json_response(
            self._task(task), status=202, headers={"Location": f"{place}/monitor", "Retry-After": "5"}
        )

    async def _pulled(self, url: str) -> bytes:
        import aiohttp

        local = aiohttp.TCPConnector(local_addr=(self.address, 0))
        async with aiohttp.ClientSession(connector=local) as session, session.get(url) as response:
            return await response.read() if response.status == 200 else b""

    def _answer(self, request: web.Request, body: dict[str, object]) -> web.StreamResponse:
        raw = msgspec.json.encode(body)
        tag = f'"{hashlib.sha256(raw).hexdigest()[:16]}"'
        headers = {"OData-Version": "4.0"} | ({} if self.old else {"ETag": tag})
        if not self.old and request.headers.get("If-None-Match") == tag:
            return web.Response(status=304, headers=headers)
        status = 202 if request.path.endswith("/monitor") and body.get("TaskState") == "Running" else 200
        return web.Response(body=raw, status=status, content_type="application/json", headers=headers)

    # --- resources

    def _root(self) -> dict[str, object]:
        found: dict[str, object] = {
            "@odata.id": f"{ROOT}/",
            "RedfishVersion": "1.2.0" if self.old else "1.18.0",
            "Systems": _link("Systems"),
            "Chassis": _link("Chassis"),
            "Managers": _link("Managers"),
            "UpdateService": _link("UpdateService"),
        }
        if not self.old:
            found |= {
                "Tasks": _link("TaskService"),
                "Links": {"Sessions": _link("SessionService/Sessions")},
                "ProtocolFeaturesSupported": {"ExpandQuery": {"NoLinks": True, "Levels": True, "MaxLevels": 2}},
            }
        return found

    def _resources(self, request: web.Request) -> dict[str, dict[str, object]]:
        """Every resource there is just now, by its path."""
        expand, skip = "$expand" in request.query, int(request.query.get("$skip", "0"))
        computer, controller, inventory = self._system(), self._manager(), self._inventory()
        collections = {
            "Systems": _collection("Systems", [computer], expand, 0),
            "Chassis": _collection("Chassis", [{"@odata.id": f"{ROOT}/Chassis/1"}], False, 0),
            "Managers": _collection("Managers", [controller], expand, 0),
            "UpdateService/FirmwareInventory": _collection("UpdateService/FirmwareInventory", inventory, expand, skip),
        }
        found: dict[str, dict[str, object]] = {
            **{f"{ROOT}/{path}": collection for path, collection in collections.items()},
            f"{ROOT}/Systems/1": computer,
            f"{ROOT}/Systems/1/Bios": self._bios(),
            f"{ROOT}/Chassis/1": self._chassis(),
            f"{ROOT}/Managers/1": controller,
            f"{ROOT}/UpdateService": self._update_service(),
            **{str(row["@odata.id"]): row for row in inventory},
            **self._pieces(),
            **({} if self.old else self._around(expand)),
        }
        if not self.old:
            tasks = [self._task(task) for task in self.server.tasks[-20:]]
            found |= {
                f"{ROOT}/TaskService": {"@odata.id": f"{ROOT}/TaskService", "Tasks": _link("TaskService/Tasks")},
                f"{ROOT}/TaskService/Tasks": _collection("TaskService/Tasks", tasks, expand, 0),
                **{str(row["@odata.id"]): row for row in tasks},
                **{f"{row['@odata.id']}/monitor": row for row in tasks},
            }
        return found

    def _chassis(self) -> dict[str, object]:
        more = {} if self.old else {"Power": _link("Chassis/1/Power"), "Thermal": _link("Chassis/1/Thermal")}
        return {"@odata.id": f"{ROOT}/Chassis/1", "Id": "1", "Status": self._status(), **more}

    def _unwell(self, what: str) -> bool:
        return self.server.world.fault("unwell", self.server.name, what) is not None

    def _around(self, expand: bool) -> dict[str, dict[str, object]]:
        """Links, drives, power, fans, temperatures, and the event log."""

        def health(what: str) -> dict[str, str]:
            return {"State": "Enabled", "Health": "Critical" if self._unwell(what) else "OK"}

        store = "Systems/1/Storage/1"
        links: list[dict[str, object]] = [
            {
                "@odata.id": f"{ROOT}/Systems/1/EthernetInterfaces/{n}",
                "Id": f"port-{n}",
                "LinkStatus": "LinkDown" if self._unwell(f"port-{n}") else "LinkUp",
                "SpeedMbps": 10_000 if self._unwell(f"speed-{n}") else 25_000,
            }
            for n in (1, 2)
        ]
        drives = [row for place, row in self._pieces().items() if "/Drives/" in place]
        storage: dict[str, object] = {
            "@odata.id": f"{ROOT}/{store}",
            "Id": "1",
            "Drives": [{"@odata.id": row["@odata.id"]} for row in drives],
        }
        log = "Managers/1/LogServices/events"
        entries: list[dict[str, object]] = [
            {
                "@odata.id": f"{ROOT}/{log}/Entries/1",
                "Id": "1",
                "Severity": "OK",
                "Created": rfc3339(self.server.started_at),
                "Message": "The server was started.",
            },
        ]
        if self._unwell("event"):
            said = {"Severity": "Critical", "Message": "A memory module in slot 7 was left out."}
            entries.append({**entries[0], **said, "@odata.id": f"{ROOT}/{log}/Entries/2", "Id": "2"})
        power: dict[str, object] = {
            "@odata.id": f"{ROOT}/Chassis/1/Power",
            "PowerSupplies": [{"MemberId": f"psu-{n}", "Status": health(f"psu-{n}")} for n in (1, 2)],
        }
        thermal: dict[str, object] = {
            "@odata.id": f"{ROOT}/Chassis/1/Thermal",
            "Fans": [{"MemberId": f"fan-{n}", "Status": health(f"fan-{n}")} for n in (1, 2, 3)],
            "Temperatures": [{"MemberId": "inlet", "ReadingCelsius": 24, "Status": health("inlet")}],
        }
        collections: dict[str, list[dict[str, object]]] = {
            "Systems/1/EthernetInterfaces": links,
            "Systems/1/Storage": [storage],
            "Managers/1/LogServices": [
                {"@odata.id": f"{ROOT}/{log}", "Id": "events", "Entries": _link(f"{log}/Entries")}
            ],
            f"{log}/Entries": entries,
        }
        made = {f"{ROOT}/{path}": _collection(path, rows, expand, 0) for path, rows in collections.items()}
        single = [*links, storage, *collections["Managers/1/LogServices"], *entries, power, thermal]
        return made | {str(row["@odata.id"]): row for row in single}

    def _status(self) -> dict[str, str]:
        return {"State": "Enabled", "Health": self.server.health}

    def _system(self) -> dict[str, object]:
        server = self.server
        swapped = server.world.fault("swapped_machine", server.name)
        system: dict[str, object] = {
            "@odata.id": f"{ROOT}/Systems/1",
            "Id": "1",
            "SerialNumber": "Q4-0000-XX" if swapped else server.serial,
            "Model": "Q4",
            "PartNumber": "Q4-2U-24",
            "BiosVersion": server.running.get("bios"),
            "PowerState": server.power,
            "MemorySummary": {"TotalSystemMemoryGiB": 512},
            "Bios": _link("Systems/1/Bios"),
            "EthernetInterfaces": _link("Systems/1/EthernetInterfaces"),
            "Storage": _link("Systems/1/Storage"),
            "ProcessorSummary": {"Count": 2},
            "LastResetTime": rfc3339(server.started_at),
            "Status": self._status(),
            "Actions": {
                "#ComputerSystem.Reset": {
                    "target": f"{ROOT}/Systems/1/Actions/ComputerSystem.Reset",
                    "ResetType@Redfish.AllowableValues": ["On", "ForceOff", "ForceRestart"],
                }
            },
        }
        if self.old:
            system["serialNumber"] = system.pop("SerialNumber")
            for name in ("PartNumber", "MemorySummary", "Status", "EthernetInterfaces", "Storage", "ProcessorSummary"):
                del system[name]
        return system

    def _bios(self) -> dict[str, object]:
        return {
            "@odata.id": f"{ROOT}/Systems/1/Bios",
            "Id": "Bios",
            "AttributeRegistry": "Q4Bios.1",
            "Attributes": BIOS_SETTINGS | {"OwnNumber": self.server.serial},
        }

    def _manager(self) -> dict[str, object]:
        server = self.server
        moment = server.world.moment
        if (off := server.world.fault("clock_off", server.name)) is not None:
            moment += timedelta(seconds=off.value)
        return {
            "@odata.id": f"{ROOT}/Managers/1",
            "Id": "1",
            "FirmwareVersion": server.running.get("controller"),
            "DateTime": rfc3339(moment),
            "Status": self._status(),
            **({} if self.old else {"LogServices": _link("Managers/1/LogServices")}),
        }

    def _inventory(self) -> list[dict[str, object]]:
        rows = []
        for name, version in self.server.running.items():
            row: dict[str, object] = {
                "@odata.id": f"{ROOT}/UpdateService/FirmwareInventory/{name}",
                "Id": name,
                "Name": name,
                "Version": version,
                "Updateable": True,
            }
            if not self.old and (place := _place_of(name)) is not None:
                row["RelatedItem"] = [{"@odata.id": place}]
            rows.append(row)
        return rows

    def _pieces(self) -> dict[str, dict[str, object]]:
        """The pieces of hardware that a firmware is on, each with its own serial."""
        found: dict[str, dict[str, object]] = {}
        for name in () if self.old else self.server.running:
            if (place := _place_of(name)) is not None:
                kind, _, number = name.partition("_")
                found[place] = {
                    "@odata.id": place,
                    "Id": number,
                    "SerialNumber": f"{self.server.serial}-{kind[0].upper()}{number}",
                    "Status": {"State": "Enabled", "Health": "Critical" if self._unwell(name) else "OK"},
                    **PIECES[kind],
                }
        return found

    def _update_service(self) -> dict[str, object]:
        update: dict[str, object] = {
            "@odata.id": f"{ROOT}/UpdateService",
            "FirmwareInventory": _link("UpdateService/FirmwareInventory"),
            "Actions": {
                "#UpdateService.SimpleUpdate": {"target": f"{ROOT}/UpdateService/Actions/UpdateService.SimpleUpdate"}
            },
        }
        if not self.old:
            update["MultipartHttpPushUri"] = f"{ROOT}/UpdateService/push"
            update["@Redfish.OperationApplyTimeSupport"] = {"SupportedValues": ["OnReset", "Immediate"]}
        return update

    def _task(self, task: FirmwareTask) -> dict[str, object]:
        place = f"{ROOT}/TaskService/Tasks/{task.number}"
        return {
            "@odata.id": place,
            "Id": str(task.number),
            "Name": task.what,
            "TaskState": task.state,
            "TaskStatus": "OK" if task.state in ("Running", "Completed") else "Critical",
            "PercentComplete": task.percent(self.server.world.now),
            "TaskMonitor": f"{place}/monitor",
            "Messages": [{"Message": task.text}],
        }


# What stands beside the serial of a piece, and where pieces of its kind are found.
PIECES = {
    "card": {"Model": "N25", "PartNumber": "N25-2P"},
    "drive": {"Model": "D3 1920", "PartNumber": "D3-1920-S"},
}
PLACES = {"card": f"{ROOT}/Chassis/1/NetworkAdapters", "drive": f"{ROOT}/Systems/1/Storage/1/Drives"}


def _place_of(name: str) -> str | None:
    kind, _, number = name.partition("_")
    return f"{PLACES[kind]}/{number}" if kind in PLACES and number else None


def _link(path: str) -> dict[str, str]:
    return {"@odata.id": f"{ROOT}/{path}"}


def _collection(path: str, rows: list[dict[str, object]], expand: bool, skip: int) -> dict[str, object]:
    """A collection; one that is not expanded comes in pages."""
    part = rows if expand else rows[skip : skip + PAGE]
    found: dict[str, object] = {
        "@odata.id": f"{ROOT}/{path}",
        "Members@odata.count": len(rows),
        "Members": part if expand else [{"@odata.id": row["@odata.id"]} for row in part],
    }
    if not expand and skip + PAGE < len(rows):
        found["Members@odata.nextLink"] = f"{ROOT}/{path}?$skip={skip + PAGE}"
    return found


def _problem(status: int, key: str, message: str, todo: str) -> web.Response:
    info = {"MessageId": key, "Message": message, "Resolution": todo, "Severity": "Critical"}
    body = {
        "error": {
            "code": "Base.1.16.GeneralError",
            "message": "See the extended information.",
            "@Message.ExtendedInfo": [info],
        }
    }
    return web.json_response(body, status=status)
