"""The HTTPS server of one storage node: JSON, token login, its own words."""

from __future__ import annotations

import asyncio
import json
import math
import secrets
import socket
import ssl
from collections.abc import Awaitable, Callable

from aiohttp import web

from gallant.core.records import rfc3339
from gallant.standin.listening import WebServer
from gallant.standin.ports import bound
from gallant.standin.shoal import Denied, PairTask, ShoalPair
from gallant.standin.world import World

TOKEN_LASTS_S = 1800.0
LARGEST_PACKAGE = 256 * 1024 * 1024


class NodeServer(WebServer):
    """One node's server. `accounts` maps user to secret; `refresh` brings the world to the present moment."""

    def __init__(
        self,
        world: World,
        pair: ShoalPair,
        name: str,
        address: str,
        port: int,
        context: ssl.SSLContext,
        accounts: dict[str, str],
        refresh: Callable[[], None],
    ) -> None:
        self.world, self.pair, self.name = world, pair, name
        self.node = pair.nodes[name]
        self.full = f"{pair.name}/{name}"
        super().__init__(address, port, context)
        self.accounts, self.refresh = accounts, refresh
        self.tokens: dict[str, tuple[str, float]] = {}
        self._leaks_since: float | None = None

    def app(self) -> web.Application:
        app = web.Application(middlewares=[self._outer], client_max_size=LARGEST_PACKAGE)
        app.add_routes(
            [
                web.post("/v1/session", self.login),
                web.delete("/v1/session", self.logout),
                web.get("/v1/node", self.about),
                web.get("/v1/bays", self.bays),
                web.get("/v1/replica", self.replica),
                web.get("/v1/updates", self.updates),
                web.get("/v1/tasks", self.tasks),
                web.get("/v1/tasks/{number}", self.task),
                web.post("/v1/tasks", self.order),
                web.get("/v1/packages", self.packages),
                web.put("/v1/packages/{package}", self.upload),
                web.delete("/v1/packages/{package}", self.remove),
                web.get("/v1/exports/{what}", self.export),
                web.put("/v1/exports/{file}", self.restore),
                web.put("/v1/roots", self.take_roots),
                web.get("/v1/snapshots", self.snapshots),
                web.post("/v1/snapshots", self.snapshot),
                web.post("/v1/snapshots/{name}/revert", self.revert),
                web.delete("/v1/snapshots/{name}", self.forget),
            ]
        )
        return app

    @property
    def up(self) -> bool:
        return self.node.up

    def went_down(self) -> None:
        self.tokens.clear()

    # --- around every request

    @web.middleware
    async def _outer(
        self, request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]
    ) -> web.StreamResponse:
        self.refresh()
        if not self.node.up:
            self._cut(request)
        if slow := self.world.fault("slow", self.full):
            await asyncio.sleep(slow.value)
        try:
            if request.path != "/v1/session" or request.method == "DELETE":
                self._let_in(request)
            answer = await handler(request)
        except Denied as denied:
            answer = web.json_response({"problem": denied.message}, status=denied.status)
        self.refresh()
        if not self.node.up:
            self._cut(request)
        return answer

    def _cut(self, request: web.Request) -> None:
        if request.transport is not None:
            request.transport.abort()
        raise web.HTTPServiceUnavailable

    def _let_in(self, request: web.Request) -> None:
        user, until = self.tokens.get(request.headers.get("X-Shoal-Token", ""), ("", 0.0))
        if until < self.world.now:
            raise Denied(401, "no session")
        request["user"] = user

    def _may_act(self, request: web.Request) -> None:
        if not request["user"].endswith("act"):
            raise Denied(403, "this account only reads")

    # --- sessions

    async def login(self, request: web.Request) -> web.StreamResponse:
        said = await request.json()
        self.world.count(self.full, "login")
        if self.world.fault("expired_password", self.full):
            raise Denied(401, "the password has expired; set a new one at the console")
        wrong = self.world.fault("refuse_login", self.full, "login")
        if wrong or self.accounts.get(said.get("user")) != said.get("secret"):
            self.world.count(self.full, "refused")
            raise Denied(401, "unknown user or wrong password")
        token = secrets.token_hex(16)
        self.tokens[token] = (said["user"], self.world.now + TOKEN_LASTS_S)
        return web.json_response({"token": token, "lasts_s": TOKEN_LASTS_S})

    async def logout(self, request: web.Request) -> web.StreamResponse:
        self.tokens.pop(request.headers.get("X-Shoal-Token", ""), None)
        return web.json_response({})

    # --- reads

    async def about(self, request: web.Request) -> web.StreamResponse:
        node, pair = self.node, self.pair
        image, swapped = pair.images[node.version], self.world.fault("swapped_machine", self.full)
        off = self.world.fault("clock_off", self.full)
        moment = (
            rfc3339(self.world.moment)
            if off is None
            else rfc3339(
                self.world.moment.__class__.fromtimestamp(
                    self.world.moment.timestamp() + off.value, tz=self.world.moment.tzinfo
                )
            )
        )
        return web.json_response(
            {
                "serial": "SH-0000-XX" if swapped else node.serial,
                "model": "Shoal 240" if len(pair.nodes) > 1 else "Shoal mini",
                "release": node.version,
                "build": image.build,
                "starts_next": max(pair.images) if self._unwell("start") else node.next_version,
                "spare": node.spare,
                "started": node.boot,
                "duty": pair.role(node.name),
                "condition": "resting" if self._unwell("condition") else "working",
                "clock": moment,
                "network": node.network,
                "answers_for": self._answers_for(),
                "expander": {"model": "Shoal 24", "release": "1.6"},
                "roots": {"list": node.roots},
                "health": self._health(),
                "alarms": [{"level": "grave", "text": "a fan has failed"}]
                if self.world.fault("alarm", self.full)
                else [],
            }
        )

    def _answers_for(self) -> list[str]:
        """The service addresses that the node holds: the active one's, and another's that never let go."""
        holds = self.pair.role(self.node.name) == "serving" or self._unwell("address")
        return list(self.pair.service_addresses) if holds else []

    def _unwell(self, condition: str) -> bool:
        return self.world.fault("unwell", self.full, condition) is not None

    def _health(self) -> dict[str, object]:
        """What the node says of itself besides its work."""
        fault = self.world.fault("loses_link", self.full, "restart")
        lost = int(fault.value) if fault is not None and self.node.boots > 1 else 0
        return {
            "clock_follows": not self._unwell("time source"),
            "spare_bay": "broken" if self._unwell("spare bay") else "ready",
            "console": "anna" if self._unwell("console") else "",
            "writes_need_partner": self._unwell("partner"),
            "updates_itself": self._unwell("updates itself"),
            "memory_free": 40_000_000 if self._unwell("memory") else round(self._memory_free()),
            "logged_in": 3 if self._unwell("sessions") else 0,
            "paths": [
                {"path": f"path {n}", "state": "down" if self._unwell(f"path {n}") or n == lost else "up"}
                for n in (1, 2)
            ],
        }

    def _memory_free(self) -> float:
        """What is free goes a little up and down, as work comes and goes; a leak takes of it, from its first moment
        on."""
        free = 3.2e9 + 8e6 * math.sin(self.world.now / 37) + 4e6 * math.sin(self.world.now / 11)
        leak = self.world.fault("leaks", self.full, "restart")
        if leak is None:
            self._leaks_since = None
            return free
        if self._leaks_since is None:
            self._leaks_since = self.world.now
        return max(5e7, free - leak.value * (self.world.now - self._leaks_since))

    async def bays(self, request: web.Request) -> web.StreamResponse:
        return web.json_response(
            {
                "bays": [
                    {
                        "bay": bay,
                        "release": version or None,
                        "runs": bay == self.node.runs_from,
                        "starts_next": bay == self.node.boots_from,
                    }
                    for bay, version in self.node.bays.items()
                ]
            }
        )

    async def replica(self, request: web.Request) -> web.StreamResponse:
        word, left = ("apart", 0.0) if self._unwell("replica") else self.pair.replica()
        return web.json_response({"state": word, "seconds_left": round(left, 3), "paths": 2 if word != "apart" else 0})

    async def updates(self, request: web.Request) -> web.StreamResponse:
        return web.json_response({"items": [{"release": version} for version in self.pair.updates(self.name)]})

    async def packages(self, request: web.Request) -> web.StreamResponse:
        return web.json_response(
            {
                "free_bytes": 1_000 if self._unwell("free space") else self.pair.free(self.name),
                "items": [
                    {"file": name, "digest": digest, "size": size}
                    for name, (digest, size) in sorted(self.node.packages.items())
                ],
            }
        )

    def _said(self, task: PairTask) -> dict[str, object]:
        left = max(0.0, task.began + task.lasts - self.world.now) if task.state == "busy" else 0.0
        return {
            "task": str(task.number),
            "what": task.what,
            "release": task.release,
            "state": task.state,
            "percent": round(task.percent(self.world.now), 1),
            "text": task.words(self.world.now),
            "seconds_left": round(left, 3),
        }

    async def tasks(self, request: web.Request) -> web.StreamResponse:
        tasks = self.node.tasks[-20:]
        if self._unwell("task"):
            tasks = [*tasks, PairTask(999, "install", self.node.version, self.world.now - 60, 600.0)]
        return web.json_response({"items": [self._said(task) for task in tasks]})

    async def task(self, request: web.Request) -> web.StreamResponse:
        number = request.match_info["number"]
        found = next((t for t in self.node.tasks if str(t.number) == number), None)
        if found is None:
            raise Denied(404, f"no task {number}")
        return web.json_response(self._said(found))

    async def export(self, request: web.Request) -> web.StreamResponse:
        what = request.match_info["what"]
        self.world.count(self.full, "export")
        return web.Response(body=self.pair.export(self.name, what), content_type="application/octet-stream")

    async def snapshots(self, request: web.Request) -> web.StreamResponse:
        rows = [{"name": s.name, "taken": s.taken, "bytes": s.bytes} for s in self.pair.snapshots]
        return web.json_response({"items": rows})

    async def snapshot(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.world.count(self.full, "snapshot")
        self.pair.snapshot(str((await request.json())["name"]))
        return web.json_response({})

    async def revert(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.pair.revert(request.match_info["name"])
        return web.json_response({})

    async def forget(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.pair.forget_snapshot(request.match_info["name"])
        return web.json_response({})

    async def restore(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.world.count(self.full, "restore")
        if self._unwell("restore"):
            raise Denied(507, "no room for it")
        self.pair.restore(request.match_info["file"].removesuffix(".json"), await request.read())
        return web.json_response({})

    # --- orders

    async def order(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        said = await request.json()
        what = said.get("do", "")
        self.world.count(self.full, what)
        if self.world.fault("drop_connection_at", self.full, what):
            self._cut(request)
        if self.world.fault("never_acts", self.full, what):
            await self._until_gone(request)
            raise Denied(503, "gave up")
        if late := self.world.fault("acts_late", self.full, what):
            await self._until_gone(request)
            await asyncio.sleep(late.value)
            self.refresh()
        task = self.pair.order(self.name, what, said.get("package") or said.get("release", ""))
        self.world.counts[f"{self.full} {what} done"] += 1
        if self.world.fault("answer_lost", self.full, what):
            self._cut(request)
        if self.world.fault("answer_held", self.full, what):
            await self._until_gone(request)
        return web.json_response({"task": str(task.number)}, status=202)

    async def _until_gone(self, request: web.Request) -> None:
        """Wait, without an answer, until the one who asked has gone."""
        while request.transport is not None and not request.transport.is_closing():
            await asyncio.sleep(0.01)

    async def upload(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.world.count(self.full, "upload")
        try:
            body = await request.read()
        except ConnectionResetError:  # its sender has gone
            raise web.HTTPServiceUnavailable from None
        if self.world.fault("drop_connection_at", self.full, "upload"):
            self._cut(request)
        digest = self.pair.keep(self.name, request.match_info["package"], body)
        return web.json_response(
            {"file": request.match_info["package"], "digest": digest, "size": len(body)}, status=201
        )

    async def take_roots(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.world.count(self.full, "roots")
        return web.json_response({"list": self.pair.take_roots(self.name, await request.read())})

    async def remove(self, request: web.Request) -> web.StreamResponse:
        self._may_act(request)
        self.pair.remove(self.name, request.match_info["package"])
        return web.json_response({})


class ServiceServer:
    """The address that users depend on: one line asks for a block, one line gives it. It is with the active node."""

    def __init__(self, pair: ShoalPair, address: str, port: int) -> None:
        self.pair, self.address, self.port = pair, address, port
        self.server: asyncio.Server | None = None
        self.open_for: str | None = None
        self._writers: set[asyncio.StreamWriter] = set()
        self._switching = asyncio.Lock()

    async def follow(self) -> None:
        async with self._switching:
            serving = None if self._flaps() else self.pair.serving
            if serving == self.open_for:
                return
            self._close()
            if serving is not None:
                self.server = await asyncio.start_server(self._serve, sock=bound(self.address, self.port), backlog=256)
                self.open_for = serving

    def _flaps(self) -> bool:
        """Whether a fault has the address away just now: it comes and goes by the world's clock."""
        fault = self.pair.world.fault("flapping_service", self.pair.name)
        return fault is not None and int(self.pair.world.now / max(1.0, fault.value)) % 2 == 1

    def _close(self) -> None:
        if self.server is not None:
            self.server.close()
            self.server, self.open_for = None, None
        for writer in list(self._writers):
            writer.transport.abort()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._writers.add(writer)
        try:
            while line := await reader.readline():
                words = line.split()
                if len(words) != 2 or words[0] != b"block" or not words[1].isdigit():
                    writer.write(b"what?\n")
                else:
                    await self._delayed()
                    writer.write(b"block " + words[1] + b" " + self.pair.block(int(words[1])) + b"\n")
                await writer.drain()
        except (OSError, ValueError):
            pass
        finally:
            self._writers.discard(writer)
            writer.close()

    async def _delayed(self) -> None:
        for node in self.pair.nodes.values():
            fault = self.pair.world.fault("slow_answers", f"{self.pair.name}/{node.name}", "restart")
            if fault is not None and node.up:
                await asyncio.sleep(fault.value)

    async def stop(self) -> None:
        self._close()


class ControlServer:
    """The other side of the stage: switch faults, let time pass, read
    the counts. Not a device; a test's or a demo's own door."""

    def __init__(
        self,
        world: World,
        pairs: list[ShoalPair],
        refresh: Callable[[], None],
        let_pass: Callable[[float], None],
        key: str,
    ) -> None:
        self.world, self.pairs, self.refresh, self.let_pass, self.key = world, pairs, refresh, let_pass, key

    async def start(self, sock: socket.socket) -> web.AppRunner:
        app = web.Application()
        app.add_routes(
            [
                web.get("/state", self.state),
                web.post("/faults", self.faults),
                web.post("/change", self.change),
                web.post("/pass", self.passes),
            ]
        )
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.2)
        await runner.setup()
        await web.SockSite(runner, sock).start()
        return runner

    def _let_in(self, request: web.Request) -> None:
        if not secrets.compare_digest(request.headers.get("X-Key", ""), self.key):
            raise web.HTTPForbidden
        self.refresh()

    async def change(self, request: web.Request) -> web.Response:
        """Somebody changes a system's configuration at its console."""
        self._let_in(request)
        said = await request.json()
        next(pair for pair in self.pairs if pair.name == said["system"]).change(said["export"])
        return web.json_response({})

    async def passes(self, request: web.Request) -> web.Response:
        """So many seconds pass at once, with all that happens in them. For when nobody looks at a clock meanwhile."""
        self._let_in(request)
        self.let_pass((await request.json())["seconds"])
        return web.json_response({"now": self.world.now})

    async def state(self, request: web.Request) -> web.Response:
        self._let_in(request)
        nodes = {
            f"{p.name}/{n.name}": {
                "version": n.version,
                "next": n.next_version,
                "up": n.up,
                "role": p.role(n.name),
                "boots": n.boots,
                "packages": sorted(n.packages),
            }
            for p in self.pairs
            for n in p.nodes.values()
        }
        systems = {
            p.name: {"serving": p.serving, "replica": p.replica()[0], "blocks_read": p.blocks_read, "broken": p.broken}
            for p in self.pairs
        }
        busy = [[b.node, b.what, b.began, b.ended] for b in self.world.busy]
        return web.json_response(
            {"now": self.world.now, "counts": dict(self.world.counts), "nodes": nodes, "systems": systems, "busy": busy}
        )

    async def faults(self, request: web.Request) -> web.Response:
        self._let_in(request)
        from gallant.standin.scenario import faults_from  # a leaf that only this call and the start need

        self.world.faults = faults_from(json.dumps(await request.json()))
        self.world.counts.clear()
        return web.json_response({"faults": len(self.world.faults)})
