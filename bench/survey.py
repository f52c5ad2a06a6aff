"""A survey of 3,000 Redfish nodes with 24 components each, to a bare client that makes the very same requests.

The nodes are a process of their own: every address in 127.60.0.0/16 on one port, with
answers made beforehand. The bare client logs in, asks for the same paths in the same order,
as many nodes at once, and throws the answers away. A third takes the survey itself with the
cleaning and the masking of texts left out: what being safe from a device's words costs.

    python bench/survey.py [NODES]
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import resource
import socket
import ssl
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import aiohttp
from short import asked_for, sized

from gallant.cli.ground.common import run
from gallant.core import records
from gallant.drivers.base import ProfiledDriver
from gallant.operations.ground import survey
from gallant.operations.ground.workplace import Workplace
from gallant.standin.certificates import self_signed

ROOT = "/redfish/v1"
COMPONENTS = 24
AT_ONCE = 32
ROUNDS = sized(6, 1)
SECRET = "bench-secret-word"


def address(number: int) -> str:
    return f"127.60.{number // 250}.{number % 250 + 1}"


# --- the nodes


def answers() -> dict[bytes, bytes]:
    """Each path's answer, without its head; SERIAL stands where a node's own is put."""

    def link(path: str) -> dict[str, str]:
        return {"@odata.id": f"{ROOT}/{path}"}

    status = {"State": "Enabled", "Health": "OK"}
    inventory = [
        {**link(f"UpdateService/FirmwareInventory/Part.{n}"), "Id": f"drive_{n}", "Name": f"Drive {n}", "Version": f"5.{n}", "Updateable": True, "Status": status}
        for n in range(COMPONENTS - 1)
    ]  # fmt: skip
    made = {
        f"{ROOT}/": {
            "Systems": link("Systems"),
            "Chassis": link("Chassis"),
            "Managers": link("Managers"),
            "UpdateService": link("UpdateService"),
            "Tasks": link("TaskService"),
            "Links": {"Sessions": link("SessionService/Sessions")},
            "ProtocolFeaturesSupported": {"ExpandQuery": {"NoLinks": True, "Levels": True}},
        },
        f"{ROOT}/Systems": {"Members": [link("Systems/1")]},
        f"{ROOT}/Systems/1": {
            "SerialNumber": "SERIAL", "Model": "Q4", "PartNumber": "Q4-2U", "BiosVersion": "1.8", "PowerState": "On",
            "LastResetTime": "2026-11-01T00:00:00Z", "Status": status, "MemorySummary": {"TotalSystemMemoryGiB": 512},
        },
        f"{ROOT}/Chassis": {"Members": [link("Chassis/1")]},
        f"{ROOT}/Chassis/1": {"Id": "1", "Status": status},
        f"{ROOT}/Managers": {"Members": [link("Managers/1")]},
        f"{ROOT}/Managers/1": {"FirmwareVersion": "3.1", "DateTime": "2026-11-25T00:00:00Z", "Status": status},
        f"{ROOT}/UpdateService": {"FirmwareInventory": link("UpdateService/FirmwareInventory")},
        f"{ROOT}/UpdateService/FirmwareInventory?$expand=.($levels=1)": {"Members": inventory},
        f"{ROOT}/TaskService": {"Tasks": link("TaskService/Tasks")},
        f"{ROOT}/TaskService/Tasks?$expand=.($levels=1)": {"Members": []},
    }  # fmt: skip
    return {path.encode(): json.dumps(body).encode() for path, body in made.items()}


class Node(asyncio.Protocol):
    made = answers()
    seen: set[str] = set()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport, self.heard = transport, b""
        first, last = map(int, transport.get_extra_info("sockname")[0].split(".")[2:])
        self.serial = f"Q4{first * 250 + last - 1:06d}".encode()

    def data_received(self, data: bytes) -> None:
        self.heard += data
        while (end := self.heard.find(b"\r\n\r\n")) >= 0:
            head = self.heard[:end]
            at = head.lower().find(b"content-length:")
            size = int(head[at + 15 :].split(b"\r\n", 1)[0]) if at >= 0 else 0
            if len(self.heard) < end + 4 + size:
                return
            self.heard = self.heard[end + 4 + size :]
            method, path, _ = head.split(b"\r\n", 1)[0].split(b" ")
            self.answer(method, path.replace(b"%24", b"$"))
            if b"connection: close" in head.lower():
                self.transport.close()

    def answer(self, method: bytes, path: bytes) -> None:
        more = b""
        if method == b"POST":
            status, body, more = (
                b"201 Created",
                b"{}",
                b"X-Auth-Token: t0ken-t0ken\r\nLocation: /redfish/v1/SessionService/Sessions/1\r\n",
            )
        elif method == b"DELETE":
            status, body = b"204 No Content", b""
        elif (known := self.made.get(path)) is not None:
            status, body = b"200 OK", known.replace(b"SERIAL", self.serial)
        else:
            status, body = b"404 Not Found", b"{}"
        self.transport.write(
            b"HTTP/1.1 "
            + status
            + b"\r\nContent-Type: application/json\r\n"
            + more
            + b"Content-Length: %d\r\n\r\n" % len(body)
            + body
        )


async def serve() -> None:
    context, fingerprint, _ = self_signed("farm", "127.60.0.1")
    server = await asyncio.get_running_loop().create_server(Node, "0.0.0.0", 0, ssl=context, backlog=4096)
    print(json.dumps({"port": server.sockets[0].getsockname()[1], "fingerprint": fingerprint}), flush=True)
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)
    server.close()


# --- the two clients

# The survey's own requests, in its order; the last one ends the session and the connection.
PATHS = [p.decode() for p in Node.made]


async def bare(nodes: int, port: int, fingerprint: str) -> None:
    pin = aiohttp.Fingerprint(bytes.fromhex(fingerprint.removeprefix("sha256:")))
    connector = aiohttp.TCPConnector(limit=0, limit_per_host=2, ssl=True)
    async with aiohttp.ClientSession(connector=connector, cookie_jar=aiohttp.DummyCookieJar()) as session:
        queue = iter(range(nodes))

        async def worker() -> None:
            for number in queue:
                base = f"https://{address(number)}:{port}"
                sent = {"json": {"UserName": "read", "Password": SECRET}}
                async with session.get(base + PATHS[0], ssl=pin) as answer:
                    await answer.read()
                async with session.post(f"{base}{ROOT}/SessionService/Sessions", ssl=pin, **sent) as answer:
                    headers = {"X-Auth-Token": answer.headers["X-Auth-Token"]}
                    await answer.read()
                for path in PATHS[1:]:
                    async with session.get(base + path, headers=headers, ssl=pin) as answer:
                        assert answer.status == 200, path
                        await answer.read()
                headers["Connection"] = "close"
                async with session.delete(
                    f"{base}{ROOT}/SessionService/Sessions/1", headers=headers, ssl=pin
                ) as answer:
                    await answer.read()

        await asyncio.gather(*(worker() for _ in range(AT_ONCE)))


def furnish(folder: Path, nodes: int, port: int, fingerprint: str) -> None:
    (folder / "secret").touch(0o600)
    (folder / "secret").write_text(SECRET)
    rows = "\n".join(
        f'  s{n}: {{product: quernix/q4, shape: single, site: x, driver: redfish, profile: quernix-q4, nodes: {{a: {{address: "https://{address(n)}:{port}", serial: "Q4{n:06d}", fingerprint: "{fingerprint}"}}}}}}'
        for n in range(nodes)
    )
    (folder / "estate.yaml").write_text(
        f'gallant: estate/1\nname: farm\nsites: {{x: {{}}}}\naccounts: {{read: {{user: read, secret: "file:secret"}}}}\n'
        f"limits: {{at_once: {AT_ONCE}}}\nsystems:\n{rows}\n"
    )


async def ours(place: Workplace) -> int:
    found = await survey.survey(place, [])
    assert found.exit_code == 0, next(n.error for n in found.nodes if n.error)
    assert len(found.nodes[0].reading.components) == COMPONENTS
    return len(found.nodes)


@contextlib.contextmanager
def trusting() -> Iterator[None]:
    """Texts are taken as they come. Every module has the functions by name, so that only their code is exchanged."""
    clean, printable, hidden = records.clean.__code__, records.printable.__code__, ProfiledDriver._hidden
    records.clean.__code__ = (lambda text, limit=500: text).__code__
    records.printable.__code__ = (lambda text: text).__code__
    ProfiledDriver._hidden = lambda self, fields: fields
    yield
    records.clean.__code__, records.printable.__code__, ProfiledDriver._hidden = clean, printable, hidden


def trusted(place: Workplace) -> None:
    with trusting():
        run(ours(place), many_nodes=True)


def main() -> None:
    nodes = asked_for(3000, 20)
    with socket.socket() as probe:
        probe.bind(("127.60.0.1", 0))
    assert ssl.HAS_TLSv1_3
    farm = subprocess.Popen(
        [sys.executable, __file__, "--serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    said = json.loads(farm.stdout.readline())
    try:
        with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
            folder = Path(name)
            furnish(folder, nodes, said["port"], said["fingerprint"])
            place = Workplace(folder)
            clients = {
                "bare": lambda: asyncio.run(bare(nodes, said["port"], said["fingerprint"])),
                "ours": lambda: run(ours(place), many_nodes=True),
                "trusting": lambda: trusted(place),
            }
            took: dict[str, list[float]] = {name: [] for name in clients}
            for number in range(ROUNDS):  # in turns, so that a machine that slows down does so for both
                for name in sorted(clients, reverse=number % 2 == 1):
                    began = time.perf_counter()
                    clients[name]()
                    took[name].append(time.perf_counter() - began)
    finally:
        farm.stdin.close()
        farm.wait()
    plain, full, unsafe = (statistics.median(took[name]) for name in ("bare", "ours", "trusting"))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"bare client            {plain:6.2f} s   ({nodes:,} nodes, {(len(PATHS) + 2) * nodes:,} requests)")
    print(f"survey, kept           {full:6.2f} s   ({nodes * COMPONENTS:,} components)")
    print(f"the same, trusting     {unsafe:6.2f} s   (no text cleaned, nothing masked)")
    print(f"memory at most         {memory:6.0f} MB  (goal: under 300)")
    print(f"ratio {full / plain:.2f} (survey to bare client; goal: 1.25)")
    print(f"ratio {full / unsafe:.2f} (survey to the same, trusting; goal: not to be told from 1)")


if __name__ == "__main__":
    asyncio.run(serve()) if sys.argv[1:] == ["--serve"] else main()
