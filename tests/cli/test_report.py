"""After the work: before against after, the change record, filters, and what pipelines and collectors read."""

from __future__ import annotations

import http.client
import json
import re
import socket
import subprocess
import sys
import urllib.request
import zipfile
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree as Xml

import pytest
from lxml import html
from prometheus_client.openmetrics.parser import text_string_to_metric_families as families

from gallant.operations.ground.workplace import Workplace

from ..conftest import Place
from ..pages import problems


@pytest.fixture(scope="module")
def rolled(tmp_path_factory) -> Place:
    """A pair that was brought to its aim while it lost a path to somewhere."""
    from ..conftest import starting

    for make in starting.__wrapped__(tmp_path_factory.mktemp("report")):
        place = make()
        plan = place.make_ready()
        first = place.run("verify", "tickets", "--keep", "at-first", "--json")
        assert first.code == 1  # it is behind
        assert {"hop", "backup"} <= {one["about"] for one in first.json["still"]}
        done = place.run("roll", plan)
        assert done.code == 0, done.err
        yield place


def words(text: str) -> str:
    return " ".join(html.fromstring(text).text_content().split())


def test_a_roll_keeps_how_it_was_and_nothing_of_it_is_lost(rolled):
    done = rolled.run("verify", "tickets", "--json")
    assert done.code == 0, done.out
    assert done.json["against"] == "roll-0001.before"
    assert {one["means"] for one in done.json["unlike"]} <= {"planned", "better", "other"}
    moved = {one["about"]: (one["before"], one["after"]) for one in done.json["unlike"] if one["means"] == "planned"}
    assert moved["its version"] == ("2.8.5", "3.2.4")
    shown = rolled.run("verify", "tickets", COLUMNS="200").out
    assert "Nothing of 1 system is lost against how it was before roll-0001" in shown


def test_a_picture_is_kept_under_a_name_and_compared_with(rolled):
    against = rolled.run("verify", "--against", "at-first", "--json")
    assert against.json["against"] == "at-first"
    assert rolled.run("verify", "--against", "at-frist").code == 2
    assert rolled.run("verify", "--keep", "../out").code == 2
    assert rolled.run("verify", "--keep", "now").code == 0


LOSSES = {
    "path 2": {"name": "unwell", "node": "tickets/b", "act": "path 2"},
    "its alarm": {"name": "alarm", "node": "tickets/b"},
    "an answer": {"name": "swapped_machine", "node": "tickets/b"},
}


@pytest.mark.parametrize("about", LOSSES)
def test_what_is_lost_after_a_roll_is_named_with_since_when(rolled, about):
    rolled.faults(LOSSES[about])
    try:
        first = rolled.run("verify", "tickets", "--json")
        again = rolled.run("verify", "tickets", "--json")
    finally:
        rolled.faults()
    lost = {one["about"]: one["since"] for one in first.json["unlike"] if one["means"] == "lost"}
    assert (first.code, about in lost) == (1, True), first.json["unlike"]
    assert lost.items() <= {one["about"]: one["since"] for one in again.json["unlike"]}.items()
    assert rolled.run("verify", "tickets").code == 0


WORSE = {
    "running out": {"name": "leaks", "node": "tickets/b", "value": 150_000},
    "slower": {"name": "slow_answers", "node": "tickets/b", "value": 0.25},
}


@pytest.mark.parametrize("state", WORSE)
def test_what_is_not_settled_after_a_roll_is_named_with_how_long_it_takes(rolled, state):
    rolled.faults(WORSE[state])
    try:
        done = rolled.run(
            "verify",
            "tickets",
            "--settle",
            "15m" if state == "running out" else "1m",
            "--figure",
            "settle.png",
            "--json",
        )
        told_too = state == "running out"
        if told_too:
            rolled.faults()
            assert rolled.run("survey", "tickets").code == 0  # it leaks anew from here: what is gone runs out no more
            rolled.faults(WORSE[state])
        shown = (
            rolled.run("verify", "tickets", "--settle", "15m", "--tell", "--against", "roll-0001") if told_too else None
        )
    finally:
        rolled.faults()
    worst = done.json["settling"]["judged"][0]
    assert (done.code, worst["state"]) == (1, state), done.json["settling"]["judged"]
    assert (worst["wait_s"] is not None) is (state == "running out")
    assert (rolled.folder / "settle.png").read_bytes()[:4] == b"\x89PNG"
    if shown is None:
        return
    assert shown.code == 1
    assert state in shown.out
    [told] = [row for row in rolled.run("ledger", "--json").rows if row["kind"] == "verify"][:1]
    assert (told["subject"], told["state"]) == ("roll-0001", "failed")
    assert state in told["reason"]
    assert rolled.run("report", "roll-0001", "--json").code == 1


def test_what_is_settled_says_so_and_a_length_that_tells_nothing_is_refused(rolled):
    done = rolled.run("verify", "tickets", "--settle", "5m", "--tell", "--against", "roll-0001", COLUMNS="200")
    assert done.code == 0, done.out
    assert "Settled: " in done.out
    assert rolled.run("verify", "tickets", "--settle", "5s").code == 2
    assert rolled.run("verify", "tickets", "--figure", "x.png").code == 2
    assert rolled.run("report", "roll-0001", "--json").code == 0


def test_what_is_still_wanted_is_said_and_ends_when_it_is_done(rolled):
    about = {one["about"] for one in rolled.run("verify", "tickets", "--json").json["still"]}
    assert {"backup", "package"} <= about
    done = rolled.run("verify", "tickets", "--backup", "--json")
    assert done.json["backups"][0]["error"] is None
    assert "backup" not in {one["about"] for one in done.json["still"]}
    assert rolled.run("stock", "prune", "--yes").code == 0
    assert [o for o in rolled.run("verify", "tickets", "--json").json["still"] if o["about"] == "package"] == []


def test_a_roll_that_finished_closes_its_notices_with_its_name(rolled):
    closed = [row for row in rolled.run("ledger", "--json").rows if row["kind"] == "close"]
    assert ("tickets:image", "3.2.4", "roll-0001") in [(row["subject"], row["target"], row["reason"]) for row in closed]
    listed = {row["name"]: row for row in rolled.run("notice", "list", "tickets", "--all", "--json").rows}
    assert (listed["tickets:image"]["state"], listed["tickets:image"]["roll"]) == ("done", "roll-0001")


def test_the_record_of_a_roll_says_what_was_done_as_a_page_as_markdown_and_as_data(rolled):
    done = rolled.run("report", "roll-0001", "--html", "r.html", "--markdown", "r.md")
    assert done.code in (0, 1), done.err
    page = (rolled.folder / "r.html").read_text()
    said, text = words(page), (rolled.folder / "r.md").read_text()
    data = rolled.run("report", "roll-0001", "--json").rows[0]
    assert data["state"] == "finished"
    assert data["steps"]
    for needed in (
        "roll-0001",
        "2.8.5 → 2.11.3 → 3.2.4",
        data["plan"],
        "gallant verify tickets",
        "Before against after",
        "accept tickets:image",
    ):
        assert needed in said, needed
        assert needed.replace("_", r"\_") in text, needed
    tree = html.fromstring(page)
    outages = tree.xpath("//table[caption[starts-with(., 'Each time that a service')]]/tbody/tr")
    assert len(outages) == len(data["outages"]) > 0
    assert problems(page) == []
    rolled.run("report", "--since", "400d", "--html", "m.html")
    assert problems((rolled.folder / "m.html").read_text()) == []


def test_the_morning_after_has_every_roll_and_the_unhappy_ones_first(rolled):
    morning = rolled.run("report", "--since", "400d", "--json")
    assert [row["roll"] for row in morning.rows] == ["roll-0001"]
    assert morning.json["totals"]["states"] == {"finished": 1}
    assert "what was done" in rolled.run("report", "--since", "400d").out
    assert rolled.run("report", "roll-0001", "--since", "1h").code == 2
    assert rolled.run("report", "roll-0077").code == 2
    assert rolled.run("report").code in (0, 1)


def test_history_is_narrowed_and_summed(rolled):
    assert (
        len(rolled.run("history", "--system", "tickets", "--since", "400d", "--state", "finished", "--json").rows) == 1
    )
    assert rolled.run("history", "--state", "stopped", "--json").rows == []
    assert rolled.run("history", "--system", "tikets").code == 2
    assert "No roll is all of that." in rolled.run("history", "--state", "held").out
    totals = rolled.run("history", "--json").json["totals"]
    assert totals["states"] == {"finished": 1}
    assert totals["outages"][0]["outages"] >= 1


@pytest.mark.parametrize("command", [("check",), ("verify",), ("gaps",)])
def test_findings_are_written_for_a_pipeline(rolled, command):
    done = rolled.run(*command, "--junit", "found.xml")
    assert done.code in (0, 1)
    root = Xml.parse(rolled.folder / "found.xml").getroot()
    [suite] = root.findall("testsuite")
    cases = suite.findall("testcase")
    assert (int(suite.get("tests")), bool(cases)) == (len(cases), True)
    failures = [case for case in cases if case.find("failure") is not None]
    assert int(suite.get("failures")) == len(failures)
    assert bool(failures) is (done.code == 1)
    assert rolled.run(*command, "--junit", "nowhere/found.xml").code == 4


def test_no_sign_that_xml_forbids_comes_through(tmp_path):
    from datetime import UTC, datetime

    from gallant.views.ground.junit import Case, write_junit

    path = tmp_path / "x.xml"
    write_junit(
        path,
        "s",
        [Case(of="a\0b", name="c\x1bd\ufffe", failed='<&"\x07', kind="stop")],
        datetime(2026, 1, 1, tzinfo=UTC),
    )
    Xml.parse(path)


def test_a_collector_reads_the_figures_with_the_formats_own_parser(rolled):
    done = rolled.run("metrics")
    found = {family.name: family for family in families(done.out)}
    assert {"gallant_rolls", "gallant_outage_seconds", "gallant_catalog_age_seconds", "gallant_systems_behind"} <= set(
        found
    )
    states = {s.labels["state"]: s.value for s in found["gallant_rolls"].samples}
    assert states["finished"] == 1
    assert rolled.run("metrics", "--file", "figures.txt").code == 0
    assert families((rolled.folder / "figures.txt").read_text())
    rows = json.loads(rolled.run("metrics", "--json").out)["rows"]
    assert any(row["name"] == "gallant_outage_seconds_total" and row["value"] > 0 for row in rows)


def test_figures_are_served_on_this_machine_alone(rolled):
    with_port = subprocess.Popen(
        [sys.executable, "-c", "import socket; s=socket.socket(); s.bind(('127.0.0.1', 0)); print(s.getsockname()[1])"],
        stdout=subprocess.PIPE,
        text=True,
    )
    port = int(with_port.communicate()[0])
    serving = rolled.begin("metrics", "--serve", str(port))
    try:
        body = ""

        def answers() -> bool:
            nonlocal body
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}/metrics", timeout=5) as answer:
                    body = answer.read().decode()
            except OSError:
                return False
            return True

        rolled.wait_for(answers, serving)
        assert list(families(body))
        assert rolled.run("metrics", "--serve", str(port)).code == 2
        for host, status in ((f"localhost:{port}", 200), ("127.0.0.1", 200), ("page.example", 421), ("", 421)):
            asked = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
            asked.putrequest("GET", "/metrics", skip_host=True)
            asked.putheader("Host", host)
            asked.endheaders()
            assert asked.getresponse().status == status, host
            asked.close()
        idle = [
            socket.create_connection(("127.0.0.1", port), 10) for _ in range(40)
        ]  # who say nothing, or a sign a second
        rolled.wait_for(answers, serving)
        assert list(families(body))
        for one in idle:
            one.close()
    finally:
        serving.terminate()
        serving.communicate()


def test_no_secret_is_in_any_record(rolled):
    secrets = [path.read_text().strip() for path in (rolled.folder / "secrets").iterdir()]
    rolled.run("report", "roll-0001", "--html", "r.html", "--markdown", "r.md")
    kept = list((rolled.folder / "state" / "kept").glob("*.json"))
    assert kept
    for path in (rolled.folder / "r.html", rolled.folder / "r.md", *kept):
        text = path.read_text()
        assert not [s for s in secrets if s and s in text], path
        assert not re.search(r"AGE-SECRET-KEY", text)


def test_what_was_learned_is_kept_and_found_by_a_message_like_it(rolled):
    kept = rolled.run("note", "add", "ostrel/shoal 2.8.5 > 2.11.3", "an install breaks off when its bay is nearly full")
    assert kept.code == 0, kept.err
    found = rolled.run("catalog", "find", "tickets/b: install of 9.9 breaks off, bay 2 full", "--json")
    assert (found.code, found.rows[0]["source"]) == (0, "note")
    assert "nearly full" in found.rows[0]["text"]
    assert rolled.run("catalog", "find", "xylophone zither").code == 1
    assert rolled.run("note", "add", "no/such", "words").code == 2
    assert rolled.run("note", "add", "tickets", " ").code == 2


KIOSK = """  kiosk:
    product: no/such
    shape: single
    site: harbour
    driver: http
    profile: nowhere.yaml
    uses: [tickets]
    accounts: {read: {user: kiosk, secret: ask}}
    nodes:
      a: {address: "https://127.0.0.1:9", serial: K-1, fingerprint: "sha256:%s"}
""" % ("0" * 64)


@pytest.mark.long
def test_what_only_stands_beside_the_work_and_cannot_be_read_does_not_stop_a_roll(standins):
    place = standins()
    plan = place.make_ready()
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text() + KIOSK)
    done = place.run("roll", plan)
    assert done.code == 0, done.err
    seen = place.run("verify", "tickets", "--json")
    assert seen.code == 0, seen.err


def test_a_roll_that_stops_shows_what_is_known_that_is_like_it(standins):
    place = standins(
        faults=[{"name": "install_fails_at", "node": "tickets/b", "act": "install", "nth": 1, "value": 40}]
    )
    plan = place.make_ready()
    text = "a write error in the spare bay: clear that bay first"
    assert place.run("note", "add", "tickets", text).code == 0
    stopped = place.run("roll", plan, "--json")
    assert stopped.code == 4
    assert (stopped.json["like"]["known"]["source"], stopped.json["like"]["known"]["text"]) == ("note", text)
    [_, *others] = place.run("catalog", "find", stopped.json["message"], "--json").rows
    assert any(row["text"] == text for row in others)  # the roll itself is most like it, and is known by now


@pytest.mark.parametrize("anonymous", [True, False])
@pytest.mark.parametrize("name", ["roll-0001", "tickets"])
def test_a_bundle_for_a_support_desk_has_no_secret_and_on_request_no_name(rolled, name, anonymous):
    words = "the fan tray of berta rattles since May"
    until = (datetime.now(UTC) + timedelta(days=90)).date().isoformat()
    for word in (
        ("note", "add", "tickets", words),
        ("waive", "stock", "tickets", "--until", until, "--reason", "carl\nsaid so"),
    ):
        assert rolled.run(*word, SUDO_USER="carl-night").code == 0
    done = rolled.run("support", name, "--to", "case.zip", *["--anonymous"] * anonymous)
    assert done.code == 0, done.err
    with zipfile.ZipFile(rolled.folder / "case.zip") as bundle:
        assert bundle.namelist()[0] == "CONTENTS.txt"
        files = {n: bundle.read(n).decode() for n in bundle.namelist()}
    whole = "".join(files.values()) + "".join(files)
    for path in (rolled.folder / "secrets").iterdir():
        assert path.read_text().strip() not in whole
    assert ("journal.json" in files) is ("calls.json" in files) is (name == "roll-0001")
    assert "/v1/node" in files["reads.json"]
    assert "2.8.5" in whole or name == "tickets"
    estate = (rolled.folder / "estate.yaml").read_text()
    told = [
        *re.findall(r"serial: (\S+?),", estate),
        *re.findall(r'address: "(\S+?)"', estate),
        "harbour",
        "Skerry Line",
    ]
    assert len(told) > 5
    assert any(one in whole for one in told) is not anonymous or not anonymous
    if anonymous:
        kept = Workplace(rolled.folder)
        services = [s for system in kept.estate.systems.values() for s in system.services]
        people = {entry.entry.by for entry in kept.ledger.entries()} | {"carl-night"}
        hosts = {entry.entry.host for entry in kept.ledger.entries()}
        sought = {*told, *services, *people, *hosts, *kept.estate.systems, words, "rattles"}
        assert not [
            one
            for one in sought
            if re.search(rf"(?<![A-Za-z0-9]){re.escape(one)}(?![A-Za-z0-9])", whole, re.IGNORECASE)
        ]
        assert "system-1" in whole
        table = (rolled.folder / "case.names.txt").read_text()
        assert "system-1\ttickets" in table
    assert rolled.run("support", "nobody").code == 2


def test_what_is_due_after_a_roll_is_a_look_at_what_it_left(rolled):
    def looks() -> int:
        rows = rolled.run("ledger", "--json").rows
        return sum((row["kind"], row["subject"]) == ("verify", "roll-0001") for row in rows)

    before = looks()
    listed = {row["subject"]: row for row in rolled.run("due", "--list", "--json").rows}
    assert listed["roll-0001 1 h after"]["what"] == "look after"
    at = datetime.fromisoformat(listed["roll-0001 1 h after"]["at"])
    rolled.wait_for(lambda: Workplace(rolled.folder).clock.now() >= at)  # four seconds at most
    done = rolled.run("due", "--json")
    assert "roll-0001 1 h after" in {row["subject"] for row in done.rows if row["did"] == "begun"}, done.rows
    rolled.wait_for(lambda: looks() > before)
    again = {row["subject"] for row in rolled.run("due", "--json").rows if row["did"] == "begun"}
    assert "roll-0001 1 h after" not in again


def test_a_plan_is_rehearsed_without_a_word_to_any_node(rolled):
    plan = rolled.run("history", "--json").rows[0]["plan"]
    before = rolled.truth()["counts"]
    done = rolled.run("rehearse", plan, "--runs", "200", "--figure", "night.png", COLUMNS="200")
    assert done.code == 0, done.err
    assert "rehearsed 200 times" in done.out
    assert (rolled.folder / "night.png").read_bytes()[:4] == b"\x89PNG"
    found = rolled.run("rehearse", plan, "--runs", "200", "--json").rows[0]
    assert found["finished"] + found["stopped"] + found["held"] == pytest.approx(1.0)
    assert found["p50_s"] <= found["p90_s"]
    assert rolled.truth()["counts"] == before
    assert rolled.run("rehearse", plan, "--runs", "0").code == 2
    assert rolled.run("rehearse", plan, "--at", "soon").code == 2
    assert rolled.run("rehearse", "plan-nothing").code == 2
