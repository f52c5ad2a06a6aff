"""The `redfish` driver: servers and enclosures that speak DMTF's Redfish (DSP0266 1.15 and the schema bundle DSP8010).

Nothing but the service root's path is taken for granted: every other resource is found by its link. A service that has
no sessions, leaves properties out or spells them in another case is understood all the same, and the reading says so.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Mapping, Sequence
from functools import lru_cache

from gallant.core.errors import GallantError
from gallant.core.estate.order import SHAPES
from gallant.core.estate.systems import System
from gallant.core.ports import Act, AnswerLost, DeviceRefused, LoginRefused, NotReached, Progress
from gallant.core.readings import SPEED, Component, Reading
from gallant.core.records import clean, replace
from gallant.drivers.answers import Ours, as_record, merge, named
from gallant.drivers.base import READ_TRIES, RETRY_PAUSE_S
from gallant.drivers.calls import Delete, Get, Post, Request
from gallant.drivers.http import MOST_PAGES, HttpDriver, basic, getting, own_path, parsed_json
from gallant.drivers.profile import PartRule, Profile, rule_for
from gallant.drivers.redfish_settings import settings
from gallant.drivers.tools import Acts, Asked, Exports, Fields, Reads, Tools
from gallant.drivers.xml import MOST_ROWS

ROOT = "/redfish/v1/"
# DSP0266, 13.2: how a session's token is carried.
TOKEN = "X-Auth-Token"
MEMBERS_AT_ONCE = 8
MOST_SYSTEMS = 64
# TaskService, Task v1_7: TaskState → our word; a state that is not here is `unknown`.
TASK_STATES = {
    "New": "running",
    "Starting": "running",
    "Running": "running",
    "Suspended": "running",
    "Pending": "running",
    "Stopping": "running",
    "Service": "running",
    "Cancelling": "running",
    "Completed": "done",
    "Interrupted": "failed",
    "Killed": "failed",
    "Exception": "failed",
    "Cancelled": "failed",
}
HEALTH = {"OK": None, "Warning": "warn", "Critical": "stop"}
# Resource v1_16: Status.State in which a resource does its work.
AT_WORK = ("Enabled", "StandbySpare", "Qualified", "Updating")
# What the Id or Name of a SoftwareInventory member tells of its kind; a profile's `parts` knows better.
KINDS = (
    (("bios", "uefi"), "BIOS"),
    (("bmc", "manager", "controllerfw", "management"), "management controller"),
    (("nic", "network", "ethernet", "adapter", "lom"), "NIC"),
    (("disk", "drive", "ssd", "nvme", "hdd"), "disk"),
    (("psu", "power", "fan", "backplane", "enclosure", "cpld", "expander"), "enclosure module"),
)
# ComputerSystem v1_20, Reset: the gentlest first.
# Resources behind the login that every service has one of; the least of work to answer first.
GUARDED = ("Managers", "Chassis", "Systems")
RESTARTS = ("GracefulRestart", "ForceRestart", "PowerCycle")
INVENTORY_FIELDS = (
    "@odata.id",
    "id",
    "name",
    "version",
    "members@odata.nextlink",
    "@odata.nextlink",
    "relateditem",
    "serialnumber",
    "model",
    "partnumber",
    "sku",
)
HARDWARE = {"serial": ("SerialNumber",), "model": ("Model",), "part_number": ("PartNumber", "SKU")}
MOST_RELATED = 128  # pieces of hardware of one node that are asked who they are
# EthernetInterface v1_12: LinkStatus → our word.
LINKS = {"LinkUp": "up", "LinkDown": "down", "NoLink": "down"}
# What feeds and cools, where a chassis has it in subsystems
# (DSP0268): its kind, the subsystem and the collection there.
NEWER = (("power supply", "PowerSubsystem", "PowerSupplies"), ("fan", "ThermalSubsystem", "Fans"))
MOST_LOGS, MOST_ENTRIES = 4, 50  # of one node that are read closely
APPLY_TIMES = ("OnReset", "AtMaintenanceWindowStart", "Immediate")


class RedfishDriver(HttpDriver):
    """One system's nodes, each a Redfish service of its own."""

    own_parts = ("management controller", "BIOS", "NIC", "disk", "enclosure module")

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        super().__init__(system, profile, tools)
        self._roots: dict[str, asyncio.Task[dict[str, object]]] = {}
        self._got: dict[str, dict[str, asyncio.Task[dict[str, object]]]] = {}
        self._done: dict[str, dict[str, dict[str, object]]] = {}
        self._odd: dict[str, list[str]] = {}
        self._logouts: dict[tuple[str, str], str] = {}
        self._can_hand_over: set[str] = set()
        self._systems: dict[str, str] = {}  # of several behind one service, a node's own

    # --- resources

    def get(self, thing: object, node: str, *names: str) -> object:
        """A property by the first of its `names` that is there; one in another case is taken and told of."""
        if not isinstance(thing, dict):
            return None
        if names[0] in thing:
            return thing[names[0]]
        for name in names[1:]:
            if name in thing:
                return thing[name]
        lower = _lower(tuple(thing))
        for name in names:
            if (key := lower.get(name.lower())) is not None:
                self._note(node, f"spells {name} as {clean(key, 60)}")
                return thing[key]
        return None

    def rows(self, thing: object, node: str, *names: str) -> list[dict[str, object]]:
        """The objects of a list; none where the service has something else in its place."""
        found = self.get(thing, node, *names)
        if found is not None and not isinstance(found, list):
            self._note(node, f"has no list as its {names[0]}")
        return [row for row in found if isinstance(row, dict)] if isinstance(found, list) else []

    def words(self, thing: object, node: str, *names: str) -> list[str]:
        """The texts of a list."""
        found = self.get(thing, node, *names)
        return [word for word in found if isinstance(word, str)] if isinstance(found, list) else []

    def _note(self, node: str, oddity: str) -> None:
        noted = self._odd.setdefault(node, [])
        if oddity not in noted:
            noted.append(oddity)

    async def _root(self, node: str) -> dict[str, object]:
        """The service root, which needs no login (DSP0266, 6.3); fetched once, however many ask."""
        if node not in self._roots:
            self._roots[node] = asyncio.ensure_future(self._fetch_root(node))
        root = self._roots[node]
        try:
            return root.result() if root.done() else await asyncio.shield(root)
        except GallantError:
            self._roots.pop(node, None)
            raise

    async def _fetch_root(self, node: str) -> dict[str, object]:
        async with await self._request(node, Asked(Get(get=ROOT)), {"OData-Version": "4.0"}) as response:
            if response.status >= 300:
                raise await self._judged(node, response)
            return self._json(node, await self._bounded(node, response))

    def _json(self, node: str, raw: bytes) -> dict[str, object]:
        try:
            found = parsed_json(raw)
        except (ValueError, RecursionError) as error:
            raise DeviceRefused(
                f"{self.name_of(node)} answers with something that is not JSON: {clean(str(error), 80)}.",
                meaning="fatal",
            ) from None
        if not isinstance(found, dict):
            raise DeviceRefused(f"{self.name_of(node)} answers with JSON that is not an object.", meaning="fatal")
        return found

    async def _fetch(self, node: str, path: str, lasting: bool = False) -> dict[str, object]:
        """A resource, fetched once a reading, however many ask for it; a `lasting` one only where it has changed."""
        if self.tools.one_by_one:
            done = self._done.setdefault(node, {})
            if path not in done:
                done[path] = await self._fetched(node, path, lasting)
            return done[path]
        got = self._got.setdefault(node, {})
        if path not in got:
            got[path] = asyncio.ensure_future(self._fetched(node, path, lasting))
        return await got[path]

    async def _fetched(self, node: str, path: str, lasting: bool) -> dict[str, object]:
        for attempt in range(READ_TRIES):
            try:
                return await self._conditional(node, path, lasting)
            except AnswerLost:
                if attempt == READ_TRIES - 1:
                    raise
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    async def _conditional(self, node: str, path: str, lasting: bool) -> dict[str, object]:
        """A resource; as it was before where the service says that it has not changed (RFC 9110, 13.1.2).

        Only the inventory is asked for so: the tag of a system or a manager may leave out its clock and its power.
        """
        memory, name = self.tools.memory if lasting else None, self.name_of(node)
        known = memory.recall(name, path) if memory is not None else None
        call = getting(path)
        tagged = replace(call, headers={"If-None-Match": known[0]}) if known else call
        whole = await self._whole(node, Asked(tagged))
        if whole.status == 304 and known is not None:
            return known[1]
        found = self._json(node, whole.raw)
        if memory is not None and (tag := whole.headers.get("ETag")):
            memory.remember(name, path, tag, _slim(found))
        if self.tools.told is not None:
            self._tell(node, Asked(call), found, {})
        return found

    def link(self, thing: object, node: str, *names: str) -> str | None:
        """Where a property links to, if it stays on this service."""
        found = self.get(self.get(thing, node, *names), node, "@odata.id")
        if not isinstance(found, str):
            return None
        return self._followed(node, found)

    def _followed(self, node: str, link: str) -> str | None:
        """The path of a link that a reading may follow; one that leads elsewhere is left out and told of."""
        path = own_path(link, self.system.nodes[node].address)
        if path is None:
            self._note(node, f"links to another place ({clean(link, 60)}), which is not followed")
        return path

    async def _members(
        self, node: str, path: str | None, most: int = 0, lasting: bool = False
    ) -> list[dict[str, object]]:
        """A collection's members: expanded by the service where it can, else one by one (DSP0266, 7.3)."""
        if path is None:
            return []
        query = await self._expand(node) if not most else ""
        query = query and ("&" if "?" in path else "?") + query
        found: list[dict[str, object]] = []
        following: str | None = path + query
        seen: set[str] = set()
        while following is not None and following not in seen and len(seen) < MOST_PAGES:
            seen.add(following)
            page = await self._optional(node, following, lasting)
            if not page and query and following == path + query:
                following, query = path, ""
                continue
            rows = self.rows(page, node, "Members")
            rows = rows[:most] if most else rows
            if len(found) + len(rows) > MOST_ROWS:
                raise self._too_many(node, "members of one collection")
            found += await self._members_of(node, rows, lasting)
            link = self.get(page, node, "Members@odata.nextLink", "@odata.nextLink")
            following = self._followed(node, link) if isinstance(link, str) and not most else None
        return found

    async def _expand(self, node: str) -> str:
        """The query by which the service expands a collection (DSP0266, 7.3.1); empty where it does not."""
        root = await self._root(node)
        can = self.get(self.get(root, node, "ProtocolFeaturesSupported"), node, "ExpandQuery")
        if not isinstance(can, dict) or not (can.get("NoLinks") or can.get("ExpandAll")):
            return ""
        return f"$expand={'.' if can.get('NoLinks') else '*'}" + ("($levels=1)" if can.get("Levels") else "")

    async def _optional(self, node: str, path: str, lasting: bool = False) -> dict[str, object]:
        """A resource that a service may link to and not have; nothing then, and a note."""
        try:
            found = await self._fetch(node, path, lasting)
        except DeviceRefused as error:
            if error.meaning in ("auth", "fatal"):
                raise
            resource, _, query = path.partition("?")
            shown = clean(resource, 80)
            self._note(node, f"refuses $expand at {shown}" if query else f"links to {shown} and does not give it")
            return {}
        return found if isinstance(found, dict) else {}

    async def _members_of(self, node: str, rows: list[dict[str, object]], lasting: bool) -> list[dict[str, object]]:
        """Members as they are, those that are links alone fetched; one that is not to be had is left out and told
        of."""
        if all(len(row) > 1 for row in rows):
            return rows
        gate = asyncio.Semaphore(MEMBERS_AT_ONCE)

        async def one(row: dict[str, object]) -> dict[str, object] | None:
            link = self.get(row, node, "@odata.id")
            if len(row) > 1 or not isinstance(link, str):
                return row
            if (path := self._followed(node, link)) is None:
                return None
            async with gate:
                try:
                    found: dict[str, object] = await self._fetch(node, path, lasting)
                    return found
                except DeviceRefused:
                    self._note(node, f"lists {clean(path, 80)} and does not give it")
                    return None

        return [row for row in await self.side_by_side([one(row) for row in rows]) if row is not None]

    async def _first(self, node: str, name: str) -> dict[str, object]:
        """The first member of one of the root's collections; empty where the service has none."""
        found = await self._members(node, self.link(await self._root(node), node, name), most=1)
        return found[0] if found else {}

    async def _own_system(self, node: str) -> dict[str, object]:
        """The system that the node is: of several behind one service, the one with the serial that the estate names."""
        path = self.link(await self._root(node), node, "Systems")
        page = await self._optional(node, path) if path is not None else {}
        rows = self.rows(page, node, "Members")
        if len(rows) < 2:
            found = await self._members_of(node, rows, False)
            return found[0] if found else {}
        wanted = self.system.nodes[node].serial
        every = await self._members_of(node, rows[:MOST_SYSTEMS], False)
        mine = next(
            (s for s in every if wanted in (self.get(s, node, "SerialNumber"), self.get(s, node, "UUID"))), None
        )
        if mine is None:
            which = f"none of them with the serial {clean(wanted, 60)}" if wanted else "and the estate names no serial"
            self._note(node, f"has {len(rows)} systems, {which}; the first is taken")
            mine = every[0] if every else {}
        if isinstance(link := self.get(mine, node, "@odata.id"), str):
            self._systems[node] = link
        return mine

    # --- reads

    async def read(self, node: str, closely: bool = False) -> Reading:
        self._got[node], self._odd[node] = {}, []
        self._roots.pop(node, None)
        try:
            return await super().read(node, closely)
        finally:
            self._done.pop(node, None)
            for task in self._got.pop(node, {}).values():
                task.cancel()

    def _own_reads(self) -> Reads:
        return {"about": self._about, "parts": self._parts, "jobs": self._jobs}

    async def _about(self, node: str) -> Fields:
        root = await self._root(node)
        system, chassis = await self.side_by_side([self._own_system(node), self._first(node, "Chassis")])
        before = self.clock.now()
        manager = await self._first(node, "Managers")
        found: Fields = {"components": []}
        for key, names in (
            ("serial", ("SerialNumber", "UUID")),
            ("model", ("Model",)),
            ("part_number", ("PartNumber", "SKU")),
        ):
            for thing in (system, chassis, root if key == "serial" else {}):
                said = next((v for n in names if isinstance(v := self.get(thing, node, n), str) and v.strip()), None)
                if said is not None:
                    found[key] = said
                    break
        version = self.get(system, node, "BiosVersion") or self.get(manager, node, "FirmwareVersion")
        found["version"] = version
        boot = (
            self.get(system, node, "LastResetTime")
            or self.get(self.get(system, node, "BootProgress"), node, "LastStateTime")
            or self.get(manager, node, "LastResetTime")
        )
        if boot is None:
            self._note(node, "does not say when it was last started; a restart cannot be seen by it")
        found["boot"] = str(boot or "not told")
        found["state"] = Ours(self._state(node, system))
        found["role"] = Ours(SHAPES[self.system.shape].plain_role)
        found |= self._heard({"clock": clock}, before) if (clock := self.get(manager, node, "DateTime")) else {}
        found["facets"], found["alarms"] = self._health(
            node, (("system", system), ("chassis", chassis), ("manager", manager))
        )
        memory = self.get(self.get(system, node, "MemorySummary"), node, "TotalSystemMemoryGiB")
        if isinstance(memory, (int, float)):
            found["gauges"] = [{"name": "memory", "value": float(memory), "unit": "GiB"}]
        if self.get(self.get(manager, node, "Actions"), node, "#Manager.ForceFailover") is not None:
            self._can_hand_over.add(node)
        await self._inventory(node)  # so that everything odd was seen
        found["oddities"] = list(self._odd.get(node, ()))
        return found

    def _state(self, node: str, system: object) -> str:
        power = self.get(system, node, "PowerState")
        state = self.get(self.get(system, node, "Status"), node, "State")
        if power is None and state is None:
            return "unknown"
        return "in_service" if power in (None, "On") and state in (None, *AT_WORK) else "out_of_service"

    def _health(self, node: str, things: Sequence[tuple[str, object]]) -> tuple[list[Fields], list[Fields]]:
        facets: list[Fields] = []
        alarms: list[Fields] = []
        for name, thing in things:
            status = self.get(thing, node, "Status")
            health = self.get(status, node, "HealthRollup") or self.get(status, node, "Health")
            if not isinstance(health, str):
                continue
            facets.append({"name": f"{name} health", "state": health})
            said: list[Fields] = [
                {"text": text, "level": HEALTH.get(str(self.get(c, node, "Severity"))) or "note"}
                for c in self.rows(status, node, "Conditions")
                if isinstance(text := self.get(c, node, "Message"), str)
            ]
            if HEALTH.get(health, "unknown") is not None:
                alarms += said or [{"text": f"the {name} says {health}", "level": HEALTH.get(health) or "unknown"}]
        return facets, alarms

    # --- what is only compared

    async def _own_closely(self, node: str) -> Fields:
        """Links, drives, power, fans, temperatures and memory by their own health,
        and the newest entries of the event logs that are worth a look."""
        system, chassis, manager = await self.side_by_side(
            [self._own_system(node), self._first(node, "Chassis"), self._first(node, "Managers")]
        )
        parts = await self.side_by_side(
            [
                self._interfaces(node, system),
                self._drives(node, system),
                self._supplies(node, chassis),
                self._logged(node, system),
                self._logged(node, manager),
            ]
        )
        fields: Fields = {}
        for part in parts:
            merge(fields, part)
        cores = self.get(self.get(system, node, "ProcessorSummary"), node, "Count")
        if isinstance(cores, (int, float)):
            merge(fields, {"gauges": [{"name": "processors", "value": float(cores), "unit": ""}]})
        return fields

    async def _interfaces(self, node: str, system: object) -> Fields:
        """EthernetInterface v1_12: LinkStatus, and the speed of a link that is up."""
        rows = await self._members(node, self.link(system, node, "EthernetInterfaces"))
        facets, gauges = list[Fields](), list[Fields]()
        for row in rows:
            name, link = self._called(node, row), self.get(row, node, "LinkStatus")
            if self.get(row, node, "InterfaceEnabled") is False:
                facets.append({"name": f"link {name}", "state": "disabled"})
            elif isinstance(link, str):
                facets.append({"name": f"link {name}", "state": LINKS.get(link, link.lower())})
                speed = self.get(row, node, "SpeedMbps")
                if LINKS.get(link) == "up" and isinstance(speed, (int, float)):
                    gauges.append({"name": f"{SPEED} link {name}", "value": float(speed), "unit": "Mbit/s"})
        return {"facets": facets, "gauges": gauges}

    async def _drives(self, node: str, system: object) -> Fields:
        """Drive v1_20 of every Storage of the system: each by its own health."""
        stores = await self._members(node, self.link(system, node, "Storage"))
        links = [row for store in stores for row in self.rows(store, node, "Drives")][:MOST_RELATED]
        drives = await self._members_of(node, links, False)
        return {"facets": [f for row in drives if (f := self._piece(node, "drive", row)) is not None]}

    async def _supplies(self, node: str, chassis: object) -> Fields:
        """What feeds and cools: in the older form (Power, Thermal) or the newer
        (PowerSubsystem, ThermalSubsystem), whichever the service has."""
        power, thermal = await self.side_by_side([self._held(node, chassis, name) for name in ("Power", "Thermal")])
        rows = [("power supply", row) for row in self.rows(power, node, "PowerSupplies")]
        rows += [("fan", row) for row in self.rows(thermal, node, "Fans")]
        rows += [("temperature", row) for row in self.rows(thermal, node, "Temperatures")]
        for kind, subsystem, name in NEWER if not rows else ():
            held = await self._held(node, chassis, subsystem)
            rows += [(kind, row) for row in await self._members(node, self.link(held, node, name))]
        return {"facets": [f for kind, row in rows if (f := self._piece(node, kind, row)) is not None]}

    async def _held(self, node: str, thing: object, name: str) -> dict[str, object]:
        path = self.link(thing, node, name)
        return {} if path is None else await self._optional(node, path)

    async def _logged(self, node: str, thing: object) -> Fields:
        """LogEntry v1_17 of every log of a system or its manager: what is a warning or worse."""
        logs = await self._members(node, self.link(thing, node, "LogServices"))
        found = list[Fields]()
        for log in logs[:MOST_LOGS]:
            entries = await self._members(node, self.link(log, node, "Entries"))
            for row in entries[-MOST_ENTRIES:]:
                level = HEALTH.get(str(self.get(row, node, "Severity")))
                text = self.get(row, node, "Message")
                if level is not None and isinstance(text, str):
                    found.append({"text": text, "level": level, "at": str(self.get(row, node, "Created") or "")})
        return {"log": found}

    def _piece(self, node: str, kind: str, row: object) -> Fields | None:
        """A thing with a health of its own; None for an empty place, or one that says nothing of itself."""
        status = self.get(row, node, "Status")
        health, state = self.get(status, node, "Health"), self.get(status, node, "State")
        if state == "Absent" or not isinstance(health or state, str):
            return None
        return {"name": f"{kind} {self._called(node, row)}", "state": str(health or state).lower()}

    def _called(self, node: str, row: object) -> str:
        return clean(str(self.get(row, node, "Name") or self.get(row, node, "Id", "MemberId") or "unnamed"), 60)

    async def _parts(self, node: str) -> Fields:
        rows = await self._inventory(node)
        hardware = await self._hardware(node, rows)
        found: Fields = {}
        parts = []
        for row in rows:
            version = row.get("Version") or self.get(row, node, "Version")
            key = row.get("Id") or self.get(row, node, "Id", "Name")
            if not isinstance(version, str) or not version.strip() or not isinstance(key, str):
                continue  # an empty slot of the inventory
            rule = rule_for(self.profile.parts, key)
            if rule is not None and rule.image:
                found["version"] = version
            else:
                part = _firmware(self.profile.parts, self.system.product, key, version, str(row.get("Name")))
                piece = hardware.get(key)
                parts.append(replace(part, **piece) if part is not None and piece else part)
        return {**found, "components": parts}

    async def _hardware(self, node: str, rows: Sequence[dict[str, object]]) -> dict[str, dict[str, str]]:
        """By the name of a firmware: what the piece that it is on says of
        itself, where the inventory leads there (RelatedItem)."""
        gate, found = asyncio.Semaphore(MEMBERS_AT_ONCE), dict[str, dict[str, str]]()
        led = [(row, link) for row in rows if (link := self._related(node, row)) is not None][:MOST_RELATED]

        async def one(row: dict[str, object], link: str) -> None:
            async with gate:
                piece = await self._optional(node, link, lasting=True)
            said = {
                field: clean(text, 80)
                for field, names in HARDWARE.items()
                if isinstance(text := self.get(piece, node, *names), str) and text.strip()
            }
            if "serial" in said:
                found[str(row.get("Id") or self.get(row, node, "Id", "Name"))] = said

        await self.side_by_side([one(row, link) for row, link in led])
        return found

    def _related(self, node: str, row: dict[str, object]) -> str | None:
        """The one thing that a firmware belongs to; of several none is meant more than the others."""
        rows = self.rows(row, node, "RelatedItem") if self.get(row, node, "RelatedItem") is not None else []
        link = self.get(rows[0], node, "@odata.id") if len(rows) == 1 else None
        return self._followed(node, link) if isinstance(link, str) else None

    async def _inventory(self, node: str) -> list[dict[str, object]]:
        service = await self._update_service(node)
        rows = []
        for name in ("FirmwareInventory", "SoftwareInventory"):
            rows += await self._members(node, self.link(service, node, name), lasting=True)
        return rows

    async def _update_service(self, node: str) -> dict[str, object]:
        path = self.link(await self._root(node), node, "UpdateService")
        return {} if path is None else await self._optional(node, path)

    async def _jobs(self, node: str) -> Fields:
        path = self.link(await self._root(node), node, "Tasks")
        service = {} if path is None else await self._optional(node, path)
        rows = await self._members(node, self.link(service, node, "Tasks"))
        return {"jobs": [self._task(node, row) for row in rows], "tells_work": path is not None}

    def _task(self, node: str, row: Mapping[str, object]) -> Fields:
        state = TASK_STATES.get(str(self.get(row, node, "TaskState")), "unknown")
        if state == "done" and self.get(row, node, "TaskStatus") == "Critical":
            state = "failed"
        messages = [
            text for m in self.rows(row, node, "Messages") if isinstance(text := self.get(m, node, "Message"), str)
        ]
        return {
            "id": self.get(row, node, "@odata.id") or self.get(row, node, "Id"),
            "kind": Ours(_job_kind(str(self.get(row, node, "Name") or ""))),
            "state": Ours(state),
            "percent": 100 if state == "done" else self.get(row, node, "PercentComplete"),
            "message": messages[-1] if messages else self.get(row, node, "Name"),
        }

    async def _own_job(self, node: str, handle: str) -> Fields:
        """A task, or the monitor of one: 202 while it runs, any other answer when it is over (DSP0266, 12.2)."""
        path = self._own_path(node, handle)
        status, raw, *_ = await self._whole(node, Asked(getting(path)))
        body = self._json(node, raw) if raw.strip() else {}
        if self.get(body, node, "TaskState") is not None:
            return {**self._task(node, body), "id": handle}
        return {"state": Ours("running" if status == 202 else "done"), "percent": None if status == 202 else 100}

    # --- acts

    own_orders = {
        "install": (
            "POST to the push address of its UpdateService, or SimpleUpdate, which fetches it from here   with"
            " {package}"
        ),
        "restart": f"POST ComputerSystem.Reset   ResetType {' or '.join(RESTARTS)}, the first that it allows",
        "power": "POST ComputerSystem.Reset   ResetType as the reason says",
        "cancel": "DELETE {reason}",
        "handover": "POST Manager.ForceFailover to the other manager",
    }

    def _own_acts(self) -> Acts:
        acts = {
            "install": self._install,
            "restart": self._restart,
            "power": self._power,
            "cancel": self._cancel,
        }
        if self._can_hand_over:
            acts["handover"] = self._hand_over
        return acts

    async def _install(self, node: str, act: Act, progress: Progress | None) -> Fields:
        """Push the package by the way that the service offers; where it only pulls, let it fetch it from here."""
        service = await self.now(node, await self._path_of(node, "UpdateService"))
        times = self.words(self.get(service, node, "@Redfish.OperationApplyTimeSupport"), node, "SupportedValues")
        apply = next((t for t in APPLY_TIMES if t in times), None)
        timed = {"@Redfish.OperationApplyTime": apply} if apply else {}
        push = self.get(service, node, "MultipartHttpPushUri")
        if isinstance(push, str):
            call = Post(
                post=push,
                upload="package",
                upload_as="multipart",
                part="UpdateFile",
                send={"UpdateParameters": {"Targets": [], **timed}},
            )
            return await self._order(node, call, act, progress)
        push = self.get(service, node, "HttpPushUri")
        if isinstance(push, str):
            return await self._order(node, Post(post=push, upload="package"), act, progress)
        target = self._action(service, node, "#UpdateService.SimpleUpdate")
        if target is None:
            raise DeviceRefused(f"{self.name_of(node)} offers no way to give it a package.", meaning="fatal")
        url = await self._serve(node, act)
        send: dict[str, object] = {"ImageURI": url, "TransferProtocol": url.partition(":")[0].upper(), **timed}
        return await self._order(node, Post(post=target, send=send), act, progress)

    async def _restart(self, node: str, act: Act, progress: Progress | None) -> Fields:
        return await self._reset(node, act, RESTARTS)

    async def _power(self, node: str, act: Act, progress: Progress | None) -> Fields:
        return await self._reset(
            node, act, {"off": ("ForceOff",), "on": ("On", "ForceOn")}.get(act.reason, ("PowerCycle",))
        )

    async def _reset(self, node: str, act: Act, wanted: tuple[str, ...]) -> Fields:
        mine = self._systems.get(node)
        system = await self.now(node, mine if mine is not None else await self._member_path(node, "Systems"))
        action = self.get(self.get(system, node, "Actions"), node, "#ComputerSystem.Reset")
        target = self._action(system, node, "#ComputerSystem.Reset")
        allowed = self.words(action, node, "ResetType@Redfish.AllowableValues")
        info = self.get(action, node, "@Redfish.ActionInfo")
        if not allowed and isinstance(info, str):
            said = await self.now(node, info)
            allowed = next(
                (
                    self.words(p, node, "AllowableValues")
                    for p in self.rows(said, node, "Parameters")
                    if self.get(p, node, "Name") == "ResetType"
                ),
                [],
            )
        kind = next((w for w in wanted if w in (allowed or wanted)), None)
        if target is None or kind is None:
            raise DeviceRefused(f"{self.name_of(node)} allows none of {', '.join(wanted)}.", meaning="fatal")
        return await self._order(node, Post(post=target, send={"ResetType": kind}), act)

    async def _hand_over(self, node: str, act: Act, progress: Progress | None) -> Fields:
        managers = await self._members(node, await self._path_of(node, "Managers"))
        for manager in managers:
            target = self._action(manager, node, "#Manager.ForceFailover")
            other = next((self.get(m, node, "@odata.id") for m in managers if m is not manager), None)
            if target is not None and other is not None:
                return await self._order(node, Post(post=target, send={"NewManager": {"@odata.id": other}}), act)
        raise DeviceRefused(f"{self.name_of(node)} has no second manager to hand over to.", meaning="fatal")

    async def _cancel(self, node: str, act: Act, progress: Progress | None) -> Fields:
        return await self._order(node, Delete(delete=act.reason), act)

    def _action(self, thing: object, node: str, name: str) -> str | None:
        found = self.get(self.get(self.get(thing, node, "Actions"), node, name), node, "target")
        return found if isinstance(found, str) else None

    async def _order(self, node: str, call: Request, act: Act, progress: Progress | None = None) -> Fields:
        """Send one order; the task that it began is known by its link, or by the monitor's place (202 and Location)."""
        status, raw, headers, _ = await self._whole(node, Asked(call, {}, "act", act, progress))
        body: dict[str, object] = {}
        with contextlib.suppress(DeviceRefused):
            body = self._json(node, raw) if raw.strip() else {}
        task = self.get(body, node, "@odata.id") if self.get(body, node, "TaskState") is not None else None
        handle = task or headers.get("Location") if status == 202 or task else None
        return {"handle": handle, "message": self._readable(raw) if body else ""}

    async def _path_of(self, node: str, name: str) -> str:
        path = self.link(await self._root(node), node, name)
        if path is None:
            raise DeviceRefused(f"{self.name_of(node)} has no {name}.", meaning="fatal")
        return path

    async def _member_path(self, node: str, name: str) -> str:
        collection = await self.now(node, await self._path_of(node, name))
        found = [self.get(m, node, "@odata.id") for m in self.rows(collection, node, "Members")]
        if not found or not isinstance(found[0], str):
            raise DeviceRefused(f"{self.name_of(node)} has nothing in its {name}.", meaning="fatal")
        return str(found[0])

    async def now(self, node: str, path: str, purpose: str = "act") -> dict[str, object]:
        """A resource as it is at this moment: for an act that follows, or to be kept."""
        return self._json(node, (await self._whole(node, Asked(getting(path), {}, purpose))).raw)

    def _own_exports(self) -> Exports:
        """The settings by the standard's names, where the profile does not say what a backup is."""

        async def export(node: str) -> AsyncIterator[bytes]:
            yield await settings(self, node)

        return {} if self.profile.exports else {"settings.json": export}

    def exports_each(self, name: str) -> bool:
        return name in self._own_exports() or super().exports_each(name)  # every node is a service of its own

    # --- login

    @property
    def _renew_on(self) -> tuple[int, ...]:
        return (401,)

    async def _log_in(self, node: str, purpose: str) -> dict[str, str]:
        """A session (DSP0266, 13.2.4); where the service has none, the account with every request, and a note."""
        if self.profile.login is not None:
            return await super()._log_in(node, purpose)
        user, secret, _ = self.credential(purpose)
        root = await self._root(node)
        path = self.link(self.get(root, node, "Links"), node, "Sessions")
        if path is None:
            return await self._basic(node, purpose, user, secret)
        call = Post(post=path.replace("{", "%7B"), send={"UserName": "{user}", "Password": "{secret}"})
        whole = await self._said_hello(node, Asked(call, {"user": user, "secret": secret}))
        if whole.status in (404, 405, 501):
            return await self._basic(node, purpose, user, secret)
        self._let_in(node, purpose, user, whole)
        token = whole.headers.get(TOKEN)
        if not token:
            raise self._no_session(node)
        self._secrets.add(token)
        session = own_path(whole.headers.get("Location", ""), self.system.nodes[node].address)
        if session is not None and session != ROOT:
            self._logouts[node, purpose] = session
        return {TOKEN: token}

    async def _basic(self, node: str, purpose: str, user: str, secret: str) -> dict[str, str]:
        """The account with every request (RFC 7617)."""
        self._note(node, "has no sessions: the account goes with every request")
        root = await self._root(node)
        path = next((p for name in GUARDED if (p := self.link(root, node, name)) is not None), None)
        return await self._tried(node, purpose, user, basic(user, secret), path)

    async def _log_out(self, node: str, purpose: str, carried: dict[str, str]) -> None:
        if self.profile.login is not None:
            await super()._log_out(node, purpose, carried)
        elif (path := self._logouts.pop((node, purpose), None)) is not None:
            with contextlib.suppress(GallantError, TimeoutError):
                await self._hang_up(node, Asked(Delete(delete=path.replace("{", "%7B"))), carried)

    # --- words

    def _refusal(self, node: str, text: str, status: int = 0, whole: str | None = None) -> GallantError:
        if not any(rule.applies(status, text) for rule in self.profile.errors):
            if status == 503:
                return NotReached(
                    f"{self.name_of(node)} is busy: {self.said(text, 200) or status}.",
                    next=f"gallant survey {self.name_of(node)}",
                )
            if status in (401, 403):
                return LoginRefused(
                    f"{self.name_of(node)} does not let us do this: {self.said(text, 200) or status}.",
                    next=f"Look at the rights of the account for {self.system.name} in estate.yaml.",
                )
        return super()._refusal(node, text, status, whole)

    def _readable(self, raw: bytes) -> str:
        """An error's messages, each with what the service says to do about it (DSP0266, 8.6)."""
        try:
            body = parsed_json(raw)
        except (ValueError, RecursionError):
            return raw[:400].decode("utf-8", "replace")
        error = body.get("error", body) if isinstance(body, dict) else {}
        if not isinstance(error, dict):
            return ""
        said = []
        infos = error.get("@Message.ExtendedInfo")
        for info in infos if isinstance(infos, list) else ():
            if isinstance(info, dict) and isinstance(text := info.get("Message"), str) and text:
                todo = info.get("Resolution")
                said.append(
                    f"{text} {todo}" if isinstance(todo, str) and todo.lower() not in ("none", "none.") else text
                )
        fallback = error.get("message") or error.get("code")
        return " ".join(dict.fromkeys(said)) or (fallback if isinstance(fallback, str) else "")


def _slim(found: dict[str, object]) -> dict[str, object]:
    """What is used of an inventory or of one of its members; the rest need not be kept."""
    kept = {key: value for key, value in found.items() if key.lower() in INVENTORY_FIELDS}
    rows = next((value for key, value in found.items() if key.lower() == "members"), None)
    if isinstance(rows, list):
        kept["Members"] = [_slim(row) for row in rows if isinstance(row, dict)]
    return kept


@lru_cache(maxsize=4096)
def _lower(keys: tuple[str, ...]) -> dict[str, str]:
    """Names as they are spelled, by themselves in small letters; machines of one model have the same ones."""
    return {key.lower(): key for key in keys}


@lru_cache(maxsize=65536)
def _firmware(rules: tuple[PartRule, ...], product: str, key: str, version: str, name: str) -> Component | None:
    """A firmware of the inventory as a component, made once for the thousands of machines that say the same."""
    part, rule = named(rules, product, key, version)
    found: Component | None = as_record(
        Component, part if rule is not None else {**part, "kind": _kind(f"{key} {name}")}
    )
    return found


def _kind(said: str) -> str:
    words = said.lower().replace(" ", "")
    return next((kind for marks, kind in KINDS if any(mark in words for mark in marks)), "unknown")


def _job_kind(name: str) -> str:
    words = name.lower()
    for mark, kind in (("update", "install"), ("firmware", "install"), ("reset", "restart"), ("restart", "restart")):
        if mark in words:
            return kind
    return "unknown"
