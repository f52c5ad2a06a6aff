"""What is read from a Redfish service: versions, health, hardware, jobs."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from functools import lru_cache

from gallant.core.readings import SPEED, Component, Reading
from gallant.core.records import clean, replace
from gallant.core.shapes import SHAPES
from gallant.drivers.answers import Ours, as_record, merge, named
from gallant.drivers.http.login import getting
from gallant.drivers.profile import PartRule, rule_for
from gallant.drivers.redfish.walk import MEMBERS_AT_ONCE, RedfishWalk
from gallant.drivers.tools import Asked, Fields, Reads

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
HARDWARE = {"serial": ("SerialNumber",), "model": ("Model",), "part_number": ("PartNumber", "SKU")}
MOST_RELATED = 128  # pieces of hardware of one node that are asked who they are
# EthernetInterface v1_12: LinkStatus → our word.
LINKS = {"LinkUp": "up", "LinkDown": "down", "NoLink": "down"}
# What feeds and cools, where a chassis has it in subsystems
# (DSP0268): its kind, the subsystem and the collection there.
NEWER = (("power supply", "PowerSubsystem", "PowerSupplies"), ("fan", "ThermalSubsystem", "Fans"))
MOST_LOGS, MOST_ENTRIES = 4, 50  # of one node that are read closely


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


class RedfishReads(RedfishWalk):
    """Reads what a service says of its machine."""

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
