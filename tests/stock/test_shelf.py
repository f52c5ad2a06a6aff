"""Packages come whole or not at all: resumed, verified, refused; over a real server that misbehaves."""

from __future__ import annotations

import asyncio
import hashlib

import pytest
from aiohttp import web

from gallant.core.catalog import Package
from gallant.core.errors import GallantError, Refused, Unreached
from gallant.drivers.http import new_session
from gallant.standin.ports import reserve
from gallant.stock.shelf import Shelf, Way

BODY = bytes(range(256)) * 8192
PACKAGE = Package(name="p.pkg", url="p.pkg", bytes=len(BODY), sha256=hashlib.sha256(BODY).hexdigest())


class Server:
    def __init__(self) -> None:
        self.break_after: list[int] = []
        self.body, self.tag = BODY, '"one"'
        self.starts: list[int] = []

    async def handle(self, request: web.Request) -> web.StreamResponse:
        start = request.http_range.start or 0 if request.headers.get("If-Range") == self.tag else 0
        self.starts.append(start)
        rest = self.body[start:]
        answer = web.StreamResponse(
            status=206 if start else 200, headers={"ETag": self.tag, "Content-Length": str(len(rest))}
        )
        await answer.prepare(request)
        if self.break_after:
            await answer.write(rest[: self.break_after.pop(0)])
            await asyncio.sleep(0.05)
            request.transport.abort()
        else:
            await answer.write(rest)
        return answer


def fetch(folder, server: Server, package: Package = PACKAGE, path: str = "/p.pkg"):
    async def go():
        keeper, port = reserve("127.0.0.1")
        keeper.close()
        app = web.Application()
        app.router.add_get("/p.pkg", server.handle)
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", port).start()
        try:
            async with new_session() as session:
                return await Shelf(folder).fetch(
                    session, f"http://127.0.0.1:{port}{path}", package, lambda done, whole: None
                )
        finally:
            await runner.cleanup()

    return asyncio.run(go())


def left_over(folder):
    return [p.name for p in folder.rglob("*") if p.is_file()]


def test_a_package_comes_whole_and_nothing_temporary_stays(tmp_path):
    assert fetch(tmp_path, Server()).read_bytes() == BODY
    assert left_over(tmp_path) == ["p.pkg"]
    assert Shelf(tmp_path).held()[0].sha256 == PACKAGE.sha256


def test_a_broken_download_goes_on_where_it_broke_off(tmp_path):
    server = Server()
    server.break_after = [700_000, 300_000]
    assert fetch(tmp_path, server).read_bytes() == BODY
    assert server.starts[0] == 0
    assert 0 < server.starts[1] < server.starts[2]


def test_a_download_that_broke_off_in_another_run_goes_on_too(tmp_path):
    server = Server()
    server.break_after = [100_000] * 4
    with pytest.raises(Unreached) as broken:
        fetch(tmp_path, server)
    assert "are not fetched again" in broken.value.why
    assert fetch(tmp_path, server).read_bytes() == BODY
    assert server.starts[-1] > 0


def test_a_file_that_changed_at_the_publisher_meanwhile_is_fetched_anew(tmp_path):
    server = Server()
    server.break_after = [500_000] * 4
    with pytest.raises(Unreached):
        fetch(tmp_path, server)
    server.tag = '"two"'
    assert fetch(tmp_path, server).read_bytes() == BODY
    assert server.starts[-1] == 0


def test_an_altered_package_is_refused_and_thrown_away(tmp_path):
    server = Server()
    server.body = BODY[:-1] + b"x"
    with pytest.raises(Refused, match="was altered on the way"):
        fetch(tmp_path, server)
    assert left_over(tmp_path) == []


def test_more_bytes_than_the_catalog_says_are_not_taken(tmp_path):
    server = Server()
    server.body = BODY + b"more"
    with pytest.raises(Refused, match="sends more than"):
        fetch(tmp_path, server)


def test_a_package_in_stock_that_rotted_is_fetched_again(tmp_path):
    path = fetch(tmp_path, Server())
    path.write_bytes(BODY[:-1] + b"x")
    assert not Shelf(tmp_path).verified("p.pkg", PACKAGE.sha256)
    assert fetch(tmp_path, Server()).read_bytes() == BODY


def test_a_package_in_stock_is_not_asked_for_again(tmp_path):
    fetch(tmp_path, Server())
    server = Server()
    fetch(tmp_path, server)
    assert server.starts == []


def test_a_package_that_is_not_there_is_said_so(tmp_path):
    with pytest.raises(Unreached, match="status 404"):
        fetch(tmp_path, Server(), path="/other.pkg")


def test_a_package_from_a_file_is_verified_like_any_other(tmp_path):
    source = tmp_path / "medium" / "p.pkg"
    source.parent.mkdir()
    source.write_bytes(BODY)

    def bring(folder):
        async def go():
            async with new_session() as session:
                way = Way(opened=lambda: source.open("rb"))
                return await Shelf(folder).fetch(session, source.as_uri(), PACKAGE, lambda done, whole: None, way)

        return asyncio.run(go())

    assert bring(tmp_path / "one").read_bytes() == BODY
    for other in (BODY[:-1], BODY + b"more", bytes(len(BODY))):
        source.write_bytes(other)
        with pytest.raises(GallantError):
            bring(tmp_path / "two")
