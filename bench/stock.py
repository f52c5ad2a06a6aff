"""Fetching and verifying a package, to a bare download of it followed by `sha256sum`, side by side.

The publisher is a process of its own on loopback. The bare download is the same HTTP client writing what comes into a
file; `sha256sum` then reads it again, as a person would do by hand.

    python bench/stock.py [MEGABYTES]
"""

from __future__ import annotations

import asyncio
import hashlib
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import aiohttp
from short import asked_for, sized

from gallant.core.catalog.products import Package
from gallant.drivers.http.driver import new_session
from gallant.stock.stockroom import Stockroom

ROUNDS = sized(7, 1)
CHUNK = 256 * 1024


async def bare(url: str, path: Path) -> None:
    async with aiohttp.ClientSession() as session, session.get(url) as answer:
        with path.open("wb") as file:
            async for chunk in answer.content.iter_chunked(CHUNK):
                file.write(chunk)
    done = subprocess.run(["sha256sum", str(path)], capture_output=True, check=True)
    assert len(done.stdout.split()[0]) == 64


async def ours(url: str, folder: Path, package: Package) -> None:
    async with new_session() as session:
        await Stockroom(folder).fetch(session, url, package, lambda done, whole: None)


async def publish(folder: str, port: int) -> None:
    from aiohttp import web

    app = web.Application()
    app.router.add_static("/", folder)
    runner = web.AppRunner(app, access_log=None)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", port).start()
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)


def main() -> None:
    if shutil.which("sha256sum") is None:
        sys.exit("missing here: sha256sum")
    megabytes = asked_for(300, 8)
    with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
        folder = Path(name)
        (folder / "pub").mkdir()
        body = folder / "pub" / "p.pkg"
        digest = hashlib.sha256()
        with body.open("wb") as file:
            for number in range(megabytes):
                piece = hashlib.sha512(str(number).encode()).digest() * (1_000_000 // 64)
                digest.update(piece)
                file.write(piece)
        package = Package(name="p.pkg", url="p.pkg", bytes=body.stat().st_size, sha256=digest.hexdigest())
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        server = subprocess.Popen(
            [sys.executable, __file__, "--publish", str(folder / "pub"), str(port)], stdin=subprocess.PIPE
        )
        url = f"http://127.0.0.1:{port}/p.pkg"
        took: dict[str, list[float]] = {"bare": [], "ours": []}
        try:
            for _ in range(200):
                with socket.socket() as probe:
                    if probe.connect_ex(("127.0.0.1", port)) == 0:
                        break
                time.sleep(0.05)
            for number in range(ROUNDS):
                for what in ("bare", "ours") if number % 2 else ("ours", "bare"):
                    out = folder / f"{what}{number}"
                    out.mkdir()
                    began = time.perf_counter()
                    asyncio.run(ours(url, out, package) if what == "ours" else bare(url, out / "p.pkg"))
                    took[what].append(time.perf_counter() - began)
                    shutil.rmtree(out)
        finally:
            assert server.stdin is not None
            server.stdin.close()
            server.wait()
    plain, full = statistics.median(took["bare"]), statistics.median(took["ours"])
    print(f"download, sha256sum    {plain:6.2f} s   {megabytes / plain:6.0f} MB/s")
    print(f"fetched, verified      {full:6.2f} s   {megabytes / full:6.0f} MB/s")
    print(f"ratio {plain / full:.2f} (our speed to the bare way's; goal: over 0.85)")


if __name__ == "__main__":
    asyncio.run(publish(sys.argv[2], int(sys.argv[3]))) if sys.argv[1:2] == ["--publish"] else main()
