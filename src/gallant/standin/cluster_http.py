"""HTTPS servers of cluster members, each kind in a dialect of its own.

`hosts`: a token by a header, JSON, jobs by their Location, lists in pages.
`manager`: a form and cookies. `archive`: a token, and answers in XML.
"""

from __future__ import annotations

import asyncio
import secrets
import ssl
from collections.abc import Awaitable, Callable, Mapping
from datetime import timedelta
from xml.sax.saxutils import escape, quoteattr

from aiohttp import web
from lxml import etree

from gallant.core.records import rfc3339
from gallant.standin.cluster import Cluster
from gallant.standin.listening import WebServer
from gallant.standin.shoal import Denied, PairTask

PAGE = 2
LARGEST = 256 * 1024 * 1024


class MemberServer(WebServer):
    """One member's server; what a dialect says is in the classes below."""

    login_path = "/login"

    def __init__(
        self,
        cluster: Cluster,
        name: str,
        address: str,
        port: int,
        context: ssl.SSLContext,
        accounts: Mapping[str, str],
        refresh: Callable[[], None],
    ) -> None:
        self.cluster, self.name, self.member, self.world = cluster, name, cluster.members[name], cluster.world
        self.full = cluster.full(name)
        super().__init__(address, port, context)
        self.accounts, self.refresh = accounts, refresh
        self.tokens: dict[str, str] = {}

    def routes(self) -> list[web.RouteDef]:
        raise NotImplementedError

    def app(self) -> web.Application:
        app = web.Application(middlewares=[self._outer], client_max_size=LARGEST)
        app.add_routes(self.routes())
        return app

    @property
    def up(self) -> bool:
        return self.member.up

    def went_down(self) -> None:
        self.tokens.clear()

    @web.middleware
    async def _outer(
        self, request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]
    ) -> web.StreamResponse:
        self.refresh()
        if not self.member.up or self.world.fault(
            "drop_connection_at", self.full, request.path.strip("/").split("/")[-1]
        ):
            self._cut(request)
        if slow := self.world.fault("slow", self.full):
            await asyncio.sleep(slow.value)
        try:
            if request.path != self.login_path:
                user = self.tokens.get(self.token_of(request) or "")
                if user is None:
                    raise Denied(401, "log in first")
                request["user"] = user
            return await handler(request)
        except Denied as denied:
            return web.json_response({"error": denied.message}, status=denied.status)

    def _cut(self, request: web.Request) -> None:
        if request.transport is not None:
            request.transport.abort()
        raise web.HTTPServiceUnavailable

    def token_of(self, request: web.Request) -> str | None:
        return request.headers.get("X-Member-Token")

    def let_in(self, user: str, secret: str) -> str:
        self.world.count(self.full, "login")
        expired = self.world.fault("expired_password", self.full)
        if expired:
            self.world.count(self.full, "refused")
            raise Denied(401, "the password has expired; set a new one at the console")
        if self.world.fault("refuse_login", self.full, "login") or self.accounts.get(user) != secret:
            self.world.count(self.full, "refused")
            raise Denied(401, "unknown user or wrong password")
        token = secrets.token_hex(16)
        self.tokens[token] = user
        return token

    def may_act(self, request: web.Request) -> None:
        if not request["user"].endswith("act"):
            raise Denied(403, "this account only reads")

    # --- what every dialect says in its own way

    @property
    def serial(self) -> str:
        return "XX-0000" if self.world.fault("swapped_machine", self.full) else self.member.serial

    @property
    def clock(self) -> str:
        off = self.world.fault("clock_off", self.full)
        return rfc3339(self.world.moment + timedelta(seconds=off.value if off else 0))

    @property
    def alarms(self) -> list[tuple[str, str]]:
        return [("critical", "a fan has failed")] if self.world.fault("alarm", self.full) else []

    @property
    def tasks(self) -> list[PairTask]:
        return self.member.tasks_with(self.cluster.shared)

    def task(self, request: web.Request) -> PairTask:
        number = request.match_info["number"]
        found = next((t for t in self.tasks if str(t.number) == number), None)
        if found is None:
            raise Denied(404, f"no job {number}")
        return found

    async def upload(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        body = b""
        if request.content_type.startswith("multipart/"):
            async for part in await request.multipart():
                if part.name == "image":  # type: ignore[union-attr]
                    body = bytes(await part.read(decode=False))  # type: ignore[union-attr]
        else:
            body = await request.read()
        if self.world.fault("corrupt_package", self.full, "upload"):
            body = body[:-1] + b"?"
        digest = self.cluster.keep(self.name, request.match_info["package"], body)
        return web.json_response({"sha256": digest}, status=201)


class HostServer(MemberServer):
    """Sundholm's hosts: JSON, a token, jobs by their Location, lists in pages of two."""

    def token_of(self, request: web.Request) -> str | None:
        return request.headers.get("Authorization", "").removeprefix("Bearer ") or None

    def routes(self) -> list[web.RouteDef]:
        return [
            web.post("/login", self.login),
            web.get("/host", self.host),
            web.get("/guests", self.guests),
            web.get("/storage", self.storage),
            web.get("/jobs", self.jobs),
            web.get("/jobs/{number}", self.job),
            web.post("/orders", self.order),
            web.post("/images/{package}", self.upload),
            web.get("/images", self.images),
            web.get("/settings", self.settings),
            web.put("/settings", self.restore),
            web.get("/snapshots", self.snapshots),
            web.post("/snapshots", self.snapshot),
            web.post("/snapshots/{guest}/{name}/revert", self.revert),
            web.delete("/snapshots/{guest}/{name}", self.forget),
        ]

    async def snapshots(self, request: web.Request) -> web.StreamResponse:
        rows = [
            {"name": s.name, "guest": s.guest, "taken": rfc3339(s.taken), "bytes": 6_000_000_000}
            for s in self.cluster.snapshots
        ]
        return web.json_response({"snapshots": rows})

    async def snapshot(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        said = await request.json()
        self.cluster.snapshot(str(said["guest"]), str(said["name"]))
        return web.json_response({})

    async def revert(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        self.cluster.revert(request.match_info["guest"], request.match_info["name"])
        return web.json_response({})

    async def forget(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        found = self.cluster.kept(request.match_info["guest"], request.match_info["name"])
        self.cluster.snapshots.remove(found)
        return web.json_response({})

    async def login(self, request: web.Request) -> web.StreamResponse:
        said = await request.json()
        return web.json_response({"bearer": self.let_in(said.get("name", ""), said.get("word", ""))})

    async def host(self, request: web.Request) -> web.StreamResponse:
        m = self.member
        return web.json_response(
            {
                "serial": self.serial,
                "model": "Berth 4",
                "runs": m.version,
                "will_run": m.next_version,
                "start": m.boot,
                "part": self.cluster.role(self.name),
                "mood": "aside" if m.drained else "working",
                "clock": self.clock,
                "alarms": [{"level": level, "text": text} for level, text in self.alarms],
                "updates_itself": False,
            }
        )

    def _guest(self, name: str) -> dict[str, str]:
        tied = {"tied": self.cluster.tied[name]} if name in self.cluster.tied else {}
        return {"name": name, "state": "runs" if self.cluster.runs(name) else "off", **tied}

    async def guests(self, request: web.Request) -> web.StreamResponse:
        names = list(self.member.guests)
        at = int(request.query.get("from", "0"))
        more = f"/guests?from={at + PAGE}" if at + PAGE < len(names) else None
        return web.json_response({"guests": [self._guest(name) for name in names[at : at + PAGE]], "more": more})

    async def storage(self, request: web.Request) -> web.StreamResponse:
        full = self.world.fault("disk_full", self.full)
        free = 0.4 if full or self.name == "d" else 38.0
        return web.json_response({"free_gib": free, "load_percent": 10 + 9 * len(self.member.guests)})

    def _said(self, task: PairTask) -> dict[str, object]:
        now = self.world.now
        return {
            "id": str(task.number),
            "what": task.what,
            "state": task.state,
            "share": round(task.percent(now), 1),
            "text": task.words(now),
        }

    async def jobs(self, request: web.Request) -> web.StreamResponse:
        return web.json_response({"jobs": [self._said(task) for task in self.tasks[-20:]]})

    async def job(self, request: web.Request) -> web.StreamResponse:
        return web.json_response(self._said(self.task(request)))

    async def order(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        said = await request.json()
        task = self.cluster.order(self.name, said.get("do", ""), said.get("image", ""))
        if self.world.fault("answer_lost", self.full, said.get("do", "")):
            self._cut(request)
        return web.Response(status=202, headers={"Location": f"/jobs/{task.number}"})

    async def settings(self, request: web.Request) -> web.StreamResponse:
        return web.json_response({"host": self.full, "settings": self.cluster.settings_of(self.name)})

    async def restore(self, request: web.Request) -> web.StreamResponse:
        """Settings as they were given out, by this machine alone."""
        self.may_act(request)
        try:
            said = await request.json()
            mine, settings = said["host"] == self.full, {str(k): str(v) for k, v in said["settings"].items()}
        except (ValueError, KeyError, TypeError, AttributeError):
            raise Denied(422, "those are not settings") from None
        if not mine:
            raise Denied(422, "these are the settings of another machine")
        self.cluster.settings[self.name] = settings
        return web.json_response({})

    async def images(self, request: web.Request) -> web.StreamResponse:
        rows = [{"name": n, "sha256": d, "bytes": size} for n, (d, size) in self.member.packages.items()]
        return web.json_response({"images": rows})


class ManagerServer(HostServer):
    """Sundholm's manager of switches: a form to log in, cookies to stay."""

    login_path = "/enter"

    def token_of(self, request: web.Request) -> str | None:
        return request.cookies.get("seat")

    def routes(self) -> list[web.RouteDef]:
        return [
            web.post("/enter", self.enter),
            web.get("/about", self.about),
            web.get("/certificates", self.certificates),
            web.get("/jobs", self.jobs),
            web.get("/jobs/{number}", self.job),
            web.post("/orders", self.order),
            web.put("/images/{package}", self.upload),
            web.get("/images", self.images),
            web.get("/settings", self.settings),
            web.put("/settings", self.restore),
        ]

    async def enter(self, request: web.Request) -> web.StreamResponse:
        said = await request.post()
        answer = web.json_response({})
        answer.set_cookie("seat", self.let_in(str(said.get("who")), str(said.get("word"))))
        return answer

    async def about(self, request: web.Request) -> web.StreamResponse:
        m = self.member
        return web.json_response(
            {
                "serial": self.serial,
                "release": m.version,
                "next": m.next_version,
                "start": m.boot,
                "clock": self.clock,
                "mood": "working",
            }
        )

    async def certificates(self, request: web.Request) -> web.StreamResponse:
        ends = self.world.began + timedelta(days=41)
        return web.json_response({"certificates": [{"name": "console", "until": rfc3339(ends)}]})


class ArchiveServer(MemberServer):
    """Ostrel's sensor archive: a token, and answers in XML."""

    def routes(self) -> list[web.RouteDef]:
        return [
            web.post("/login", self.login),
            web.get("/member", self.about),
            web.get("/parts", self.parts),
            web.get("/jobs", self.jobs),
            web.get("/jobs/{number}", self.job),
            web.post("/orders", self.order),
            web.put("/images/{package}", self.upload),
            web.get("/images", self.images),
            web.get("/settings", self.settings),
            web.put("/settings", self.restore),
        ]

    def _xml(self, body: str, status: int = 200) -> web.Response:
        return web.Response(
            text=f'<?xml version="1.0"?>\n<ledge xmlns="urn:ostrel:ledge:2">{body}</ledge>',
            content_type="application/xml",
            status=status,
        )

    async def login(self, request: web.Request) -> web.StreamResponse:
        said = await request.json()
        return web.json_response({"token": self.let_in(said.get("user", ""), said.get("secret", ""))})

    async def about(self, request: web.Request) -> web.StreamResponse:
        m, (word, left) = self.member, self.cluster.sync(self.name)
        rows = {
            "serial": self.serial, "release": m.version, "next": m.next_version, "start": m.boot,
            "part": self.cluster.role(self.name), "mood": "working", "clock": self.clock, "copy": word,
            "copy-left": f"{left:.1f}",
        }  # fmt: skip
        if self.world.fault("unwell", self.full, "orders"):
            rows["orders"] = "shared"
        return self._xml("".join(f"<{key}>{value}</{key}>" for key, value in rows.items()))

    async def parts(self, request: web.Request) -> web.StreamResponse:
        early = self.world.fault("unwell", self.full, "format") is not None
        rows = (
            (
                name,
                version,
                self._could_be(name, version, early),
                "on-disk format" if name == "format" else "add-on module",
            )
            for name, version in self.member.parts.items()
        )
        return self._xml(
            "".join(f'<part name="{n}" release="{v}" could-be="{c}" kind={quoteattr(k)}/>' for n, v, c, k in rows)
        )

    def _could_be(self, name: str, version: str, early: bool) -> str:
        """What a part would be after the next start; a format says so when every member reads a newer one."""
        if name not in self.cluster.formats:
            return self.member.next_parts.get(name, version)
        return self.cluster.formats[name][0] if early else version

    def _said(self, task: PairTask) -> str:
        now = self.world.now
        return (
            f'<job id="{task.number}" what="{task.what}" state="{task.state}" share="{task.percent(now):.1f}">'
            f"<text>{task.words(now)}</text></job>"
        )

    async def jobs(self, request: web.Request) -> web.StreamResponse:
        return self._xml("".join(map(self._said, self.tasks[-20:])))

    async def job(self, request: web.Request) -> web.StreamResponse:
        return self._xml(self._said(self.task(request)))

    async def order(self, request: web.Request) -> web.StreamResponse:
        self.may_act(request)
        said = await request.post()
        task = self.cluster.order(self.name, str(said.get("do")), str(said.get("image") or said.get("part") or ""))
        return self._xml(self._said(task), 202)

    async def settings(self, request: web.Request) -> web.StreamResponse:
        rows = self.cluster.settings_of("")
        return self._xml("".join(f"<setting name={quoteattr(n)}>{escape(v)}</setting>" for n, v in rows.items()))

    async def restore(self, request: web.Request) -> web.StreamResponse:
        """Settings as they were given out; the members share them."""
        self.may_act(request)
        try:
            root = etree.fromstring(await request.read(), etree.XMLParser(resolve_entities=False, no_network=True))
        except etree.XMLSyntaxError:
            raise Denied(422, "those are not settings") from None
        found = {str(e.get("name")): e.text or "" for e in root.iter("{urn:ostrel:ledge:2}setting")}
        if not found:
            raise Denied(422, "those are not settings")
        self.cluster.settings[""] = found
        return web.Response(status=204)

    async def images(self, request: web.Request) -> web.StreamResponse:
        rows = self.member.packages.items()
        return self._xml("".join(f'<image name={quoteattr(n)} sha256="{d}" bytes="{size}"/>' for n, (d, size) in rows))
