"""The whole line: ten systems on six drivers, read, backed up and
looked at as a user would; what lives on what; secrets."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import json
import os
import re
from pathlib import Path

import pytest

from gallant.core.ports import Act, DeviceRefused
from gallant.core.readings import Reading
from gallant.operations.ground.workplace import Workplace


@pytest.fixture
def line(standins):
    return standins(whole=True)


def driving(place, system: str, work):
    """Run `work(driver, node)` with a system's driver, as an operation would have it."""

    async def go():
        workplace = Workplace(place.folder)
        async with workplace.drivers([workplace.estate.systems[system]]) as drivers:
            return await work(drivers[system])

    return asyncio.run(go())


def readings(place) -> dict[str, Reading]:
    return {name: last.reading for name, last in Workplace(place.folder).readings.newest().items()}


async def until(driver, node: str, handle: str | None):
    for _ in range(400):
        job = await driver.job(node, handle)
        if job.state != "running":
            return job
        await asyncio.sleep(0.05)
    raise AssertionError("the job never ended")


def test_all_of_it_is_read_and_the_first_moment_is_an_interesting_one(line):
    done = line.run("survey", "--json")
    assert done.code == 0, done.err
    assert len(done.rows) == 23
    found = readings(line)
    assert {n.partition("/")[0] for n, r in found.items() if r is not None} == {
        "tickets", "slipway", "overlook", "deck", "deck-hw", "tidegauge", "sealock", "gates", "manifest", "fulmar-box",
    }  # fmt: skip
    assert (found["slipway/a"].role, found["deck/c"].role, found["sealock/a"].role) == ("leader", "leader", "active")
    assert found["deck/b"].version == "31.2.1"
    assert {f.name: f.state for f in found["slipway/b"].facets}["running configuration"] == "unsaved"
    kernel = next(c for c in found["gates/a"].components if c.name == "kernel")
    assert kernel.next_version != kernel.version
    assert [c.enabled for c in found["manifest/a"].channels] == [True, False]
    assert found["deck/d"].gauge("free space") == pytest.approx(0.4 * 2**30)
    assert [(g.name, bool(g.tied)) for g in found["deck/a"].guests or ()] == [
        *((f"guest-a-{n}", False) for n in range(3)), ("overlook", True),
    ]  # fmt: skip
    assert "has no sessions: the account goes with every request" in found["deck-hw/e"].oddities
    checks = {(r["check"], r["node"]): r["level"] for r in line.run("check", "--json").rows if r["level"] != "pass"}
    assert checks["saved", "b"] == "warn"
    assert ("expiries", "a") in checks
    assert any(check == "roles" for check, _ in checks)


def test_every_system_is_backed_up_over_its_own_protocol(line):
    line.run("survey")
    for system in ("slipway", "overlook", "deck", "tidegauge", "sealock", "gates", "manifest"):
        done = line.run("backup", "take", system, "--json")
        assert done.code == 0, (system, done.err)
    held = {r["system"]: r["items"] for r in line.run("backup", "list", "--json").rows}
    assert set(held["gates"]) == {"etc.tar", "packages.txt", "selections.txt", "channels.txt"}
    assert set(held["slipway"]) == {"running.xml", "startup.xml"}
    assert set(held["sealock"]) == {"running.txt", "startup.txt"}
    assert line.run("backup", "verify", "--all").code == 0
    again = line.run("backup", "take", "slipway", "--json").rows[0]
    assert line.run("backup", "show", again["id"], "--json").rows[0]["shares_with"]  # nothing but the envelope is new
    assert line.run("backup", "diff", "slipway").code == 0


def test_no_secret_is_in_anything_that_was_written(line):
    secrets = [path.read_text().strip() for path in (line.folder / "secrets").iterdir()]
    said = ""
    for words in (
        ["survey", "-v"],
        ["inventory"],
        ["inventory", "sealock/a"],
        ["check"],
        ["backup", "take", "sealock"],
        ["gaps"],
        ["inventory", "--cyclonedx"],
    ):
        done = line.run(*words)
        said += done.out + done.err
    line.faults({"name": "refuse_login", "node": ""})
    done = line.run("survey", "--json")
    said += done.out + done.err
    assert done.code == 3
    for secret in secrets:
        assert secret not in said
    for folder, _, names in os.walk(line.folder):
        for name in names:
            path = Path(folder) / name
            if path.parent.name != "secrets":
                raw = path.read_bytes()
                assert not any(secret.encode() in raw for secret in secrets), path


def test_stopping_a_machine_stops_what_lives_on_it(line):
    line.run("survey")

    async def off(driver):
        await driver._reset("a", Act(kind="restart", reason="off"), ("ForceOff",))

    driving(line, "deck-hw", off)
    done = line.run("survey", "deck", "overlook", "--json")
    assert done.code == 3
    assert [f"{r['system']}/{r['node']}" for r in done.rows if not r["ok"]] == ["overlook/a", "deck/a"]


@pytest.mark.parametrize(
    ("system", "node", "acts"),
    [
        ("deck", "a", ("drain", "refill")),
        ("deck", "c", ("handover",)),
        ("tidegauge", "a", ("handover",)),
        ("slipway", "a", ("handover",)),
        ("sealock", "a", ("handover", "failback")),
        ("overlook", "a", ("restart",)),
    ],
)
def test_orders_are_taken_and_their_jobs_followed_over_every_protocol(line, system, node, acts):
    async def work(driver):
        ended = []
        for kind in acts:
            taken = await driver.act(node, Act(kind=kind, reason="a test"), send_by=driver.clock.real() + 9)
            assert taken.handle
            if kind == "restart":  # it is away before its job could be asked for
                await asyncio.sleep(1.0)
            ended.append((await until(driver, node, taken.handle)).state)
        return ended

    assert driving(line, system, work) == ["done"] * len(acts)


def test_a_host_installs_restarts_and_comes_back_with_what_waited(line):
    line.run("survey", "gates")

    async def work(driver):
        before = await driver.read("a")
        install = Act(kind="install", component="kissgate", release="1.3-1")
        taken = await driver.act("a", install, send_by=driver.clock.real() + 9)
        job = await until(driver, "a", taken.handle)
        await driver.act("a", Act(kind="restart", reason="a test"), send_by=driver.clock.real() + 9)
        for _ in range(200):
            await asyncio.sleep(0.1)
            try:
                after = await driver.read("a")
            except Exception:
                continue
            if after.boot != before.boot:
                return job, before, after
        raise AssertionError("it never came back")

    job, before, after = driving(line, "gates", work)
    assert job.state == "done"
    versions = [{c.name: c.version for c in r.components} for r in (before, after)]
    assert (versions[0]["kissgate"], versions[1]["kissgate"]) == ("1.2-1", "1.3-1")
    assert (versions[0]["kernel"], versions[1]["kernel"]) == ("74.2-3", "74.2-5")


@pytest.mark.parametrize(
    ("fault", "node", "words"),
    [
        ("expired_password", "deck/d", "the password has expired"),
        ("refuse_login", "sealock/b", "refuses the login"),
        ("swapped_machine", "slipway/a", "answers as serial WR-0000-XX"),
        ("swapped_machine", "deck-hw/b", "answers as serial Q4-0000-XX"),
        ("swapped_machine", "gates/a", "answers as serial 0000"),
        ("refuse_login", "slipway/b", "refuses the login"),
        ("refuse_login", "manifest/a", "refuses the login"),
    ],
)
def test_one_failing_node_stops_no_other_and_says_why(line, fault, node, words):
    line.faults({"name": fault, "node": node})
    done = line.run("survey", "--json")
    assert done.code in (3, 5)
    failed = [r for r in done.rows if not r["ok"]]
    assert [f"{r['system']}/{r['node']}" for r in failed] == [node]
    assert words in failed[0]["error"]


def test_an_application_is_updated_after_its_updater_and_its_data_are_taken_along(line):
    line.run("survey", "manifest")

    async def work(driver):
        before = await driver.read("a")
        soon = driver.clock.real() + 9
        taken = await driver.act(
            "a", Act(kind="install", component="manifest", release="2.5-1", reason="a test"), send_by=soon
        )
        await driver.done("a")  # the connection goes; the work does not
        job = await until(driver, "a", taken.handle)
        after = await driver.read("a")
        with pytest.raises(DeviceRefused) as wrong:
            await driver.act(
                "a", Act(kind="install", component="manifest", release="9.9"), send_by=driver.clock.real() + 9
            )
        return before, job, after, wrong.value

    before, job, after, refused = driving(line, "manifest", work)
    assert (job.state, job.message) == ("done", "configuration read again")
    parts = [{c.name: (c.kind, c.version) for c in r.components} for r in (before, after)]
    assert parts[0]["manifest-tools"][1] == "1.1-1"
    assert parts[1]["manifest-tools"][1] == "1.2-1"
    assert parts[1]["manifest"][1] == "2.5-1"
    assert (parts[0]["database"], parts[1]["database"]) == (
        ("on-disk format", "2026-03"),
        ("on-disk format", "2026-09"),
    )
    due = [{f.name: f.state for f in r.facets}["manifest reload"] for r in (before, after)]
    assert due == ["due", "none"]
    assert "there is no release 9.9" in str(refused)
    assert line.run("backup", "take", "manifest").code == 0
    held = line.run("backup", "list", "--json").rows[0]["items"]
    assert {"etc.tar", "data.tar", "database.sql"} <= set(held)


def test_a_firewall_gets_its_own_configuration_back_over_its_command_line(line, tmp_path):
    line.run("survey", "sealock")
    assert line.run("backup", "take", "sealock").code == 0
    saved = line.run("backup", "list", "--json").rows[0]["id"]
    other = tmp_path / "running.txt"
    other.write_text("unit b\nrule 1 allow everything\nend\n")
    body = other.read_bytes()

    async def change(driver):
        driver.tools.package_file = lambda name, sha256: other
        act = Act(kind="restore", package="running.txt", sha256=hashlib.sha256(body).hexdigest(), bytes=len(body))
        await driver.act("b", act, send_by=driver.clock.real() + 9)
        return {f.name: f.state for f in (await driver.read("b")).facets}

    assert driving(line, "sealock", change)["running configuration"] == "unsaved"
    rows = {r["item"]: r["what"] for r in line.run("backup", "diff", saved, "--json").rows}
    assert rows == {
        "b/running.txt": "changed",
        "a/running.txt": "same",
        "a/startup.txt": "same",
        "b/startup.txt": "same",
    }
    unnamed = line.run("backup", "restore", saved, "--yes")
    assert unnamed.code == 2
    assert "each node's own" in unnamed.err
    done = line.run("backup", "restore", saved, "--node", "sealock/b", "--yes")
    assert done.code == 0, done.err
    assert line.run("backup", "diff", saved).code == 0


@pytest.mark.parametrize(
    ("system", "node", "item", "old", "new"),
    [
        ("overlook", "a", "settings.json", '"s7": "7"', '"s7": "70"'),
        ("deck", "b", "settings.json", '"s7": "7"', '"s7": "70"'),
        ("tidegauge", "a", "settings.xml", ">7<", ">70<"),
        ("slipway", "a", "running.xml", "uplink-2", "uplink-3"),
        ("slipway", "b", "startup.xml", "uplink-2", "uplink-3"),
        ("fulmar-box", "a", "system.json", '"changed": "0"', '"changed": "3"'),
    ],
)
def test_a_system_gets_its_settings_back_over_its_own_protocol(line, tmp_path, system, node, item, old, new):
    line.run("survey", system)
    assert line.run("backup", "take", system).code == 0
    saved = line.run("backup", "list", system, "--json").rows[0]["id"]
    assert line.run("backup", "export", saved, str(tmp_path / "out")).code == 0
    (lying,) = [*(tmp_path / "out").glob(f"{node}/{item}"), *(tmp_path / "out").glob(f"*/{item}")][:1]
    changed = lying.read_text().replace(old, new)
    assert changed != lying.read_text()
    (tmp_path / "changed").write_text(changed)

    async def change(driver):
        driver.tools.package_file = lambda name, sha256: tmp_path / "changed"
        digest, size = hashlib.sha256(changed.encode()).hexdigest(), len(changed.encode())
        act = Act(kind="restore", package=item, sha256=digest, bytes=size)
        await driver.act(node, act, send_by=driver.clock.real() + 9)

    driving(line, system, change)
    rows = {r["item"]: r["what"] for r in line.run("backup", "diff", saved, "--json").rows}
    assert [name for name, what in rows.items() if what == "changed"] == [f"{lying.parent.name}/{item}"]
    done = line.run("backup", "restore", saved, "--node", f"{system}/{node}", "--yes")
    assert done.code == 0, done.err
    assert line.run("backup", "diff", saved).code == 0


@pytest.mark.parametrize(("system", "node"), [("tickets", "a"), ("deck", "a"), ("sealock", "a"), ("deck-hw", "a")])
def test_a_package_goes_to_a_node_past_its_sites_throttle_however_it_is_sent(line, tmp_path, system, node):
    body = os.urandom(300_000)
    (tmp_path / "p.pkg").write_bytes(body)

    class Counting:
        seen = 0

        async def let(self, count: int) -> None:
            self.seen += count

    async def send(driver):
        driver.tools.package_file, driver.tools.throttle = lambda name, sha256: tmp_path / "p.pkg", Counting()
        digest = hashlib.sha256(body).hexdigest()
        kind = "install" if system == "deck-hw" else "preload"
        act = Act(kind=kind, package="p.pkg", sha256=digest, bytes=len(body))
        with contextlib.suppress(DeviceRefused):  # these bytes are no release of theirs: after they were sent
            await driver.act(node, act, send_by=driver.clock.real() + 9)
        return driver.tools.throttle.seen

    assert driving(line, system, send) == len(body)


@pytest.mark.long
def test_switches_that_are_not_in_service_fetch_their_image_and_are_restarted_side_by_side(line):
    estate = (line.folder / "estate.yaml").read_text()
    head, _, systems = estate.partition("\nsystems:")
    (line.folder / "estate.yaml").write_text(
        head + "\nsystems:" + systems.replace("\n    product: ", "\n    in_service: no\n    product: ")
    )
    _follow_with_its_manager(line, "slipway")
    plan = re.search(r"plan-[0-9a-f]+", line.run("plan", "slipway", "--with-needed").out)[0]
    done = line.run("roll", plan)
    assert done.code == 0, done.out + done.err
    line.run("survey", "slipway")
    found = readings(line)
    assert {found[f"slipway/{n}"].version for n in "ab"} == {"62.1"}
    began = [row for row in done.err.splitlines() + done.out.splitlines() if "restart (62.1): begun" in row]
    assert len(began) == 2


def _follow_with_its_manager(line, system):
    for name in ("tarnholt", "sundholm"):
        url = line.said["publishers"][name]["url"]
        assert line.run("catalog", "add", name, url, "--key", f"keys/{name}.pub").code == 0
    for words in (["catalog", "sync"], ["survey"], ["stock", "fetch", system], ["stock", "fetch", "overlook"]):
        assert line.run(*words).code == 0, words
    for name in (f"{system}:image", "overlook:image"):
        assert line.run("notice", "accept", name).code == 0


@pytest.mark.long
def test_switches_and_the_manager_that_they_need_first_are_rolled_in_one_night(line):
    """Their manager overlook stands alone, and is a guest of deck."""
    _follow_with_its_manager(line, "slipway")
    alone = line.run("plan", "slipway")
    assert alone.code == 5
    assert "slipway on 62.1 needs overlook on 17.6 or later" in alone.err
    assert "gallant plan slipway --with-needed takes overlook along" in alone.err
    shown = line.run("plan", "slipway", "--with-needed").out
    assert re.search(r"waits for slipway 61\.5\s+and overlook 17\.6", shown), shown
    assert "Taken along, since the others need it first: overlook" in shown
    assert "overlook is down for about 5 min" in shown
    plan = re.search(r"plan-[0-9a-f]+", shown)[0]
    refused = line.run("roll", plan)
    assert (refused.code, "--consent downtime:overlook" in refused.err) == (5, True)
    done = line.run("roll", plan, "--consent", "downtime:overlook")
    assert done.code == 0, done.out + done.err
    found = readings(line)  # the roll itself keeps what it saw last
    assert {found[f"slipway/{n}"].version for n in "ab"} == {"62.1"}
    assert (found["overlook/a"].version, found["slipway/a"].role) == ("17.6", "leader")
    told = done.err + done.out
    assert told.index("overlook/a restart (17.6): done") < told.index("slipway/b install (62.1): begun")


@pytest.mark.long
def test_a_manager_is_not_taken_back_beside_a_roll_that_needs_its_release(line):
    """Neither plan breaks anything by itself: the switches do not run yet what needs the manager."""
    _follow_with_its_manager(line, "slipway")
    plan = re.search(r"plan-[0-9a-f]+", line.run("plan", "overlook").out)[0]
    assert line.run("roll", plan, "--consent", "downtime:overlook").code == 0
    plan = re.search(r"plan-[0-9a-f]+", line.run("plan", "slipway").out)[0]
    held = line.run("roll", plan, "--hold-after", "step")
    assert held.code == 4, held.out + held.err
    back = line.run("backout", "roll-0001")
    plan = re.search(r"plan-[0-9a-f]+", back.out)[0]
    consents = re.search(rf"gallant roll {plan}(.*)", back.out)[1].split()
    refused = line.run("roll", plan, *consents)
    assert refused.code == 5
    assert "roll-0002 is not finished, and beside it this could break a requirement" in refused.err
    assert "slipway on 62.1 needs overlook on 17.6 or later" in refused.err
    assert "gallant resume roll-0002 carries on" in refused.err


@pytest.mark.long
def test_hosts_of_a_quorum_are_emptied_updated_and_taken_back_one_after_the_other(line):
    """deck is a quorum of five hosts that carry guests."""
    _follow_with_its_manager(line, "deck")
    planned = line.run("plan", "deck", "--json")
    kinds = [r["kind"] for r in planned.rows if (r["system"], r["node"]) == ("deck", "b")]
    assert kinds == ["preload", "drain", "install", "restart", "refill", "steady"]
    shown = line.run("plan", "deck").out
    plan = re.search(r"plan-[0-9a-f]+", shown)[0]
    assert "overlook cannot move from deck/a (its own disk is on this host), and is down for about 22 min" in shown
    assert (
        "guest-d-1 cannot move from deck/d (pinned: it uses a card of its host), and is down for about 22 min" in shown
    )
    assert "overlook is down for about 22 min in all" in shown
    [rehearsed] = line.run("rehearse", plan, "--runs", "60", "--json").rows
    assert rehearsed["down_s"]["overlook"][0] == pytest.approx(22 * 60, rel=0.35)
    done = line.run("roll", plan, "--consent", "downtime:overlook")  # a guest of it
    assert done.code == 0, done.out + done.err
    assert re.search(r"deck guests: 18 run → all 18 run, \d+ elsewhere", done.out), done.out
    [down] = line.run("history", "--json").rows[0]["downs"]
    assert (down["system"], down["planned_s"], down["by"]) == ("overlook", 22 * 60, "its own address")
    assert 4 * 60 < down["seen_s"] < 22 * 60  # until its host is back, and it has started
    assert "- overlook was down for" in line.run("report").out
    found = readings(line)
    assert {found[f"deck/{n}"].version for n in "abcde"} == {"31.5"}
    assert found["deck/a"].role == "leader"
    told = done.err + done.out
    for node in "abcde":  # each is emptied first and taken back last
        steps = [told.index(f"deck/{node} {kind} (31.5): done") for kind in ("drain", "install", "restart", "refill")]
        assert steps == sorted(steps)


def test_a_switch_that_says_saved_or_restored_and_is_not_is_told_by_what_it_shows(line):
    assert line.run("survey", "slipway").code == 0
    assert line.run("backup", "take", "slipway").code == 0
    saved = line.run("backup", "list", "slipway", "--json").rows[0]["id"]
    line.faults({"name": "empty_word", "node": "slipway/b", "act": "save"})
    mended = line.run("check", "--mend", "--only", "saved", "slipway", "--yes")
    assert "slipway/b took the order to save, and runs something else than it would start with" in mended.out
    line.faults()
    mended = line.run("check", "--mend", "--only", "saved", "slipway", "--yes")
    assert "slipway/b starts with what it runs" in mended.out
    line.faults({"name": "empty_word", "node": "slipway/b", "act": "save"})  # so that startup stays as it is now
    restored = line.run("backup", "restore", saved, "--node", "slipway/b", "--yes")
    assert restored.code == 4
    assert "took startup.xml" in restored.out
    assert "port-9" in restored.out
    entry = next(e for e in line.run("ledger", "--json").rows if e["kind"] == "restore" and e["state"] == "failed")
    assert "exports startup.xml otherwise" in entry["reason"]


def test_of_three_layers_the_two_lowest_share_their_restarts_and_no_hop_waits_in_a_circle(standins):
    line = standins(whole=True)
    line.read_all()
    planned = line.run("plan", "overlook", "deck", "deck-hw", "slipway", "--json")
    assert planned.code in (0, 1), planned.err
    lanes = json.loads((line.folder / planned.json["path"]).read_text())["lanes"]
    needs = {hop["id"]: set(hop.get("needs", ())) for lane in lanes for hop in lane["hops"]}
    assert needs["deck-hw.1"] >= {"deck.1.laid"}
    assert "overlook.1" in needs  # whole: it shares nothing
    for _ in needs:  # what waits for nothing that is left can be done
        done = [name for name, waits in needs.items() if not waits & needs.keys()]
        needs = {name: waits for name, waits in needs.items() if name not in done}
    assert needs == {}


def test_where_an_order_to_one_member_reaches_all_of_them_only_the_order_that_is_for_all_is_planned(line):
    line.follow_catalog()
    assert line.run("survey", "tidegauge").code == 0
    line.faults(*({"name": "unwell", "node": f"tidegauge/{n}", "act": "orders"} for n in "abc"))
    assert "tidegauge brings its nodes to a release by itself" in line.run("plan", "tidegauge", "--only", "image").out
    refused = line.run("plan", "tidegauge")
    assert (refused.code, "An order to one node of tidegauge reaches all of them" in refused.err) == (5, True)


@pytest.mark.long
def test_an_archive_that_updates_its_own_members_stands_still_at_a_hold_and_goes_on_after_it(line):
    line.follow_catalog()
    for words in (["survey", "tidegauge"], ["stock", "fetch", "tidegauge"]):
        assert line.run(*words).code == 0, words
    for row in line.run("notice", "list", "tidegauge", "--json").rows:
        line.run("notice", "accept", row["name"])
    shown = line.run("plan", "tidegauge", "--only", "image")
    assert "tidegauge brings its nodes to a release by itself" in shown.out, shown.err
    assert "it is told to pause between two nodes" in shown.out
    refused = line.run("plan", "tidegauge/b", "--only", "image")
    assert (refused.code, "updates all of its nodes by one order" in refused.err) == (5, True)
    roll = line.begin("roll", re.search(r"plan-[0-9a-f]+", shown.out)[0])

    def asked_for_all() -> bool:
        return any(e.kind == "accepted" and e.step.endswith("update_all") for e in line.entries())

    line.wait_for(asked_for_all, roll)
    assert line.run("hold").code == 0
    out, err = roll.communicate(timeout=120)
    assert (roll.returncode, "tidegauge is held at a safe stop: asked for by" in out) == (4, True), out + err
    assert "told to pause: asked for by" in err
    line.run("survey", "tidegauge")
    assert sorted(r.version for n, r in readings(line).items() if n.startswith("tidegauge/")) != ["5.1"] * 3
    done = line.run("resume", "roll-0001")
    assert (done.code, "tidegauge runs 5.1 on every node" in done.out) == (0, True), done.out + done.err
    told = [e.message.partition(":")[0] for e in line.entries() if e.kind == "told"]
    assert told == ["told to pause", "told to go on"]
    given = [e for e in line.entries() if e.kind == "intent" and e.step.endswith("update_all")]
    assert len(given) == 1
