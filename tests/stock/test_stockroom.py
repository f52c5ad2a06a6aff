"""Packages come whole or not at all: resumed, verified, refused; over a real server that misbehaves."""

from __future__ import annotations

import asyncio
import hashlib
import os
import random
import sys
from pathlib import Path

import pytest
from aiohttp import web

from gallant.core.catalog.products import Package
from gallant.core.errors import GallantError, Refused, Unreached
from gallant.core.records import replace
from gallant.drivers.http.driver import new_session
from gallant.standin.ports import reserve
from gallant.stock.stockroom import Stockroom, Throttle, Way

CUTS = int(os.environ.get("GALLANT_CUTS", "5"))  # make cuts: many more
BODY = bytes(range(256)) * 8192
PACKAGE = Package(name="p.pkg", url="p.pkg", bytes=len(BODY), sha256=hashlib.sha256(BODY).hexdigest())


class Server:
    def __init__(self) -> None:
        self.break_after: list[int] = []
        self.body, self.tag = BODY, '"one"'
        self.starts: list[int] = []
        self.folder: Path | None = None

    async def arrived(self, size: int) -> None:
        """Until so much of the package lies in the folder, for as long as that may take anybody."""
        for _ in range(1000):
            if self.folder is None or sum(p.stat().st_size for p in self.folder.rglob("*.part")) >= size:
                return
            await asyncio.sleep(0.005)

    async def handle(self, request: web.Request) -> web.StreamResponse:
        start = request.http_range.start or 0 if request.headers.get("If-Range") == self.tag else 0
        self.starts.append(start)
        rest = self.body[start:]
        answer = web.StreamResponse(
            status=206 if start else 200, headers={"ETag": self.tag, "Content-Length": str(len(rest))}
        )
        await answer.prepare(request)
        if self.break_after:
            sent = self.break_after.pop(0)
            await answer.write(rest[:sent])
            await self.arrived(start + sent // 2)  # what nobody has read yet is lost with the connection
            request.transport.abort()
        else:
            await answer.write(rest)
        return answer


def fetch(folder, server: Server, package: Package = PACKAGE, path: str = "/p.pkg"):
    server.folder = folder

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
                return await Stockroom(folder).fetch(
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
    assert Stockroom(tmp_path).held()[0].sha256 == PACKAGE.sha256


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
    assert not Stockroom(tmp_path).verified("p.pkg", PACKAGE.sha256)
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
                return await Stockroom(folder).fetch(session, source.as_uri(), PACKAGE, lambda done, whole: None, way)

        return asyncio.run(go())

    assert bring(tmp_path / "one").read_bytes() == BODY
    for other in (BODY[:-1], BODY + b"more", bytes(len(BODY))):
        source.write_bytes(other)
        with pytest.raises(GallantError):
            bring(tmp_path / "two")


def test_the_same_bytes_under_two_names_are_stored_once(tmp_path):
    stockroom = Stockroom(tmp_path)
    first = fetch(tmp_path, Server())
    server = Server()
    second = fetch(tmp_path, server, replace(PACKAGE, name="q.pkg"))
    assert server.starts == []
    assert first.stat().st_ino == second.stat().st_ino
    assert stockroom.bytes == len(BODY)
    stockroom.remove("p.pkg", PACKAGE.sha256)
    assert second.read_bytes() == BODY
    first.write_bytes(b"x")
    second.unlink()
    fetch(tmp_path, server, replace(PACKAGE, name="r.pkg"))  # another name's bytes are not believed unseen
    assert server.starts == [0]


def test_a_throttle_lets_no_more_through_however_many_share_it():
    async def go() -> float:
        throttle, began = Throttle(1_000_000), asyncio.get_running_loop().time()

        async def one() -> None:
            for _ in range(5):
                await throttle.let(20_000)

        await asyncio.gather(one(), one(), one())
        return asyncio.get_running_loop().time() - began

    assert asyncio.run(go()) > 0.2  # 300 kB at 1 MB/s, less the 50 ms that it may run ahead


def test_a_file_that_is_carried_in_is_whole_or_not_there(tmp_path):
    stockroom, source = Stockroom(tmp_path), tmp_path / "carried"
    source.write_bytes(BODY)
    path = stockroom.take_in(source, "own.pkg", PACKAGE.sha256, "anna: from the lab")
    assert path.read_bytes() == BODY
    assert stockroom.vouched("own.pkg", PACKAGE.sha256) == "anna: from the lab"
    assert [h.name for h in stockroom.held()] == ["own.pkg"]
    source.write_bytes(BODY + b"x")
    with pytest.raises(Refused, match="changed while"):
        stockroom.take_in(source, "other.pkg", PACKAGE.sha256, None)
    assert stockroom.unfinished() == []
    stockroom.remove("own.pkg", PACKAGE.sha256)
    assert list(stockroom.folder.glob("*")) == []


SCRIPT = """
import asyncio, os, sys, threading, time
sys.path.insert(0, {tests!r})
from pathlib import Path
from gallant.core.catalog.products import Package
from gallant.drivers.http.driver import new_session
from gallant.stock.stockroom import Stockroom, Throttle, Way
threading.Thread(target=lambda: (time.sleep({delay}), os.kill(os.getpid(), 9)), daemon=True).start()
async def go():
    async with new_session() as session:
        package = Package(name="p.pkg", url="p", bytes={size}, sha256={sha256!r})
        way = Way(throttle=Throttle(4_000_000))
        await Stockroom(Path({folder!r})).fetch(session, {url!r}, package, lambda d, w: None, way)
asyncio.run(go())
time.sleep(60)
"""


def test_a_fetch_that_is_killed_anywhere_is_carried_on_and_nothing_half_has_a_final_name(tmp_path):
    server, chance = Server(), random.Random(5)
    root = str(Path(__file__).parents[2])

    async def go() -> None:
        keeper, port = reserve("127.0.0.1")
        keeper.close()
        app = web.Application()
        app.router.add_get("/p.pkg", server.handle)
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", port).start()
        url = f"http://127.0.0.1:{port}/p.pkg"
        try:
            for _ in range(CUTS):
                script = SCRIPT.format(
                    tests=root, delay=0.6 + chance.random() / 2, size=len(BODY), sha256=PACKAGE.sha256,
                    folder=str(tmp_path), url=url,
                )  # fmt: skip
                process = await asyncio.create_subprocess_exec(sys.executable, "-c", script, cwd=root)
                await process.wait()
                for held in Stockroom(tmp_path).held():
                    assert Stockroom(tmp_path).verified(held.name, held.sha256)
                    Stockroom(tmp_path).remove(held.name, held.sha256)  # and once more from the beginning
            async with new_session() as session:
                await Stockroom(tmp_path).fetch(session, url, PACKAGE, lambda d, w: None)
        finally:
            await runner.cleanup()

    asyncio.run(go())
    assert Stockroom(tmp_path).unfinished() == []
    assert Stockroom(tmp_path).verified("p.pkg", PACKAGE.sha256)
