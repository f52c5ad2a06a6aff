"""The redfish driver against a modern service, an old one, and answers that are odd."""

from __future__ import annotations

import asyncio
import hashlib
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from pathlib import Path

import pytest
from aiohttp import web

from gallant.core.errors import GallantError
from gallant.core.estate.reading import parse_estate
from gallant.core.ports import Act, DeviceRefused, LoginRefused, WrongMachine
from gallant.drivers.http.driver import new_session
from gallant.drivers.profile_reading import load_profile
from gallant.drivers.redfish.driver import RedfishDriver
from gallant.drivers.tools import Credential, Tools
from gallant.operations.ground.clock import EstateClock
from gallant.standin.certificates import self_signed
from gallant.standin.ports import reserve
from gallant.standin.quernix import Firmware, Server
from gallant.standin.quernix_redfish import RedfishServer
from gallant.standin.world import Fault, World

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
systems:
  rack:
    product: quernix/q4
    shape: pool
    site: s
    driver: redfish
    profile: quernix-q4
    nodes: {{a: {{address: "https://127.0.0.1:{port}", serial: {serial}, fingerprint: "{fingerprint}"}}}}
"""
IMAGE = b"firmware of the controller, 3.2"
VERSIONS = {
    "base_image": "2026.1",
    "bios": "0.46",
    "controller": "3.1",
    "card_1": "5.16",
    "card_2": "5.20",
} | {f"drive_{n}": "D3F7" for n in range(20)}


class Memory:
    def __init__(self) -> None:
        self.kept: dict = {}

    def recall(self, node, call):
        return self.kept.get((node, call))

    def remember(self, node, call, tag, fields):
        self.kept[node, call] = (tag, fields)


@asynccontextmanager
async def rack(old=False, serial="Q4-1", secret="s3cret-word", tools=None, **faults):
    """A server's service and the driver in front of it; gives both."""
    world = World(datetime(2026, 11, 25, tzinfo=UTC), 1.0)
    world.faults = [Fault(name=name, value=value) for name, value in faults.items()]
    firmware = Firmware(component="controller", version="3.2", sha256=hashlib.sha256(IMAGE).hexdigest())
    server = Server(world, "rack/a", "Q4-1", VERSIONS, {firmware.sha256: firmware})
    context, fingerprint, _ = self_signed("rack", "127.0.0.1")
    keeper, port = reserve("127.0.0.1")
    accounts = {"read": "s3cret-word", "act": "s3cret-word"}
    service = RedfishServer(server, "127.0.0.1", port, context, accounts, lambda: None, old)
    await service.start()
    estate = parse_estate("e", ESTATE.format(port=port, serial=serial, fingerprint=fingerprint))
    try:
        async with new_session() as session:
            made = Tools(
                credentials=lambda purpose: Credential(purpose, secret),
                clock=EstateClock(estate),
                session=session,
                **(tools or {}),
            )
            driver = RedfishDriver(estate.systems["rack"], load_profile("quernix-q4", Path()), made)
            yield driver, service
            await driver.close()
    finally:
        await service.stop()
        keeper.close()


def reading(**options):
    async def go():
        async with rack(**options) as (driver, service):
            return await driver.read("a"), service

    return asyncio.run(go())


def test_everything_is_found_by_links_and_the_inventory_in_one_expanded_request():
    found, service = reading()
    assert (found.serial, found.model, found.part_number, found.version) == ("Q4-1", "Q4", "Q4-2U-24", "2026.1")
    assert (found.state, found.role, found.oddities) == ("in_service", "member", ())
    parts = {c.name: (c.kind, c.product, c.version) for c in found.components}
    assert parts["bios"] == ("BIOS", "quernix/q4-bios", "0.46")
    assert parts["nic-2"] == ("NIC", "quernix/n25", "5.20")
    assert len(parts) == 25
    assert abs(found.clock_offset_s) < 86400 * 400
    assert sum("FirmwareInventory" in r for r in service.requests) == 1
    assert service.requests[-1].startswith("DELETE /redfish/v1/SessionService/Sessions/")


def test_a_piece_of_hardware_says_who_it_is_where_the_inventory_leads_to_it():
    found, _ = reading()
    parts = {c.name: (c.serial, c.model, c.part_number) for c in found.components}
    assert parts["nic-1"] == ("Q4-1-C1", "N25", "N25-2P")
    assert parts["disk-19"] == ("Q4-1-D19", "D3 1920", "D3-1920-S")
    assert parts["bios"] == parts["image"] == (None, None, None)
    assert len({serial for serial, *_ in parts.values() if serial}) == 22


def test_pieces_that_cannot_be_had_or_lead_elsewhere_cost_nothing_but_their_serials():
    def odd(every):
        def resources(request):
            found = every(request)
            rows = found["/redfish/v1/UpdateService/FirmwareInventory"]["Members"]
            rows[4]["RelatedItem"] = [{"@odata.id": "https://elsewhere.example/redfish/v1/x"}]
            rows[5]["RelatedItem"] = [{"@odata.id": "/redfish/v1/a"}, {"@odata.id": "/redfish/v1/b"}]
            rows[6]["RelatedItem"] = {"@odata.id": "/redfish/v1/a"}
            rows[7]["RelatedItem"] = "a"
            del found["/redfish/v1/Chassis/1/NetworkAdapters/1"]
            return found

        return resources

    async def go():
        async with rack() as (driver, service):
            service._resources = odd(service._resources)
            return await driver.read("a"), service.requests

    found, requests = asyncio.run(go())
    assert len(found.components) == 25
    assert {c.name for c in found.components if c.serial} == {f"disk-{n}" for n in range(3, 20)}
    assert not any("elsewhere" in request for request in requests)
    assert any("elsewhere.example" in oddity for oddity in found.oddities)


def test_an_old_service_is_read_member_by_member_and_its_oddities_are_told():
    found, service = reading(old=True)
    assert (found.serial, found.part_number, len(found.components)) == ("Q4-1", None, 25)
    assert "has no sessions: the account goes with every request" in found.oddities
    assert "spells SerialNumber as serialNumber" in found.oddities
    assert sum("$skip=" in r for r in service.requests) == 2  # three pages of ten
    assert found.jobs == ()


def test_what_a_service_refuses_is_not_asked_for_a_second_time():
    async def go():
        async with rack(old=True) as (driver, service):
            every = service._resources
            service._resources = lambda request: {k: v for k, v in every(request).items() if not k.endswith("drive_7")}
            return await driver.read("a"), service.requests

    found, requests = asyncio.run(go())
    assert "lists /redfish/v1/UpdateService/FirmwareInventory/drive_7 and does not give it" in found.oddities
    assert sum(r.endswith("drive_7") for r in requests) == 1
    again = {
        "GET /redfish/v1/",
        "GET /redfish/v1/Managers",
    }  # the root is read anew each time, and one try shows the account
    assert {r for r in requests if requests.count(r) > 1} <= again


def test_a_second_reading_asks_for_the_inventory_only_if_it_changed():
    memory, sizes = Memory(), []

    async def go():
        async with rack(tools={"memory": memory}) as (driver, service):
            for _ in range(2):
                sizes.append(len((await driver.read("a")).components))
            service.server.running["bios"] = "0.51"
            found = await driver.read("a")
            return next(c.version for c in found.components if c.name == "bios")

    assert asyncio.run(go()) == "0.51"
    assert sizes == [25, 25]
    assert any("$expand" in call for _, call in memory.kept)


def test_an_install_is_pushed_and_its_task_followed_to_the_next_start(tmp_path):
    package = tmp_path / "p"
    package.write_bytes(IMAGE)

    async def go():
        async with rack(tools={"package_file": lambda name, sha256: package}) as (driver, service):
            world, server = service.server.world, service.server
            act = Act(kind="install", package="p", sha256=hashlib.sha256(IMAGE).hexdigest(), bytes=len(IMAGE))
            shares = []
            taken = await driver.act("a", act, send_by=driver.clock.real() + 9, progress=lambda s, _: shares.append(s))
            world.advance(90)
            half = await driver.job("a", taken.handle)
            world.advance(200)
            done = await driver.job("a", taken.handle)
            listed = (await driver.read("a")).jobs
            before = (await driver.read("a")).boot
            restart = await driver.act("a", Act(kind="restart"), send_by=driver.clock.real() + 9)
            world.advance(210)
            off = (await driver.read("a")).state
            world.advance(2000)
            after = await driver.read("a")
            return half, done, listed, shares, off, restart.handle, before != after.boot, server.running["controller"]

    half, done, listed, shares, off, handle, restarted, version = asyncio.run(go())
    assert (half.state, half.percent, half.kind) == ("running", 50, "install")
    assert (done.state, done.percent) == ("done", 100)
    assert [j.id for j in listed] == [done.id]
    assert shares[-1] == 100
    assert (off, restarted, version) == ("out_of_service", True, "3.2")
    assert handle == "/redfish/v1/TaskService/Tasks/2"


def test_a_task_is_followed_by_its_monitor_where_nothing_else_is_known():
    async def go():
        async with rack() as (driver, service):
            service.server.reset("ForceRestart")
            running = await driver.job("a", "/redfish/v1/TaskService/Tasks/1/monitor")
            service.server.world.advance(1000)
            return running.state, (await driver.job("a", "/redfish/v1/TaskService/Tasks/1/monitor")).state

    assert asyncio.run(go()) == ("running", "done")


def test_an_old_service_fetches_the_package_itself(tmp_path):
    package = tmp_path / "p"
    package.write_bytes(IMAGE)

    @asynccontextmanager
    async def serving(host, path):
        async def give(request):
            return web.FileResponse(path)

        app = web.Application()
        app.router.add_get("/x", give)
        runner = web.AppRunner(app)
        await runner.setup()
        keeper, port = reserve("127.0.0.1")
        keeper.close()
        await web.TCPSite(runner, "127.0.0.1", port).start()
        yield f"http://127.0.0.1:{port}/x"
        await runner.cleanup()

    async def go():
        tools = {"package_file": lambda name, sha256: package, "serving": serving}
        async with rack(old=True, tools=tools) as (driver, service):
            act = Act(kind="install", package="p", sha256=hashlib.sha256(IMAGE).hexdigest(), bytes=1)
            await driver.act("a", act, send_by=driver.clock.real() + 9)
            service.server.world.advance(1000)
            return service.server.running["controller"]

    assert asyncio.run(go()) == "3.2"


def refusal(kind: type[GallantError], what, **options) -> str:
    async def go():
        async with rack(**options) as (driver, _):
            return await what(driver)

    with pytest.raises(kind) as caught:
        asyncio.run(go())
    return f"{caught.value.what} {caught.value.why or ''}"


def test_refusals_are_readable_and_show_no_secret(tmp_path):
    package = tmp_path / "p"
    package.write_bytes(other := b"not a firmware")
    tools = {"package_file": lambda name, sha256: package}
    install = Act(kind="install", package="p", sha256=hashlib.sha256(other).hexdigest(), bytes=14)

    async def read(driver):
        await driver.read("a")

    async def act(driver):
        await driver.act("a", install, send_by=driver.clock.real() + 9)

    said = refusal(LoginRefused, read, secret="wr0ng-word")
    assert "The user or the password is wrong. Look at both." in said
    assert "wr0ng-word" not in said
    said = refusal(DeviceRefused, act, tools=tools)
    assert "The image is not signed for this model. Use the publisher's." in said
    assert "serial Q4-1; the estate says Q4-9" in refusal(WrongMachine, read, serial="Q4-9")
    assert "rack/a" in refusal(LoginRefused, read, refuse_login=0)


def test_of_several_systems_behind_one_service_the_one_with_the_estates_serial_is_read_and_restarted():
    async def go(serial: str):
        async with rack(serial=serial) as (driver, service):
            own = service._resources

            def several(request):
                found = own(request)
                first = found["/redfish/v1/Systems/1"]
                reset = {"#ComputerSystem.Reset": {"target": "/redfish/v1/Systems/2/reset"}}
                second = {**first, "@odata.id": "/redfish/v1/Systems/2", "SerialNumber": "Q4-2", "Actions": reset}
                members = [{"@odata.id": s["@odata.id"]} for s in (first, second)]
                collection = {"Members": members, "Members@odata.count": 2}
                return found | {"/redfish/v1/Systems": collection, second["@odata.id"]: second}

            service._resources = several
            read = await driver.read("a")
            with pytest.raises(DeviceRefused):  # the stand-in has no such action; what counts is who was asked
                await driver.act("a", Act(kind="restart"), send_by=driver.clock.real() + 9)
            return read, service.server.tasks

    read, tasks = asyncio.run(go("Q4-2"))
    assert (read.serial, read.oddities, tasks) == ("Q4-2", (), [])
    with pytest.raises(WrongMachine):
        asyncio.run(go("Q4-3"))
