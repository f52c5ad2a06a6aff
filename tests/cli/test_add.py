"""Devices that write themselves into the estate: what is asked of them, what is written, and when nothing is."""

from __future__ import annotations

import csv
import os
import re
import signal
import socket
import threading
import time

import pytest

from gallant.core.estate.reading import parse_estate
from gallant.standin.ports import reserve

from ..conftest import Place

CUT = re.compile(r"(?ms)^systems:.*|^rounds:\n(?:  .*\n)+|^notes:\n(?:  .*\n)+|^  - \{for: (?:tickets|kind|tag).*?\n")


@pytest.fixture(scope="module")
def line(tmp_path_factory):
    from ..conftest import starting

    with starting(tmp_path_factory.mktemp("line")) as make:
        yield make(whole=True)


@pytest.fixture
def empty(line, tmp_path) -> Place:
    """An estate that has sites and accounts and no systems, in front of the whole line."""
    text = CUT.sub("", (line.folder / "estate.yaml").read_text())
    (tmp_path / "estate.yaml").write_text(text + "\nsystems:  # what there is\n")
    (tmp_path / "secrets").symlink_to(line.folder / "secrets")
    return Place(tmp_path, line.said)


def address(place: Place, node: str) -> str:
    return place.said["nodes"][node]["address"]


def estate(place: Place):
    return parse_estate("estate.yaml", (place.folder / "estate.yaml").read_text())


def test_a_pair_writes_itself_as_it_is_and_is_surveyed_then(empty):
    before = (empty.folder / "estate.yaml").read_text()
    both = [address(empty, f"tickets/{n}") for n in "ab"]
    added = empty.run("add", *both, "--as", "tickets", "--profile", "ostrel-shoal", "--site", "harbour", "--yes")
    assert added.code == 0, added.err
    assert "a pair of ostrel/shoal, by the profile ostrel-shoal" in added.out
    assert "gallant survey tickets" in added.out
    system = estate(empty).systems["tickets"]
    assert (system.shape, system.product, system.site) == ("pair", "ostrel/shoal", "harbour")
    for name in "ab":
        said = empty.said["nodes"][f"tickets/{name}"]
        assert (system.nodes[name].serial, system.nodes[name].fingerprint) == (said["serial"], said["fingerprint"])
    after = (empty.folder / "estate.yaml").read_text()
    assert all(row in after.splitlines() for row in before.splitlines())
    assert re.search(r"tickets:  # added \d{4}-\d\d-\d\d by ", after)
    assert empty.run("survey", "tickets").code == 0
    assert empty.run("catalog", "add", "ostrel", empty.said["publisher"]["url"], "--key", "x").code in (2, 5)


@pytest.mark.parametrize(
    ("node", "more", "driver", "profile", "kind"),
    [
        ("deck-hw/a", [], "redfish", "quernix-q4", ""),
        ("gates/a", [], "debian", "debian", "host"),
        ("gates/a", ["--kind", "application"], "debian", "debian", "application"),
        ("slipway/a", ["--driver", "netconf", "--shape", "single"], "netconf", "tarnholt-weir", ""),
        ("fulmar-box/a", ["--profile", "ostrel-shoal-mini"], "http", "ostrel-shoal-mini", ""),
    ],
)
def test_a_device_says_by_itself_what_speaks_to_it(empty, node, more, driver, profile, kind):
    bare = address(empty, node).rpartition("/")[2] if driver != "http" else address(empty, node)
    added = empty.run("add", bare, "--as", "one", "--site", "harbour", "--yes", "--json", *more)
    assert added.code == 0, added.err
    row = added.rows[0]
    assert (row["system"], row["profile"], row["nodes"][0]["serial"]) == (
        "one",
        profile,
        empty.said["nodes"][node]["serial"],
    )
    system = estate(empty).systems["one"]
    assert (system.driver, system.profile, system.shape) == (driver, profile, "single")
    assert system.kind == kind


def test_a_new_estate_holds_hosts_to_what_their_channel_has_and_appliances_to_what_is_settled(empty):
    assert empty.run("init", "night").code == 0
    aims = parse_estate("estate.yaml", (empty.folder / "night" / "estate.yaml").read_text()).aims
    assert {aim.for_: aim.aim for aim in aims} == {"default": "settled 30d", "kind:host": "newest"}


REFUSED = [
    (["{tickets/a}", "--profile", "ostrel-shoal", "--site", "harbour"], 5, "that nothing here vouches for: sha256:"),
    (["{tickets/a}", "--profile", "ostrel-shoal", "--site", "harbour", "--yes"], 5, "it is the active of several"),
    (["{tickets/a}", "--profile", "ostrel-shoal", "--yes"], 2, "Which site is it at?"),
    (["{tickets/a}", "--profile", "ostrel-shoal", "--site", "harbor", "--yes"], 2, "did you mean harbour?"),
    (["{tickets/a}", "--site", "harbour", "--yes"], 5, "no protocol that every device of its kind has"),
    (["{tickets/a}", "--driver", "htp", "--site", "harbour", "--yes"], 2, "did you mean http?"),
    (["{deck-hw/a}", "--shape", "singel", "--site", "harbour", "--yes"], 2, "did you mean single?"),
    (["{deck-hw/a}", "--as", "A B", "--site", "harbour", "--yes"], 2, "is not a name"),
    (
        ["{deck-hw/a}", "{deck-hw/a}", "--as", "x", "--shape", "pool", "--site", "harbour", "--yes"],
        5,
        "lead to one machine",
    ),
    (["127.0.0.1:notaport", "--site", "harbour"], 2, "is no address"),
    (["ftp://127.0.0.1", "--site", "harbour"], 2, "is no address"),
    (["192.0.2.7", "--site", "harbour"], 5, "no loopback address"),
    ([], 2, "Name an address"),
    (["--scan", "127.0.0.0/8"], 2, "at most 4,096"),
    (["--scan", "192.0.2.0/24"], 5, "no loopback network"),
    (["--scan", "harbour"], 2, "is no network"),
    (["--scan", "127.0.0.1", "--ports", "0"], 2, "no list of ports"),
    (["--from", "none.csv"], 2, "cannot be read"),
]


@pytest.mark.parametrize(
    ("words", "code", "said"), REFUSED, ids=lambda value: " ".join(value) if isinstance(value, list) else None
)
def test_nothing_is_written_where_it_cannot_be_done_as_it_was_said(empty, words, code, said):
    before = (empty.folder / "estate.yaml").read_bytes()
    filled = [address(empty, word.strip("{}")) if word.startswith("{") else word for word in words]
    done = empty.run("add", *filled)
    assert done.code == code, done.out + done.err
    assert said in done.err
    assert (empty.folder / "estate.yaml").read_bytes() == before


def test_what_does_not_answer_is_said_and_not_written(empty):
    keeper, port = reserve("127.0.0.1")
    keeper.close()
    done = empty.run("add", f"ssh://127.0.0.1:{port}", "--site", "harbour")
    assert done.code == 3
    assert "Nothing answers at 127.0.0.1" in done.err


def test_what_is_there_already_is_not_written_twice(empty):
    words = ("add", address(empty, "deck-hw/a"), "--site", "harbour", "--yes")
    assert empty.run(*words, "--as", "one").code == 0
    again = empty.run(*words, "--as", "two")
    assert again.code == 5
    assert "is one/a of the estate already" in again.err


def test_many_come_from_a_file_and_one_that_fails_stops_no_other(empty):
    with (empty.folder / "devices.csv").open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(["Address", "as", "site", "profile", "kind", "tags", "pin"])
        for name in "ab":
            node = empty.said["nodes"][f"tickets/{name}"]
            said = ("harbour", "ostrel-shoal", "storage", "prod night") if name == "a" else ("", "", "", "")
            rows.writerow([node["address"], "tickets", *said, node["fingerprint"]])  # each node has its own
        rows.writerow([address(empty, "deck-hw/b"), "hardware", "harbour", "", "", "", ""])
        rows.writerow([address(empty, "deck-hw/c"), "wrong", "harbour", "", "", "", "sha256:" + "00" * 32])
        rows.writerow(["127.0.0.1:1", "dead", "harbour", "", "", "", ""])
        rows.writerow([])
    pins = [empty.said["nodes"][f"tickets/{n}"]["fingerprint"] for n in "ab"] + ["sha256:" + "00" * 32]
    taken = [word for pin in pins for word in ("--take", f"pin={pin}")]
    done = empty.run("add", "--from", "devices.csv", "--yes", *taken, "--json")
    assert done.code == 3, done.err
    assert {row["system"]: row["error"] is None for row in done.rows} == {
        "wrong": False, "dead": False, "tickets": True, "hardware": True,
    }  # fmt: skip
    found = estate(empty).systems
    assert list(found) == ["tickets", "hardware"]
    assert (found["tickets"].kind, found["tickets"].tags) == ("storage", ("prod", "night"))
    nodes = found["tickets"].nodes
    assert [nodes[n].fingerprint for n in "ab"] == [empty.said["nodes"][f"tickets/{n}"]["fingerprint"] for n in "ab"]
    assert found["hardware"].profile == "quernix-q4"
    assert empty.run("survey").code == 0


def test_a_second_run_of_a_file_goes_on_where_a_ctrl_c_ended_the_first(empty):
    silent = socket.socket()
    silent.bind(("127.0.0.1", 0))
    silent.listen()
    with (empty.folder / "devices.csv").open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(["address", "as", "site"])
        rows.writerow([address(empty, "deck-hw/b"), "first", "harbour"])
        rows.writerow([f"https://127.0.0.1:{silent.getsockname()[1]}", "silent", "harbour"])
        rows.writerow([address(empty, "deck-hw/c"), "third", "harbour"])
    first = empty.begin("add", "--from", "devices.csv", "--yes")
    until = time.monotonic() + 60
    while "first:" not in (empty.folder / "estate.yaml").read_text():
        assert time.monotonic() < until
        time.sleep(0.02)
    os.kill(first.pid, signal.SIGINT)
    out, err = first.communicate(timeout=60)
    with silent:
        assert first.returncode == 4, out + err
        assert "first" in out and "silent: not read" in out
        assert "goes on where this one ended" in out
    again = empty.run("add", "--from", "devices.csv", "--yes", "--json")
    found = {row["system"]: (row["there"], row["error"] is None) for row in again.rows}
    assert found["first"] == (True, True)
    assert found["third"][1]
    assert not found["silent"][1]
    assert list(estate(empty).systems) == ["first", "third"]


@pytest.mark.parametrize(
    ("column", "value"), [("secret", "file:.netrc"), ("user", "root"), ("pin", "sha256:" + "0a" * 32)]
)
def test_no_account_no_secret_and_no_pin_is_taken_from_a_file_without_a_yes_for_each(empty, column, value):
    """Nothing is asked there before: the address may be anybody's."""
    asked = list[bytes]()

    def hear(connection):
        with connection:
            asked.append(connection.recv(100))

    with socket.create_server(("127.0.0.1", 0)) as anybody:
        threading.Thread(target=lambda: hear(anybody.accept()[0]), daemon=True).start()
        where = f"127.0.0.1:{anybody.getsockname()[1]}"
        text = (
            f"address,as,{column}\n{where},one,{value}\nhttps://127.0.0.1:1,two,\nhttps://127.0.0.1:1,three,{value}\n"
        )
        (empty.folder / "devices.csv").write_text(text)
        before = (empty.folder / "estate.yaml").read_bytes()
        for more in ((), ("--yes",), ("--yes", "--take", f"{column}=another"), ("--yes", "--take", "user=another")):
            refused = empty.run("add", "--from", "devices.csv", *more)
            assert refused.code == 5, refused.err
            assert f"devices.csv has {column} {value} for {where} and 1 more, and nobody took it." in refused.err
            assert f"--take {column}={value} takes it by name" in refused.err
        assert asked == []
        assert (empty.folder / "estate.yaml").read_bytes() == before
        assert (
            empty.run("add", "--from", "devices.csv", "--yes", "--site", "harbour", "--take", f"{column}={value}").code
            == 3
        )
    assert empty.run("add", "--from", "devices.csv", "--take", "site=x").code == 2
    assert empty.run("add", where, "--take", "user=x").code == 2


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("adress\nx\n", "did you mean address?"),
        ("address,as,site\nx,one,harbour\ny,one,fulmar\n", "the rows of one differ in site: 'harbour', 'fulmar'"),
        ("as\nx\n", "no column address"),
        ("address,as\n,tickets\n", "devices.csv:2: no address"),
        ("address\n", "has no rows"),
        ("\x00", "column"),
    ],
)
def test_a_file_that_is_wrong_is_told_with_its_line(empty, text, said):
    (empty.folder / "devices.csv").write_text(text)
    done = empty.run("add", "--from", "devices.csv", "--yes")
    assert done.code == 2
    assert said in done.err


def test_a_scan_tells_what_answers_and_what_is_known_and_logs_in_nowhere(empty):
    hosts = [address(empty, f"deck-hw/{n}").rpartition("/")[2] for n in "ab"]
    assert empty.run("add", hosts[0], "--as", "known", "--site", "harbour", "--yes").code == 0
    silent = socket.create_server(("127.0.60.13", 0))  # one that takes the connection and says nothing
    ports = ",".join([*(h.rpartition(":")[2] for h in hosts), str(silent.getsockname()[1])])
    before = (empty.folder / "estate.yaml").read_bytes()
    done = empty.run("add", "--scan", "127.0.60.8/29", "--ports", ports, "--json")
    silent.close()
    assert done.code == 0, done.err
    found = {r["address"].rpartition("/")[2]: r for r in done.rows}  # another test's line may answer there, too
    assert {host: (found[host]["protocol"], found[host]["known"]) for host in hosts} == {
        hosts[0]: ("redfish", "known/a"), hosts[1]: ("redfish", None),
    }  # fmt: skip
    assert all(found[host]["says"].startswith("Redfish 1.") for host in hosts)
    assert (empty.folder / "estate.yaml").read_bytes() == before
    assert (
        f"gallant add https://{hosts[1]}"
        in empty.run("add", "--scan", "127.0.60.8/29", "--ports", ports, COLUMNS="200").out
    )
    over_ssh = address(empty, "sealock/a").rpartition(":")
    met = empty.run("add", "--scan", over_ssh[0].rpartition("/")[2], "--ports", over_ssh[2], "--json").rows[0]
    assert (met["protocol"], met["fingerprint"]) == ("ssh", empty.said["nodes"]["sealock/a"]["fingerprint"])


def test_a_file_with_a_mistake_is_left_as_it_is(empty):
    path = empty.folder / "estate.yaml"
    path.write_text(path.read_text() + "typo: 1\n")
    done = empty.run("add", address(empty, "deck-hw/a"), "--site", "harbour", "--yes")
    assert done.code == 2
    assert "typo" in done.err
    assert path.read_text().endswith("typo: 1\n")
