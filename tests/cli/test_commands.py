"""Each command as a user runs it: what it prints, its JSON, its exit code, its errors."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from gallant.cli.main import COMMANDS

from ..builders import altered
from ..conftest import TERMS, Place

ROWS = {
    "inventory": "system,node,component,kind,product,version,next_version,build,role,state,read_at,error",
    "gaps": "system,node,component,product,installed,target,standing,severity,restart,hops,reasons",
    "route tickets": "from,to,minutes,bridge,one_way",
    "check": "check,level,system,node,message,evidence,next",
    "backup list": "id,system,version,taken,by,comment,items,bytes,sealed,opened,encrypted",
    "verify": "system,node,expected,observed,ok,problems",
    "history": "run,plan,began,ended,state,systems,outages",
}
LISTING = [
    *ROWS,
    "survey",
    "catalog list",
    "catalog show ostrel/shoal",
    "stock list",
    "stock fetch",
    "catalog sync",
    "backup take tickets",
    "backup verify --all",
    "history roll-0001",
    "history --verify roll-0001",
    "plan tickets",
    "validate estate.yaml",
]


def modules_of(*words: str, cwd: Path | None = None) -> set[str]:
    """The modules that a command loads, as the interpreter says."""
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "gallant", *words],
        capture_output=True,
        text=True,
        cwd=cwd,
        check=False,
    )
    return {line.rpartition("|")[2].strip() for line in done.stderr.splitlines() if line.startswith("import time:")}


def test_help_loads_click_and_nothing_heavy():
    loaded = modules_of("--help")
    assert "click" in loaded
    assert not loaded & {
        "msgspec",
        "yaml",
        "rich",
        "aiohttp",
        "asyncio",
        "sqlite3",
        "cryptography",
        "jmespath",
        "keyring",
        "gallant.core.errors.x",
    }


def test_what_only_shows_loads_no_network(place):
    place.run("survey")
    loaded = modules_of("inventory", cwd=place.folder)
    assert "gallant.operations.assess.inventory" in loaded
    assert not loaded & {"aiohttp", "asyncio", "cryptography", "keyring", "jmespath"}


def test_help_names_every_command_and_every_command_has_help_with_an_example(bare):
    shown = bare.run("--help")
    assert shown.code == 0
    for name, (_, _, line) in COMMANDS.items():
        assert name in shown.out
        assert line in " ".join(shown.out.split())
        own = bare.run(name, "--help")
        assert own.code == 0
        assert "Examples:" in own.out or "Commands:" in own.out
        assert "| gallant" not in own.out  # two on one line would be a pipe, once pasted
        examples = own.out.partition("  Examples:\n")[2].partition("\n\n")[0].splitlines()
        assert all(line.startswith("    gallant ") for line in examples)


def test_every_listing_command_prints_one_json_document_with_its_rows(standins):
    place = standins()
    plan = place.make_ready()
    assert place.run("backup", "take", "tickets", "--comment", "x").code == 0
    assert place.run("roll", plan, "-q").code == 0
    for words in LISTING:
        if words.startswith("plan"):
            continue
        done = place.run(*words.split(), "--json")
        document = json.loads(done.out)
        assert document["schema"].startswith("gallant.") and document["schema"].endswith("/1")
        assert isinstance(document["rows"], list)
        if words in ROWS:
            for row in document["rows"]:
                assert list(row)[: len(ROWS[words].split(","))] == ROWS[words].split(","), words
        text = json.dumps(document)
        assert not re.search(r"\d{2}:\d{2}:\d{2}(\.\d+)?\+00:00", text), "a time without Z"
    history = place.run("history", "--json").rows[0]
    outage = {"service", "began", "ended", "seconds", "measured", "least", "most", "unseen", "why"}
    assert all(set(o) == outage and o["least"] <= o["measured"] <= o["most"] for o in history["outages"]), history[
        "outages"
    ]
    left = place.run("plan", "tickets")
    assert (left.code, "nothing to do" in left.err) == (0, True)  # the list of roots went along with the image
    verified = place.run("verify", "tickets", "--json")
    assert (verified.code, verified.json["left"]) == (0, [])


def test_the_way_from_survey_to_plan_says_at_each_step_what_comes_next(place):
    assert place.run("gaps").code == 1
    assert "gallant survey tickets/a" in place.run("gaps").out
    surveyed = place.run("survey")
    assert surveyed.code == 0
    assert "gallant gaps" in surveyed.out
    place.follow_catalog()
    gaps = place.run("gaps", "--json")
    assert gaps.code == 1
    image = next(r for r in gaps.rows if r["component"] == "image")
    assert (image["standing"], image["severity"], image["restart"], image["hops"], image["target"]) == (
        "behind",
        "high",
        "node",
        ["2.11.3", "3.2.4"],
        "3.2.4",
    )
    route = place.run("route", "tickets", "--json").json
    assert [(r["from"], r["to"]) for r in route["rows"]] == [("2.8.5", "2.11.3"), ("2.11.3", "3.2.4")]
    refused = {r["version"]: r["why"] for r in route["refused"]}
    assert "recalled" in refused["2.11.2"]
    assert "newer than the aim allows" in refused["3.2.6"]
    check = place.run("check", "--json")
    assert check.code == 1
    levels = {(r["check"], r["level"]) for r in check.rows if r["level"] in ("stop", "warn")}
    assert levels == {("stock", "stop"), ("stock", "warn"), ("backup", "warn"), ("terms", "stop")}
    assert check.rows[0]["next"] == "gallant stock fetch tickets"
    refusing = place.run("roll", place.run("plan", "tickets", "--json").json["id"])
    assert refusing.code == 5
    assert "tickets:image waits for somebody to accept it" in refusing.err
    assert "gallant notice accept tickets:image" in refusing.err
    wished = place.run("plan", "tickets", "--order", "a,b")
    assert (wished.code, "a before b is not safe: a is active" in wished.err) == (5, True)
    assert place.run("plan", "tickets", "--order", "b,a").code == 0
    strange = place.run("plan", "tickets", "--order", "b,x")
    assert (strange.code, "x is not one of a, b" in strange.err) == (2, True)
    fetched = place.run("stock", "fetch", "--json")
    assert {(r["release"], r["why"], r["state"]) for r in fetched.rows} == {
        ("2.11.3", "route", "fetched"),
        ("3.2.4", "route", "fetched"),
        ("2026.1", "route", "fetched"),
        ("2.8.5", "recovery", "fetched"),
        ("2025.2", "recovery", "fetched"),
    }
    assert {r["state"] for r in place.run("stock", "fetch", "--json").rows} == {"present"}
    assert place.run("backup", "take", "tickets", "--comment", "x").code == 0
    assert place.run("notice", "accept", "tickets:image", "--accept-terms", TERMS).code == 0
    assert place.run("check").code == 0


def test_requirements_that_do_not_hold_today_are_listed_and_none_is_none(place):
    place.run("survey")
    place.follow_catalog()
    done = place.run("gaps", "--conflicts", "--json")
    assert (done.code, done.rows) == (0, [])
    assert "Every requirement between products that is known here holds" in place.run("gaps", "--conflicts").out


def test_a_node_that_fails_stops_no_other_and_keeps_its_last_reading(place):
    place.run("survey")
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    done = place.run("survey", "--json")
    assert done.code == 3
    assert [(r["node"], r["ok"]) for r in done.rows] == [("b", False), ("a", True)]
    assert done.rows[0]["last_read"]
    assert "last read" in place.run("survey").out
    rows = place.run("inventory", "--json").rows
    assert next(r for r in rows if r["node"] == "b")["version"] == "2.8.5"
    assert "refuses the login" in next(r for r in rows if r["node"] == "b")["error"]


def test_another_machine_at_an_address_is_refused(place):
    place.faults({"name": "swapped_machine", "node": "tickets/b"})
    done = place.run("survey")
    assert done.code == 5
    assert "answers as serial SH-0000-XX; the estate says SH-2291-BM" in done.out


def test_two_nodes_that_answer_alike_are_found(place):
    path = place.folder / "estate.yaml"
    nodes = place.said["nodes"]
    text = path.read_text().replace(
        nodes["tickets/b"]["address"], nodes["tickets/a"]["address"].replace("127.0.20.11", "localhost")
    )
    text = text.replace(nodes["tickets/b"]["fingerprint"], nodes["tickets/a"]["fingerprint"])
    port = nodes["tickets/a"]["address"].rpartition(":")[2]
    import socket
    import threading

    def forward() -> None:  # a second address that leads to the same machine
        while True:
            try:
                here, _ = listener.accept()
            except OSError:
                return
            there = socket.create_connection(("127.0.20.11", int(port)))
            for a, b in ((here, there), (there, here)):
                threading.Thread(target=pump, args=(a, b), daemon=True).start()

    def pump(a: socket.socket, b: socket.socket) -> None:
        try:
            while data := a.recv(65536):
                b.sendall(data)
        except OSError:
            pass
        b.close()

    listener = socket.create_server(("127.0.0.1", 0))
    threading.Thread(target=forward, daemon=True).start()
    path.write_text(text.replace(f"localhost:{port}", f"127.0.0.1:{listener.getsockname()[1]}"))
    done = place.run("survey")
    listener.close()
    assert done.code == 5
    assert "tickets/b answers as tickets/a: two addresses lead to one machine" in done.out


def test_a_clock_that_is_off_is_found(standins):
    place = standins(speed=1.0)
    place.faults({"name": "clock_off", "node": "tickets/b", "value": 90})
    rows = place.run("check", "--json").rows
    (row,) = [r for r in rows if r["check"] == "clock" and r["level"] == "warn"]
    assert row["node"] == "b"
    assert "+9" in row["evidence"] or "+89" in row["evidence"]


def test_verify_says_what_is_not_as_it_should_be(place):
    place.make_ready()
    done = place.run("verify", "--json")
    assert done.code == 1
    assert done.rows[0]["problems"] == ["runs 2.8.5, its aim is 3.2.4"]
    assert (done.rows[0]["expected"], done.rows[0]["observed"]) == ("3.2.4", "2.8.5")


def test_a_package_altered_at_the_publisher_is_refused_for_safety(place):
    place.run("survey")
    place.follow_catalog()
    place.faults({"name": "corrupt_package", "node": "publisher"})
    done = place.run("stock", "fetch")
    assert done.code == 5
    assert "was altered on the way" in done.out
    assert not list((place.folder / "stock").glob("*/*"))


def test_a_disk_that_is_full_on_export_leaves_no_backup(place):
    place.faults({"name": "disk_full", "node": "tickets/a", "act": "export"})
    done = place.run("backup", "take", "tickets")
    assert done.code == 4
    assert "no space left for exports" in done.out
    assert "gallant backup take tickets" in done.out
    assert place.run("backup", "list", "--json").rows == []


def test_a_catalog_under_another_key_is_refused_and_the_last_good_one_stays(place):
    place.run("survey")
    place.follow_catalog()
    before = place.run("gaps", "--json").rows
    (place.folder / "other.pub").write_text("ed25519:" + "0" * 64)
    again = place.run("catalog", "add", "ostrel", place.said["publisher"]["url"], "--key", "other.pub")
    assert again.code == 5
    assert "followed under another key" in again.err
    other = place.run("catalog", "add", "tarnholt", place.said["publisher"]["url"], "--key", "other.pub")
    assert other.code == 0
    synced = place.run("catalog", "sync")
    assert synced.code == 5
    assert "is signed with another key" in synced.out
    assert [{**r, "reasons": None} for r in place.run("gaps", "--json").rows] == [
        {**r, "reasons": None} for r in before
    ]


def test_a_publisher_that_cannot_be_reached_is_said_so(place):
    assert (
        place.run("catalog", "add", "ostrel", "http://127.0.0.1:9/catalog.json", "--key", "keys/ostrel.pub").code == 0
    )
    done = place.run("catalog", "sync")
    assert done.code == 3
    assert "cannot be reached" in done.out


def test_a_catalog_from_a_file_is_followed_like_any_other(place):
    import urllib.request

    url = place.said["publisher"]["url"]
    for name in ("catalog.json", "catalog.json.sig"):
        (place.folder / name).write_bytes(urllib.request.urlopen(url.replace("catalog.json", name)).read())
    source = (place.folder / "catalog.json").as_uri()
    assert place.run("catalog", "add", "ostrel", source, "--key", "keys/ostrel.pub").code == 0
    assert place.run("catalog", "sync", "--json").rows[0]["serial"] == 41
    assert "Shoal 3.2 fourth" in place.run("catalog", "show", "ostrel/shoal", "3.2.4").out


def test_rot_in_a_backup_is_found(place):
    place.run("backup", "take", "tickets")
    assert place.run("backup", "verify", "--all").code == 0
    (archive,) = (place.folder / "backups" / "tickets").glob("*.age")
    altered(archive)
    done = place.run("backup", "verify", "--all")
    assert done.code == 1
    assert "not those that were written" in done.out
    assert place.run("backup", "list", "--json").rows[0]["sealed"] is None


WRONG = [
    (["inventry"], "did you mean inventory"),
    (["survey", "--jsn"], "--jsn"),
    (["route"], "SYSTEM"),
    (["survey", "nothing-here"], "cannot be read"),
    (["roll", "plan-x"], "cannot be read"),
    (["catalog", "sync"], "cannot be read"),
]


@pytest.mark.parametrize(("words", "said"), WRONG, ids=[" ".join(w[0]) for w in WRONG])
def test_wrong_usage_is_said_on_stderr_with_what_to_do(bare, words, said):
    done = bare.run(*words)
    assert done.code == 2
    assert said in done.err
    assert "→" in done.err
    assert done.out == ""


def test_errors_are_json_too_where_json_was_asked_for(bare):
    done = bare.run("inventory", "--json")
    assert done.code == 2
    assert done.error["schema"] == "gallant.error/1"
    assert set(done.error) == {"schema", "what", "why", "next"}


SECRETS = [
    ('"env:NOT_SET"', "NOT_SET is not set"),
    ('"file:nowhere"', "cannot be read"),
    ('"file:secrets/open"', "can be read by others"),
    ("ask", "nobody is at a terminal"),
]


@pytest.mark.parametrize(("reference", "said"), SECRETS)
def test_a_secret_that_cannot_be_had_is_said_without_ever_showing_one(place, reference, said):
    (place.folder / "secrets" / "open").write_text("visible-to-all")
    (place.folder / "secrets" / "open").chmod(0o644)
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text().replace('"file:secrets/read"', reference))
    done = place.run("survey")
    assert done.code == 2
    assert said in done.out + done.err
    assert "visible-to-all" not in done.out + done.err


def test_a_secret_from_the_environment_is_used(place):
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text().replace('"file:secrets/read"', '"env:SHOAL_READ"'))
    assert place.run("survey", SHOAL_READ=(place.folder / "secrets" / "read").read_text()).code == 0


def test_the_refusal_of_a_certificate_shows_the_line_and_the_line_works(place):
    path = place.folder / "estate.yaml"
    good = place.said["nodes"]["tickets/b"]["fingerprint"]
    path.write_text(path.read_text().replace(f', fingerprint: "{good}"', ""))
    done = place.run("survey")
    assert done.code == 3
    line = re.search(r"fingerprint: (sha256:[0-9a-f]{64})", done.out)
    assert line
    assert line[1] == good


def test_csv_has_a_head_and_a_row_for_each_component(place):
    place.run("survey")
    rows = list(csv.DictReader(io.StringIO(place.run("inventory", "--csv").out)))
    assert [r["component"] for r in rows] == ["image", "expander", "roots"] * 2
    assert rows[0]["version"] == "2.8.5"


def test_a_table_fits_120_columns_when_piped_and_has_no_colour(place):
    place.make_ready()
    for words in (
        ["survey"],
        ["inventory"],
        ["gaps"],
        ["route", "tickets"],
        ["plan", "tickets"],
        ["check", "--all"],
        ["catalog", "show", "ostrel/shoal"],
    ):
        out = place.run(*words).out
        assert "\x1b" not in out
        table_lines = [line for line in out.splitlines() if "  " in line.strip()]
        assert max(map(len, table_lines)) <= 120, words


def test_a_reader_that_goes_away_is_no_error(place):
    place.run("survey")
    done = subprocess.run(
        f"{sys.executable} -m gallant inventory | true",
        shell=True,
        cwd=place.folder,
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Traceback" not in done.stderr
    assert "Exception" not in done.stderr


def test_verbose_says_where_things_are_read_from_and_quiet_says_nothing_beside_the_data(place):
    assert f"2 nodes; from {place.folder}/estate.yaml" in place.run("survey", "-v").err.replace("\n", "")
    assert place.run("survey", "-q").err == ""


def test_a_terminal_without_our_symbols_is_no_error(place):
    place.run("survey")
    for encoding in ("ascii", "latin-1"):
        done = place.run("inventory", PYTHONIOENCODING=encoding)
        assert done.code == 0
        assert "tickets/a" in done.out


def test_a_folder_that_cannot_be_written_is_said_and_is_no_defect(place):
    (place.folder / "state").write_text("a file where the folder should be")
    done = place.run("survey")
    assert done.code == 4
    assert "cannot be used" in done.err
    assert place.run("demo", "--folder", "estate.yaml/below").code == 4


def test_a_catalog_from_the_network_has_no_say_over_local_files(place):
    import json as j
    import urllib.request

    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from gallant.catalogs.trust import SIGNED_PREFIX
    from gallant.operations.ground.workplace import Workplace

    place.run("survey")
    catalog = j.load(urllib.request.urlopen(place.said["publisher"]["url"]))
    for release in (r for product in catalog["products"] for r in product["releases"] if r.get("packages")):
        release["packages"][0]["url"] = (place.folder / "secrets" / "read").as_uri()
    key = Ed25519PrivateKey.generate()
    raw = j.dumps(catalog).encode()
    public = key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw).hex()
    assert place.run("catalog", "add", "ostrel", place.said["publisher"]["url"], "--key", f"ed25519:{public}").code == 0
    store = Workplace(place.folder).readings
    from gallant.catalogs.trust import verify

    found, sha256 = verify(
        "ostrel", raw, key.sign(SIGNED_PREFIX + raw).hex().encode(), f"ed25519:{public}", found_now(), 0, None
    )
    store.keep_catalog("ostrel", found.serial, sha256, raw, None, (), found_now())
    done = place.run("stock", "fetch")
    assert done.code == 5
    assert "no say over files of this machine" in done.out
    assert not list((place.folder / "stock").glob("*/*"))


def found_now():
    from datetime import UTC, datetime

    return datetime.now(UTC)


def test_init_writes_a_file_that_validates_and_never_overwrites_one(bare):
    assert bare.run("init", "mine").code == 0
    assert bare.run("validate", "mine/estate.yaml").code == 0
    again = bare.run("init", "mine")
    assert again.code == 5
    assert "not overwritten" in again.err


def test_validate_says_every_problem_of_every_file_with_its_place(place):
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text().replace("shape: pair", "shape: pear").replace("site: harbour", "sit: harbour"))
    (place.folder / "faults.yaml").write_text("faults: [{name: disk_ful}]")
    (place.folder / "odd.yaml").write_text("a: 1")
    done = place.run("validate", "estate.yaml", "faults.yaml", "odd.yaml")
    assert done.code == 2
    assert re.search(r"estate\.yaml:\d+:\d+: unknown key 'sit' \(did you mean site\?\)", done.out)
    assert "faults.yaml:1:17: unknown fault 'disk_ful' (did you mean disk_full?)" in done.out
    assert "odd.yaml:1:1: no kind of Gallant file" in done.out
    wrong = place.run("survey")
    assert wrong.code == 2
    assert re.search(r"estate\.yaml:\d+:\d+:", wrong.err)


def test_the_survey_is_marked_whole_only_at_its_end(place):
    import sqlite3

    place.run("survey")
    db = sqlite3.connect(place.folder / "state" / "readings.db")
    assert db.execute("SELECT whole FROM surveys").fetchall() == [(1,)]


# --- the demo


def demo(folder: Path, *words: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "gallant", "demo", *words],
        cwd=folder,
        env=Place(folder).environment(),
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
    )


def standin_processes(folder: Path) -> list[int]:
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                line = (entry / "cmdline").read_bytes()
                log = os.readlink(entry / "fd" / "2")
            except OSError:
                continue
            if b"gallant.standin" in line and log.startswith(str(folder)):
                found.append(int(entry.name))
    return found


def until(condition, seconds: float = 30) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.05)


def test_the_demo_runs_every_command_for_real_and_leaves_no_process(tmp_path):
    running = demo(tmp_path)
    out, _ = running.communicate(timeout=150)
    assert running.returncode == 0, out
    for words in (
        "survey",
        "inventory",
        "catalog sync",
        "gaps",
        "route tickets",
        "stock fetch tickets",
        "backup take tickets",
        "check tickets",
        "plan tickets",
        "roll plan-",
        "verify tickets",
        "history roll-0001",
    ):
        assert f"$ gallant {words}" in out
    assert "tickets runs 3.2.4 on every node" in out
    assert "gallant demo --serve" in out
    assert standin_processes(tmp_path) == []


@pytest.mark.long
def test_a_scenario_lets_something_go_wrong_and_shows_what_a_person_would_look_at(tmp_path):
    running = demo(tmp_path, "--scenario", "corrupt_package")
    out, _ = running.communicate(timeout=150)
    assert running.returncode == 0, out
    assert "was altered on the way" in out
    assert "(exit code 4)" in out
    assert out.index("$ gallant roll") < out.index("$ gallant history") < out.rindex("$ gallant check tickets")
    assert standin_processes(tmp_path) == []


def test_scenarios_are_listed_by_name_and_another_name_is_refused(bare):
    from gallant.standin.scenario import FAULTS, SCENARIOS

    listed = bare.run("demo", "--list").out
    assert [line.split()[0] for line in listed.splitlines()] == list(SCENARIOS)
    assert set(SCENARIOS) <= set(FAULTS)
    done = bare.run("demo", "--scenario", "no_retrun")
    assert done.code == 2
    assert "did you mean no_return?" in done.err


def test_a_node_that_cannot_be_reached_is_not_planned_and_that_is_the_reason_given(place):
    place.make_ready()
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    done = place.run("plan", "tickets")
    assert done.code == 3
    assert "tickets/b refuses the login" in done.err
    place.faults({"name": "swapped_machine", "node": "tickets/b"})
    assert place.run("plan", "tickets").code == 5


def test_the_demo_does_not_touch_a_folder_that_is_not_its_own(tmp_path):
    (tmp_path / "skerry-line").mkdir()
    (tmp_path / "skerry-line" / "mine.txt").write_text("mine")
    running = demo(tmp_path)
    out, _ = running.communicate(timeout=60)
    assert running.returncode == 5
    assert "is not a demo's" in out
    assert (tmp_path / "skerry-line" / "mine.txt").read_text() == "mine"


@pytest.mark.long
@pytest.mark.parametrize("end", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_two_demos_serve_side_by_side_and_nothing_of_one_outlives_it(tmp_path, end):
    first, second = demo(tmp_path, "--serve"), demo(tmp_path, "--serve", "--folder", "other")
    folders = [tmp_path / "skerry-line", tmp_path / "other"]
    until(lambda: all((f / "standins.json").exists() for f in folders))
    third = demo(tmp_path, "--serve")
    assert "Another demo is running" in third.communicate(timeout=60)[0]
    assert third.returncode == 5
    for folder in folders:
        assert Place(folder).run("survey").code == 0
    first.send_signal(end)
    first.communicate(timeout=30)
    until(lambda: standin_processes(folders[0]) == [])
    if end != signal.SIGKILL:
        assert first.returncode == 0
    assert Place(folders[1]).run("survey").code == 0
    again = demo(tmp_path, "--serve")
    until(lambda: (folders[0] / "standins.json").exists() and standin_processes(folders[0]))
    for running in (again, second):
        running.send_signal(signal.SIGINT)
        running.communicate(timeout=30)
        assert running.returncode == 0
    until(lambda: standin_processes(tmp_path) == [])


@pytest.mark.long
def test_what_a_roll_saw_against_a_publishers_word_stands_in_history_in_a_draft_and_in_the_next_plan(standins):
    place = standins(faults=[{"name": "late_return", "node": "tickets/b", "act": "restart", "nth": 1, "value": 4500}])
    done = place.run("roll", place.make_ready(), "--hold-after", "node")
    assert done.code == 4, done.out + done.err
    assert place.run("history", "--draft").code == 2
    shown = place.run("history", "roll-0001")
    assert "ostrel/shoal 2.11.3 took" in shown.out
    assert "where its publisher says" in shown.out
    (row,) = place.run("history", "roll-0001", "--draft", "--json").rows
    assert (row["product"], row["release"], row["about"]) == ("ostrel/shoal", "2.11.3", "restart")
    draft = place.run("history", "roll-0001", "--draft").out
    assert "To the publisher of ostrel/shoal, about 2.11.3:" in draft
    assert "tickets" not in draft
    assert place.run("hold", "roll-0001", "--for-good", "--reason", "a test").code == 0
    planned = place.run("plan", "tickets")
    assert "ostrel/shoal 2.11.3 took" in planned.out, planned.err
    assert "(roll-0001)" in planned.out
