"""Rolls by the built program, on stand-ins: to the end, killed, held, and with devices that fail."""

from __future__ import annotations

import os
import pty
import re
import signal
import sys
import time

import pytest

GOOD_END = {"tickets/a": ("3.2.4", "serving"), "tickets/b": ("3.2.4", "shadowing")}


def end_state(place):
    return {name: (node["version"], node["role"]) for name, node in place.truth()["nodes"].items()}


def installs(place):
    return {node: place.truth()["counts"].get(f"tickets/{node} install done", 0) for node in "ab"}


def happened(place, kind, step):
    return any(e.kind == kind and e.step == step for e in place.entries())


@pytest.mark.alone
def test_a_roll_takes_both_nodes_over_the_bridge_to_the_aim_and_the_service_misses_only_the_handovers(standins):
    place = standins(speed=240, pace=0.25, move_gap_s=0.8)
    done = place.run("roll", place.make_ready(), "--json")
    assert done.code == 0, done.err
    assert end_state(place) == GOOD_END
    (row,) = done.rows
    assert row["state"] == "finished"
    assert len(row["outages"]) == 4  # a handover and a failback in each of two hops
    assert all(outage["service"] == "blocks" and outage["measured"] < 1.5 for outage in row["outages"])
    assert [
        e.step.split(".")[2:]
        for e in place.entries()
        if e.kind == "intent" and e.step.endswith(("restart", "handover", "failback"))
    ][:4] == [["b", "restart"], ["a", "handover"], ["a", "steady", "handover"], ["a", "restart"]]
    assert place.run("verify", "tickets").code == 0
    images = place.run("gaps", "--component", "image", "--json").rows
    assert {r["standing"] for r in images} == {"current"}
    assert place.run("history", "--verify", "roll-0001").code == 0
    assert place.truth()["systems"]["tickets"]["broken"] == []


MOMENTS = {
    "before-anything": lambda p: happened(p, "intent", "tickets.1.a.backup"),
    "in-a-preload": lambda p: happened(p, "intent", "tickets.1.b.preload"),
    "in-an-install": lambda p: happened(p, "accepted", "tickets.1.b.install"),
    "after-an-install": lambda p: happened(p, "outcome", "tickets.1.b.install"),
    "in-a-restart": lambda p: not p.truth()["nodes"]["tickets/b"]["up"],
    "while-a-replica-syncs": lambda p: happened(p, "intent", "tickets.1.b.steady"),
    "in-a-handover": lambda p: p.truth()["systems"]["tickets"]["serving"] is None,
    "in-the-second-hop": lambda p: happened(p, "accepted", "tickets.2.a.install"),
}


# Each is some seconds on a served line. The simulation kills at every position of the journal; here the served line is
# killed where a device is in the middle of something, and at night at the other moments.
AT_NIGHT = {
    "before-anything",
    "in-a-preload",
    "after-an-install",
    "while-a-replica-syncs",
    "sync_stuck",
    "in-the-second-hop",
    "in-a-handover",
    "no_return",
}


def by_day(names):
    """The names, those `AT_NIGHT` marked as long."""
    return [pytest.param(name, marks=pytest.mark.long) if name in AT_NIGHT else name for name in names]


@pytest.mark.parametrize("moment", by_day(MOMENTS))
def test_a_roll_killed_at_any_moment_is_resumed_to_the_same_end_with_nothing_done_twice(standins, moment):
    place = standins()
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: MOMENTS[moment](place), roll)
    roll.send_signal(signal.SIGKILL)
    roll.communicate()
    assert_resumes_to_the_same_end(place)


@pytest.mark.parametrize(
    ("fault", "order"),
    [
        pytest.param("never_acts", "install", marks=pytest.mark.long),
        ("answer_held", "install"),
        ("answer_held", "restart"),
        ("acts_late", "yield"),
    ],
    ids=[
        "between-intent-and-act",
        "between-act-and-outcome",
        "between-restart-and-outcome",
        "before-an-act-that-lands-late",
    ],
)
def test_a_roll_killed_while_an_order_is_on_its_way_finds_out_what_became_of_it(standins, fault, order):
    node = "tickets/a" if order == "yield" else "tickets/b"
    place = standins()
    plan = place.make_ready()
    place.faults({"name": fault, "node": node, "act": order, "nth": 1, "value": 0.02})
    roll = place.begin("roll", plan)
    place.wait_for(lambda: place.truth()["counts"].get(f"{node} {order}", 0) == 1, roll)
    roll.send_signal(signal.SIGKILL)
    roll.communicate()
    assert_resumes_to_the_same_end(place)
    if fault == "answer_held":
        assert place.truth()["counts"][f"{node} {order}"] == 2  # once in each hop


def assert_resumes_to_the_same_end(place):
    assert (place.last_roll().state, place.last_roll().next) == ("cut off", "gallant resume roll-0001")
    resumed = place.run("resume", "roll-0001")
    assert resumed.code == 0, resumed.err + resumed.out
    assert end_state(place) == GOOD_END
    assert installs(place) == {"a": 2, "b": 2}
    assert place.truth()["systems"]["tickets"]["broken"] == []
    assert place.journal_problems() == []


# What the device does, what the message says, and who serves untouched.
FAULTS = {
    "install_fails_at": (
        {"node": "tickets/b", "act": "install", "nth": 1, "value": 40},
        ["tickets/b", "write error in the spare bay", "gallant survey tickets"],
    ),
    "no_return": (
        {"node": "tickets/b", "act": "restart", "nth": 1},
        ["tickets/b did not come back", "Look at the console of tickets/b"],
    ),
    "sync_stuck": (
        {"node": "tickets/b", "act": "restart", "nth": 1},
        ["tickets/b: not steady", "catching-up", "gallant check tickets"],
    ),
    "corrupt_package": (
        {"node": "tickets/b", "act": "upload", "nth": 1},
        ["tickets/b", "shoal-2.11.3.pkg was altered on the way"],
    ),
    "disk_full": (
        {"node": "tickets/a", "act": "export"},
        ["tickets: no backup", "no space left for exports", "gallant backup take tickets"],
    ),
}


@pytest.mark.parametrize("name", by_day(FAULTS))
def test_a_fault_stops_the_roll_and_the_other_node_serves_untouched(standins, name):
    fault, said = FAULTS[name]
    place = standins()
    plan = place.make_ready()
    place.faults({"name": name, **fault})
    done = place.run("roll", plan)
    assert done.code == 4
    for words in said:
        assert words in done.out
    assert "tickets/a serves" in done.out
    assert "gallant resume roll-0001" in done.out
    truth = place.truth()
    assert truth["systems"]["tickets"]["serving"] == "a"
    assert truth["nodes"]["tickets/a"]["version"] == "2.8.5"
    assert truth["nodes"]["tickets/a"]["boots"] == 1
    assert place.last_roll().state == "stopped"
    assert place.journal_problems() == []


def test_a_stopped_roll_carries_on_once_the_device_is_mended(standins):
    place = standins()
    plan = place.make_ready()
    place.faults({"name": "install_fails_at", "node": "tickets/b", "act": "install", "nth": 1, "value": 40})
    assert place.run("roll", plan).code == 4
    place.faults()
    assert place.run("resume").code == 0
    assert end_state(place) == GOOD_END


def test_a_lost_answer_is_looked_for_and_the_order_not_given_again(standins):
    place = standins()
    plan = place.make_ready()
    place.faults({"name": "answer_lost", "node": "tickets/b", "act": "install", "nth": 1})
    done = place.run("roll", plan)
    assert done.code == 0, done.out
    assert installs(place) == {"a": 2, "b": 2}
    assert end_state(place) == GOOD_END


def test_a_refused_login_stops_everything_before_it_begins(standins):
    place = standins()
    plan = place.make_ready()
    place.faults({"name": "refuse_login", "node": "tickets/b"})
    done = place.run("roll", plan)
    assert done.code == 3
    assert "tickets/b refuses the login of gallant-read" in done.err
    assert place.run("survey").code == 3
    assert place.truth()["nodes"]["tickets/b"]["packages"] == []


def test_a_refused_login_of_the_acting_account_is_found_before_anything_is_begun(standins):
    place = standins()
    plan = place.make_ready()
    (place.folder / "secrets" / "act").write_text("wrong")
    done = place.run("roll", plan)
    assert done.code == 5
    assert "refuses the login of gallant-act" in done.err
    assert "Nothing was touched" in done.err
    assert "wrong" not in (done.out + done.err).replace("unknown user or wrong password", "")
    truth = place.truth()
    assert truth["systems"]["tickets"]["serving"] == "a"
    assert not any(node["packages"] for node in truth["nodes"].values())


def test_the_acting_account_is_never_asked_for_by_anything_that_only_looks(place):
    (place.folder / "secrets" / "act").unlink()
    place.make_ready()
    assert place.run("gaps").code == 1
    assert place.run("check").code in (0, 1)
    assert place.run("backup", "take", "tickets").code == 0


def test_hold_pauses_a_running_roll_at_a_safe_stop_and_resume_carries_on(standins):
    place = standins(speed=400)
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.restart"), roll)
    held = place.run("hold")
    assert held.code == 0
    assert "was asked to hold at its next safe stop" in held.out
    out, _ = roll.communicate(timeout=60)
    assert roll.returncode == 4
    assert "held at a safe stop" in out
    truth = place.truth()
    assert truth["systems"]["tickets"]["replica"] == "matched"
    assert truth["systems"]["tickets"]["serving"]
    assert all(node["up"] for node in truth["nodes"].values())
    assert end_state(place) != GOOD_END
    assert place.run("resume").code == 0
    assert end_state(place) == GOOD_END


def test_a_process_that_was_stopped_is_named_by_whoever_asks_it_to_hold_or_wants_to_take_over(standins):
    place = standins(speed=400)
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.restart"), roll)
    os.kill(roll.pid, signal.SIGSTOP)
    try:
        held = place.run("hold", "--json")
        assert (held.code, held.rows[0]["state"]) == (4, "holding")
        assert held.rows[0]["trouble"] == f"its process {roll.pid} on this machine is stopped"
        for words in (("resume",), ("hold",)):
            told = place.run(*words)
            assert f"process {roll.pid} on this machine is stopped" in told.out + told.err
            assert f"kill -CONT {roll.pid} lets it go on; kill -KILL {roll.pid} ends it" in told.out + told.err
    finally:
        os.kill(roll.pid, signal.SIGCONT)
    out, err = roll.communicate(timeout=60)
    assert (roll.returncode, "held at a safe stop" in out) == (4, True), out + err


@pytest.mark.long
def test_a_process_that_stood_still_for_longer_than_any_deadline_goes_on_and_blames_nobody(place):
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.restart"), roll)
    os.kill(roll.pid, signal.SIGSTOP)
    time.sleep(12.0)  # three hours of the estate's time, and longer than the shortest deadline that a real clock allows
    os.kill(roll.pid, signal.SIGCONT)
    out, err = roll.communicate(timeout=120)
    assert (roll.returncode, "finished" in out) == (0, True), out + err
    [stood] = [entry for entry in place.entries() if entry.stood_s]
    assert stood.step == "tickets.1.b.restart"
    assert "where its publisher says" not in place.run("history", "roll-0001").out
    learned = place.run("history", "--durations", "--json").rows
    assert {row["step"] for row in learned if row["hop"].endswith("2.11.3")} >= {"install"}
    assert all(row["took_s"] < 3 * 3600 for row in learned), learned


@pytest.mark.long
def test_hold_after_a_hop_leaves_both_nodes_at_its_release(standins):
    place = standins()
    done = place.run("roll", place.make_ready(), "--hold-after", "hop")
    assert done.code == 4
    assert {v["version"] for v in place.truth()["nodes"].values()} == {"2.11.3"}
    assert place.run("resume").code == 0
    assert end_state(place) == GOOD_END


def test_a_roll_whose_terminal_goes_away_holds_at_its_next_safe_stop(standins):
    place = standins()
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.install"), roll)
    roll.send_signal(signal.SIGHUP)
    _out, err = roll.communicate(timeout=60)
    assert roll.returncode == 4
    assert "terminal went away: roll-0001 holds at its next safe stop" in err
    assert place.last_roll().state == "held"


@pytest.mark.long
def test_a_detached_roll_goes_on_when_its_terminal_is_gone_for_good(standins):
    place = standins()
    plan = place.make_ready()
    parent, child = pty.openpty()
    pid = os.fork()
    if pid == 0:  # a session of its own on a real terminal, which is then closed under it
        os.setsid()
        os.login_tty(child) if hasattr(os, "login_tty") else [os.dup2(child, n) for n in range(3)]
        os.chdir(place.folder)
        os.execve(
            os.sys.executable,
            [os.sys.executable, "-m", "gallant", "roll", plan, "--detach"],
            {**place.environment(), "TERM": "xterm"},
        )
    os.close(child)
    os.set_blocking(parent, False)

    def drained() -> bool:  # a terminal that nobody reads would stop the program by itself
        try:
            while os.read(parent, 65536):
                pass
        except OSError:
            pass
        return happened(place, "accepted", "tickets.1.b.install")

    place.wait_for(drained)
    os.close(parent)
    os.kill(pid, signal.SIGHUP)
    _, status = os.waitpid(pid, 0)
    assert os.waitstatus_to_exitcode(status) == 0
    place.wait_for(lambda: place.last_roll().state == "finished")
    assert end_state(place) == GOOD_END


def test_a_detached_roll_gives_the_terminal_back_and_says_how_it_is_followed(standins):
    place = standins()
    plan = place.make_ready()
    begun = place.run("roll", plan, "--detach", "--hold-after", "node")
    assert begun.code == 0, begun.err
    assert "roll-0001  goes on by itself" in begun.out
    assert "gallant roll --follow roll-0001" in begun.out
    assert place.run("roll", "--follow", "roll-0001").code == 4  # until it holds
    assert place.run("resume", "roll-0001", "--detach", "--json").rows[0]["roll"] == "roll-0001"
    place.wait_for(lambda: place.last_roll().state == "finished")
    assert end_state(place) == GOOD_END
    assert "roll-0001" in (place.folder / "state" / "detached-roll-0001.log").read_text()


def test_of_two_that_are_detached_at_once_each_says_what_became_of_its_own(place):
    """One begins; the other is refused, and does not take the one that began for its own."""
    place.make_ready()
    plan = re.search(r"plan-[0-9a-f]+", place.run("plan", "tickets").out)[0]
    both = [place.begin("roll", plan, "--detach", "--hold-after", "step") for _ in range(2)]
    ends = []
    for process in both:
        out, err = process.communicate(timeout=120)
        ends.append((process.returncode, "goes on by itself" in out, "roll-0001 is not finished" in err))
    assert sorted(ends) == [(0, True, False), (5, False, True)]
    place.wait_for(lambda: place.run("history", "--json").rows[0]["state"] != "running")


def test_a_detached_roll_that_is_refused_says_so_where_it_was_asked_for(place):
    plan = place.make_ready()
    place.faults({"name": "swapped_machine", "node": "tickets/b"})
    refused = place.run("roll", plan, "--detach")
    assert refused.code == 5
    assert "answers as serial" in refused.err


def test_ctrl_c_holds_and_a_second_one_cuts_off_at_once_and_loses_nothing(standins):
    place = standins()
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.install"), roll)
    roll.send_signal(signal.SIGINT)
    while "Ctrl-C once more" not in (line := roll.stderr.readline()):
        assert line, "it ended"
    roll.send_signal(signal.SIGINT)
    roll.send_signal(signal.SIGINT)  # somebody who is in a hurry
    out, err = roll.communicate(timeout=60)
    assert roll.returncode == 4
    assert "cut off at once" in out
    assert "Traceback" not in err
    assert place.run("resume").code == 0
    assert installs(place) == {"a": 2, "b": 2}


def test_a_roll_that_was_begun_with_hang_ups_ignored_goes_on_when_the_terminal_goes(standins):
    place = standins()
    roll = place.begin("roll", place.make_ready(), ignoring=signal.SIGHUP)
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.install"), roll)
    roll.send_signal(signal.SIGHUP)
    _, err = roll.communicate(timeout=60)
    assert roll.returncode == 0, err
    assert end_state(place) == GOOD_END


def test_two_processes_never_carry_out_one_roll(standins):
    place = standins(speed=60, pace=1.0)  # slow enough to be there while the others ask
    plan = place.make_ready()
    roll = place.begin("roll", plan)
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.install"), roll)
    second = place.run("resume", "roll-0001")
    third = place.run("roll", plan)
    roll.send_signal(signal.SIGKILL)
    roll.communicate()
    assert second.code == 5
    assert "another Gallant" in second.err
    assert third.code == 5
    assert "roll-0001 is not finished and has tickets" in third.err
    assert place.truth()["counts"]["tickets/b install done"] == 1


@pytest.mark.long
def test_a_roll_that_was_ended_for_good_frees_its_systems_for_another_plan(standins):
    place = standins()
    plan = place.make_ready()
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    assert place.run("plan", "tickets", "--json").code == 5  # while the other is open
    assert place.run("hold", "--for-good").code == 2
    still = place.run("hold", "--all")
    assert (still.code, "No process carries roll-0001 out" in still.out) == (0, True)
    assert place.run("hold", "roll-0001", "--all").code == 2
    assert place.run("hold", "--for-good", "--reason", "another night").code == 0
    assert place.run("resume", "roll-0001").code == 2
    assert place.last_roll().state == "ended"
    assert place.run("roll", plan).code == 0


def test_a_plan_that_no_longer_fits_is_refused_with_what_changed(standins):
    place = standins()
    plan = place.make_ready()
    assert place.run("roll", plan).code == 0
    again = place.run("roll", plan, "--json")
    assert again.code == 5
    assert "version was 2.8.5, is 3.2.4" in again.error["what"]
    assert again.error["next"].startswith("gallant plan tickets")


def test_an_edited_plan_is_refused(standins):
    place = standins()
    plan = place.make_ready()
    path = place.folder / "plans" / f"{plan}.json"
    path.write_text(path.read_text().replace("peers_healthy", "right_machine"))
    done = place.run("roll", plan)
    assert done.code == 5
    assert "was altered" in done.err
    assert place.run("validate", str(path)).code == 2


def test_no_secret_is_in_anything_that_a_night_leaves_behind(standins):
    place = standins()
    plan = place.make_ready()
    place.faults({"name": "install_fails_at", "node": "tickets/b", "act": "install", "nth": 1, "value": 40})
    spoken = place.run("roll", plan)
    secrets = [path.read_text() for path in (place.folder / "secrets").iterdir()]
    everything = [p.read_bytes() for p in place.folder.rglob("*") if p.is_file() and p.parent.name != "secrets"]
    for secret in secrets:
        assert secret not in spoken.out + spoken.err
        assert not any(secret.encode() in content for content in everything)


def typed(place, words, secret):
    """Run a command on a terminal of its own, typing the secret when
    it is asked for; how often it was, and the exit code."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(place.folder)
        os.execve(sys.executable, [sys.executable, "-m", "gallant", *words], {**place.environment(), "TERM": "xterm"})
    asked, seen = 0, b""
    while True:
        try:
            piece = os.read(terminal, 65536)
        except OSError:
            break
        if not piece:
            break
        seen += piece
        if b"Secret of gallant-act for tickets (act):" in seen:
            asked, seen = asked + 1, b""
            os.write(terminal, secret.encode() + b"\n")
    _, status = os.waitpid(pid, 0)
    os.close(terminal)
    assert secret.encode() not in seen
    return asked, os.waitstatus_to_exitcode(status)


def test_a_secret_that_is_typed_is_asked_for_once_a_run_and_again_on_resume(standins):
    place = standins()
    plan = place.make_ready()
    secret = (place.folder / "secrets" / "act").read_text()
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text().replace('"file:secrets/act"', "ask"))
    assert typed(place, ["roll", plan, "--hold-after", "hop"], secret) == (1, 4)
    assert typed(place, ["resume"], secret) == (1, 0)
    assert end_state(place) == GOOD_END
    assert place.run("resume").code == 2


def test_a_secret_that_cannot_be_had_is_said_before_anything_is_begun(standins):
    place = standins()
    plan = place.make_ready()
    (place.folder / "secrets" / "act").unlink()
    done = place.run("roll", plan)
    assert done.code == 2
    assert "secrets/act cannot be read" in done.err
    assert place.run("history", "--json").rows == []


def test_another_machine_that_answers_in_the_middle_of_a_roll_gets_no_order(standins):
    place = standins()
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: happened(place, "accepted", "tickets.1.b.install"), roll)
    place.faults({"name": "swapped_machine", "node": "tickets/b"})
    said = "".join(roll.communicate())
    assert roll.returncode in (4, 5)
    assert "answers as serial SH-0000-XX" in said
    assert place.truth()["nodes"]["tickets/b"]["up"]
    assert not happened(place, "intent", "tickets.1.b.restart")
    assert place.last_roll().state == "stopped"
    place.faults()
    assert place.run("resume", "roll-0001").code == 0
    assert end_state(place) == GOOD_END
    assert sum(e.kind == "intent" and (e.step or "").endswith(".install") for e in place.entries()) == 4  # none twice
    assert place.truth()["systems"]["tickets"]["broken"] == []


def test_while_a_roll_is_open_check_and_plan_lead_to_it_and_to_no_second_plan(place):
    assert place.run("roll", place.make_ready(), "--hold-after", "step").code == 4
    plans = sorted((place.folder / "plans").iterdir())
    for words in (("plan", "tickets"), ("plan",), ("plan", "tickets", "--restart", "--reason", "x")):
        refused = place.run(*words)
        assert (refused.code, refused.out) == (5, ""), words
        assert "roll-0001 of tickets is not finished" in refused.err
        assert "gallant resume roll-0001" in refused.err
    assert sorted((place.folder / "plans").iterdir()) == plans
    checked = place.run("check", "tickets", "--fail-on", "stop")
    assert "gallant resume roll-0001" in checked.out or "gallant resume roll-0001" in str(
        [row["next"] for row in place.run("check", "tickets", "--json").rows]
    )
    assert "gallant plan" not in checked.out
    assert place.run("hold", "roll-0001", "--for-good", "--reason", "x").code == 0
    assert place.run("plan", "tickets").code == 0
