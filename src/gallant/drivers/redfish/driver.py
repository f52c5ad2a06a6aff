"""The `redfish` driver: servers and enclosures that speak DMTF's Redfish (DSP0266 1.15 and the schema bundle DSP8010).

Nothing but the service root's path is taken for granted: every other resource is found by its link. A service that has
no sessions, leaves properties out or spells them in another case is understood all the same, and the reading says so.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator

from gallant.core.errors import GallantError
from gallant.core.ports import Act, DeviceRefused, LoginRefused, NotReached, Progress
from gallant.drivers.calls import Post, Request
from gallant.drivers.http.login import getting
from gallant.drivers.http.wire import parsed_json
from gallant.drivers.redfish.read import RedfishReads
from gallant.drivers.redfish.settings import settings
from gallant.drivers.tools import Acts, Asked, Exports, Fields

RESTARTS = ("GracefulRestart", "ForceRestart", "PowerCycle")
APPLY_TIMES = ("OnReset", "AtMaintenanceWindowStart", "Immediate")


class RedfishDriver(RedfishReads):
    """One system's nodes, each a Redfish service of its own."""

    own_parts = ("management controller", "BIOS", "NIC", "disk", "enclosure module")

    # --- resources

    # --- reads

    # --- what is only compared

    # --- acts

    own_orders = {
        "install": (
            "POST to the push address of its UpdateService, or SimpleUpdate, which fetches it from here   with"
            " {package}"
        ),
        "restart": f"POST ComputerSystem.Reset   ResetType {' or '.join(RESTARTS)}, the first that it allows",
        "handover": "POST Manager.ForceFailover to the other manager",
    }

    def _own_acts(self) -> Acts:
        acts = {
            "install": self._install,
            "restart": self._restart,
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
