"""Several systems in one night, and what goes wrong in one of them, in a helper, or in what is around the engine."""

from __future__ import annotations

import pytest

from gallant.core.catalog.products import Requirement
from gallant.core.errors import GallantError
from gallant.core.ports import DeviceRefused, LoginRefused
from gallant.core.records import replace
from gallant.engine.journal import replay
from gallant.engine.means import Orders
from gallant.standin.world import Fault

from .night import Deaf, Killed, Night, SimDriver, last_state
from .shapes import ClusterNight

OLD = {"a": "2.8.5", "b": "2.8.5"}
END = {"a": ("3.2.4", "serving"), "b": ("3.2.4", "shadowing")}
ONE_HOP = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"}


def many(*names: str, **more) -> Night:
    return Night(others={name: dict(OLD) for name in names}, **more)


def test_lanes_that_need_nothing_of_each_other_end_side_by_side():
    night = many("spit", "bank")
    assert night.run(night.plan()).state == "finished"
    assert [night.end_state(name) for name in night.pairs] == [END] * 3
    assert night.all_well() == []


# --- what needs what


NEEDS_SPIT = {"3.2.4": (Requirement(product="ostrel/spit", range="vers:dotted/>=3.2.4"),)}


def test_a_hop_waits_for_the_hop_that_it_needs_and_no_requirement_is_ever_broken():
    night = many("spit", requires=NEEDS_SPIT)
    assert night.run(night.plan()).state == "finished"
    order = [(system, release) for system, _, kind, release in night.every_act if kind == "restart"]
    assert order.index(("tickets", "3.2.4")) > max(n for n, one in enumerate(order) if one == ("spit", "3.2.4"))
    assert night.all_well() == []


def test_a_failed_lane_starts_nothing_that_needs_it_and_the_roll_carries_on_once_it_is_mended():
    night = many("spit", requires=NEEDS_SPIT, faults=[Fault(name="no_return", node="spit/b", act="restart", nth=1)])
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "spit/b did not come back" in end.message
    assert "tickets: 2.11.3 → 3.2.4 was not started: it needs spit.2" in end.message  # both lanes are told
    assert not [a for a in night.every_act if a[0] == "tickets" and a[3] == "3.2.4" and a[2] != "preload"]
    assert night.all_well() == []


# --- one lane in trouble


def defect(what: str, name: str, nth: int = 1, node: str = "b"):
    def trouble(happens: str, at: str, where: str, n: int) -> None:
        if (happens, at, where, n) == (what, name, node, nth):
            raise KeyError("of no error that anybody foresaw")

    return trouble


@pytest.mark.parametrize("what", ["read", "act"])
@pytest.mark.parametrize("nth", [1, 2, 3, 6])
def test_an_error_that_nobody_foresaw_stops_its_lane_and_the_others_rest_at_a_safe_stop(what, nth):
    night = many("spit", trouble=defect(what, "spit", nth))
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "spit was stopped by an error of Gallant's own: KeyError at test_many_lanes.py:" in end.message
    assert "anybody foresaw" not in f"{end} {night.events}"  # the text of such an error may hold a secret
    assert "gallant resume roll-0001" in end.next
    assert last_state(night) == "stopped"  # told in the journal too
    assert not [name for name, step in steps(night).items() if step.open and name.startswith("tickets")]
    assert all(node.up for node in night.pairs["tickets"].nodes.values())
    assert night.pairs["tickets"].replica()[0] == "matched"
    night.trouble = lambda *_: None
    assert night.finish(plan, downtime=400).state == "finished"
    assert [night.end_state(name) for name in night.pairs] == [END] * 2
    assert night.all_well() == []


def steps(night: Night):
    from gallant.engine.journal import replay

    return replay(night.events).steps


def test_two_lanes_that_stop_are_both_told_and_both_journalled():
    faults = [Fault(name="no_return", node=node, act="restart", nth=1) for node in ("tickets/b", "spit/b")]
    night = many("spit", faults=faults)
    end = night.run(night.plan())
    assert end.state == "stopped"
    for node in ("tickets/b", "spit/b"):
        assert f"{node} did not come back" in end.message
        assert f"Look at the console of {node}" in end.next
    assert end.next.count("gallant resume roll-0001") == 1
    assert night.events[-1].entry.message == end.message


# --- helpers


class Draws(Deaf):
    """A screen that cannot be drawn."""

    def event(self, event):
        raise ValueError("a width that is negative")

    progress = unanswered = sample = waiting = event


def test_a_screen_that_cannot_be_drawn_changes_nothing_of_the_roll_and_is_remarked_on():
    night = Night(listener=Draws(), versions=ONE_HOP)
    end = night.run(night.plan())
    assert end.state == "finished"
    assert "What shows the roll failed (ValueError at test_many_lanes.py:" in end.remarks[0]
    assert "negative" not in end.remarks[0]
    assert night.all_well() == []


def renewals(error: Exception, first: int, last: int):
    def trouble(what: str, name: str, node: str, n: int) -> None:
        if what == "renew" and first <= n <= last:
            raise error

    return trouble


@pytest.mark.parametrize("error", [GallantError("journal.db is locked by another program."), KeyError("x")])
def test_a_renewal_that_fails_holds_the_roll_and_the_leases_are_kept_until_it_stands(error):
    night = Night(trouble=renewals(error, 2, 2))
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "held"
    assert "the keeping of the leases failed" in end.message
    assert night.renewed >= 2  # it went on while the lane came to rest
    assert all(node.up for node in night.pair.nodes.values())
    assert night.pair.replica()[0] == "matched"
    night.trouble = lambda *_: None
    assert night.finish(plan).state == "finished"
    assert night.all_well() == []


def test_a_lane_whose_lease_is_taken_acts_no_more_and_the_others_go_on():
    night = many("spit", versions=ONE_HOP)

    def stolen(what, name, node, n):
        if what == "append" and (name, node, n) == ("accepted", "spit", 3):
            night.lost.add("spit")

    night.trouble = stolen
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "The lease of spit" in end.message
    assert night.end_state("tickets") == {n: ("2.11.3", role) for n, (_, role) in END.items()}
    after = [a for a in night.every_act if a[0] == "spit" and a[2] != "preload"]
    assert len([a for a in after if a[2] != "snapshot"]) == 1  # what was under way when the lease went
    assert night.all_well() == []


@pytest.mark.parametrize("fails", [1, 3])
def test_an_outage_that_cannot_be_written_is_kept_and_written_later(fails):
    night = Night(versions=ONE_HOP)

    def full(what, name, node, n):
        if what == "append" and name == "outage" and n <= fails:
            raise GallantError("journal.db cannot be written: the disk is full.")

    night.trouble = full
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "held"
    assert "the watch failed (journal.db cannot be written: the disk is full)" in end.message
    assert night.finish(plan).state == "finished"
    assert sum(e.entry.kind == "outage" for e in night.events) == 2  # a handover and a failback


def test_a_roll_whose_outages_cannot_be_written_at_all_is_not_finished():
    night = Night(versions=ONE_HOP)

    def full(what, name, node, n):
        if what == "append" and name == "outage":
            raise GallantError("journal.db cannot be written: the disk is full.")

    night.trouble = full
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "An outage could not be written down" in end.message


def test_a_service_that_comes_and_goes_by_itself_stops_the_work_before_anything_more_is_disturbed():
    night = Night(versions=ONE_HOP)
    night.out = lambda service: 100 < night.world.now < 400 and int(night.world.now) % 20 < 6
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "the service blocks was out" in end.message
    assert "times while no role was moved" in end.message
    assert not [a for a in night.acts if a[1] in ("restart", "handover")]
    assert night.all_well() == []


def test_the_outages_of_the_work_itself_are_not_held_against_it():
    night = Night()  # two handovers and two failbacks
    assert night.run(night.plan()).state == "finished"
    assert sum(e.entry.kind == "outage" for e in night.events) == 4


def test_nothing_is_disturbed_while_a_service_does_not_answer():
    night = Night(versions=ONE_HOP)
    night.out = lambda service: night.world.now > 200
    end = night.run(night.plan())
    assert (end.state, "the service blocks does not answer" in end.message) == ("stopped", True)
    assert not [a for a in night.acts if a[1] in ("restart", "handover")]


def test_the_journal_says_what_is_watched_from_each_beginning_on():
    night = many("spit", versions=ONE_HOP)
    plan = night.plan()
    night.run(plan, Orders(by="anna", hold_after="step"))
    night.run(plan)
    begun = [e.entry for e in night.events if e.entry.kind in ("opened", "resumed")]
    assert [[(w.system, w.service) for w in entry.watched] for entry in begun] == [
        [("tickets", "blocks"), ("spit", "spit-blocks")]
    ] * 2


# --- consents


def test_a_roll_without_a_backup_needs_a_system_that_cannot_export_and_a_consent():
    night = Night(exports=False, versions=ONE_HOP)
    plan = night.plan()
    with pytest.raises(GallantError, match="cannot export"):
        night.run(plan)
    assert night.run(plan, Orders(by="anna", consents=("no-backup:tickets",))).state == "finished"
    assert night.backups == []


def test_a_consent_to_go_without_a_backup_means_nothing_where_one_can_be_taken():
    night = Night(versions=ONE_HOP)
    end = night.run(night.plan(), Orders(by="anna", consents=("no-backup:tickets",)))
    assert end.state == "finished"
    assert night.all_well() == []
    night = Night(versions=ONE_HOP)
    plan = night.plan()
    night.run(plan, Orders(by="anna", consents=("no-backup:tickets",), hold_after="step"))
    night.backups.clear()
    end = night.run(plan, Orders(by="anna", consents=("no-backup:tickets",)))
    assert (end.state, "has no sealed backup" in end.message) == ("stopped", True)


def test_a_job_of_somebody_else_is_guarded_against_whatever_it_is_called():
    night = Night(exports=False, versions=ONE_HOP)
    plan = night.plan()
    night.pair.keep("b", "shoal-2.11.3.pkg", b"package 2.11.3")
    task = night.pair.order("b", "install", "shoal-2.11.3.pkg")
    task.text = "there is no sealed backup of this"
    end = night.run(plan, Orders(by="anna", consents=("no-backup:tickets",)))
    assert (end.state, "a job that is not ours" in end.message) == ("stopped", True)
    assert not [a for a in night.acts if a[1] == "install"]


# --- orders that land late, and readings that lag


@pytest.mark.parametrize("order", ["install", "restart", "yield", "reclaim"])
@pytest.mark.parametrize("late", [1, 90, 199, 212, 218])
def test_an_order_that_lands_within_its_time_is_never_given_twice(order, late):
    """Its answer is lost, and it lands up to the time-out (200 s here) and the time to land (20 s) after it was
    sent."""
    node = "tickets/b" if order in ("install", "restart") else "tickets/a"
    night = Night(faults=[Fault(name="lands_late", node=node, act=order, nth=1, value=late)])
    assert night.run(night.plan()).state == "finished"
    assert night.end_state() == END
    assert night.all_well() == []


@pytest.mark.parametrize("order", ["install", "restart", "yield", "reclaim"])
@pytest.mark.parametrize("late", [1, 90, 199, 212, 218])
@pytest.mark.parametrize("downtime", [0.5, 30, 150])
def test_nor_by_a_process_that_comes_after(order, late, downtime):
    node = "tickets/b" if order in ("install", "restart") else "tickets/a"
    night = Night(faults=[Fault(name="acts_late", node=node, act=order, nth=1, value=late)])
    assert night.finish(night.plan(), downtime=downtime).state == "finished"
    assert night.end_state() == END
    assert night.all_well() == []


@pytest.mark.parametrize("order", ["install", "restart", "yield", "reclaim"])
@pytest.mark.parametrize("sent", [100, 395])
def test_nor_is_an_order_that_was_sent_as_late_as_it_may_be(order, sent):
    """A third of the lease (400 s here) after its intent, and
    killed at that moment: from then on it has its whole time."""
    node = "tickets/b" if order in ("install", "restart") else "tickets/a"
    faults = [Fault(name="sent_late", node=node, act=order, value=sent)]
    night = Night(faults=[*faults, Fault(name="acts_late", node=node, act=order, nth=1, value=218)])
    plan = night.plan()
    with pytest.raises(Killed):
        night.run(plan)
    night.world.faults = []
    assert night.finish(plan, downtime=0.5).state == "finished"
    assert night.end_state() == END
    assert night.all_well() == []


def test_an_order_whose_intent_took_too_long_to_write_is_not_sent():
    night = Night(versions=ONE_HOP)
    night.slow = lambda entry: 410.0 if (entry.kind, entry.step) == ("intent", "tickets.1.b.install") else 0.0
    end = night.run(night.plan())
    assert (end.state, "writing the journal took too long" in end.message) == ("stopped", True)
    assert night.events[-2].entry.result == "not_sent"
    assert not [a for a in night.acts if a[1] == "install"]
    assert night.all_well() == []


def test_what_is_so_already_is_written_down_and_not_ordered():
    night = Night(versions=ONE_HOP)
    night.pair.keep("b", "shoal-2.11.3.pkg", b"package 2.11.3")
    assert night.run(night.plan()).state == "finished"
    assert [a[0] for a in night.acts if a[1] == "preload"] == ["a"]
    done = next(e.entry for e in night.events if e.entry.step == "tickets.1.b.preload" and e.entry.kind == "outcome")
    assert "it was so already" in done.message
    assert night.all_well() == []


@pytest.mark.parametrize("order", ["install", "restart"])
def test_an_order_that_was_accepted_and_of_which_nothing_is_seen_is_a_persons_to_answer(order):
    night = Night(versions=ONE_HOP)
    plan = night.plan()

    def killed_then(what, name, node, n):
        if night.events and (night.events[-1].entry.kind, night.events[-1].entry.step) == (
            "accepted",
            f"tickets.1.b.{order}",
        ):
            night.die()

    night.trouble = killed_then
    with pytest.raises(Killed):
        night.run(plan)
    night.trouble = lambda *_: None
    night.world._queue.clear()  # somebody reset the node
    night.pair.nodes["b"].tasks.clear()
    night.pair.synced_at = 0.0
    end = night.run(plan, downtime=600)
    assert end.state == "held", end
    assert "it took the order and shows nothing of it" in end.message
    assert f"--it-did-not tickets.1.b.{order}" in end.next
    assert [a[1] for a in night.acts].count(order) == 1


@pytest.mark.parametrize("lag", [5.0, 15.0])
@pytest.mark.parametrize("forgets", [False, True])
@pytest.mark.parametrize("lost", ["install", "restart", "yield", "reclaim", None])
def test_devices_that_tell_late_and_forget_their_jobs_are_rolled_as_well(lag, forgets, lost):
    node = "tickets/b" if lost in ("install", "restart") else "tickets/a"
    faults = [Fault(name="answer_lost", node=node, act=lost, nth=1)] if lost else []
    night = Night(faults=faults, lag_s=lag, forgets=forgets)
    assert night.finish(night.plan()).state == "finished"
    assert night.end_state() == END
    assert night.all_well() == []


@pytest.mark.parametrize("repeat", ["never", "if_absent", "safe"])
def test_an_order_is_given_again_only_as_its_profile_allows(repeat):
    night = Night(
        versions=ONE_HOP,
        repeat={"install": repeat},
        faults=[Fault(name="never_acts", node="tickets/b", act="install", nth=1)],
    )
    plan = night.plan()
    end = night.run(plan)
    if repeat == "never":
        assert (end.state, "--it-did-not tickets.1.b.install" in end.next) == ("held", True)
        assert "never given twice" in end.message
        assert night.world.counts["tickets/b install"] == 1
        end = night.run(plan, Orders(by="anna", answers={"tickets.1.b.install": False}))
    assert end.state == "finished"
    assert night.all_well() == []


def test_steady_is_what_held_in_every_sample_and_begins_anew_with_each_that_did_not():
    night = Night(versions=ONE_HOP)
    apart: list[float] = []

    def flaps(reading):
        """In the first steady of b, the replica is not whole for a moment, forty seconds after it was."""
        begun = [e for e in night.events if e.entry.step == "tickets.1.b.steady" and e.entry.kind == "intent"]
        whole = night.pair.replica()[0] == "matched" and night.pair.nodes["b"].version == "2.11.3"
        if begun and whole and not apart:
            apart.append(night.world.now + 40)
        if apart and apart[0] <= night.world.now < apart[0] + 15:
            return replace(reading, in_sync=False, sync_word="catching-up")
        return reading

    night.bend = flaps
    assert night.run(night.plan()).state == "finished"
    done = next(e for e in night.events if e.entry.step == "tickets.1.b.steady" and e.entry.kind == "outcome")
    steady_since = (done.entry.at - night.world.began).total_seconds() - 60
    assert steady_since >= apart[0] + 10  # not since it was whole for the first time


def test_a_failure_is_believed_on_the_word_of_two_readings_only():
    night = Night(versions=ONE_HOP)
    odd: list[str] = []

    def torn(reading):
        """A job that has just ended, with the versions from just before."""
        ended = [j for j in reading.jobs if j.kind == "install" and j.state == "done"]
        if ended and reading.name not in odd and reading.next_version == "2.11.3" and reading.version == "2.8.5":
            odd.append(reading.name)
            return replace(reading, next_version=reading.version)
        return reading

    night.bend = torn
    assert night.run(night.plan()).state == "finished"
    assert sorted(odd) == ["tickets/a", "tickets/b"]
    assert not [e for e in night.events if e.entry.result == "failed"]


def test_a_node_that_runs_something_else_while_it_is_looked_at_stops_the_roll():
    night = Night(versions=ONE_HOP)

    def another(reading):
        looking = any(e.entry.step == "tickets.1.b.steady" for e in night.events)
        return replace(reading, version="2.8.5") if looking and reading.node == "b" else reading

    night.bend = another
    end = night.run(night.plan())
    assert (end.state, "runs 2.8.5; by the journal it should run 2.11.3" in end.message) == ("stopped", True)


def test_a_release_that_the_catalog_describes_otherwise_since_the_plan_is_not_installed():
    night = Night(versions=ONE_HOP)
    plan = night.plan()
    changed = [replace(r, notes="quietly altered") for r in night.catalog.releases]
    night.catalog = replace(night.catalog, releases=tuple(changed))
    end = night.run(plan)
    assert (end.state, "has changed since the plan was made" in end.message) == ("stopped", True)
    assert night.acts == []


@pytest.mark.parametrize("kind", ["install", "restart"])
def test_a_refused_login_stops_the_wait_but_for_a_node_that_is_starting(kind):
    night = Night(versions=ONE_HOP)

    def refuses(what, name, node, n):
        newest = night.events[-1].entry if night.events else None
        if what == "read" and node == "b" and newest is not None and newest.step == f"tickets.1.b.{kind}":
            raise LoginRefused("tickets/b does not let anybody in.")

    night.trouble = refuses
    end = night.run(night.plan())
    assert end.state == "stopped"
    said = "does not let anybody in" if kind == "install" else "did not come back within"
    assert said in end.message


# --- the end


LOOKS = {
    "a node runs something else": ({"version": "2.8.5"}, "runs 2.8.5"),
    "a node is not in sync": ({"in_sync": False}, "is not in service and in sync"),
    "a role is elsewhere": ({"role": "unknown"}, "its usual place is"),
}


@pytest.mark.parametrize("look", LOOKS)
def test_finished_is_said_of_nothing_that_the_last_look_finds_otherwise(look):
    night = Night(versions=ONE_HOP)
    changes, said = LOOKS[look]

    def at_the_end(reading):
        last = any(e.entry.step == "tickets.1.a.steady.failback" and e.entry.result == "done" for e in night.events)
        return replace(reading, **changes) if last and reading.node == "b" else reading

    night.bend = at_the_end
    end = night.run(night.plan())
    assert (end.state, said in end.message) == ("stopped", True), end.message
    assert "gallant verify tickets" in end.next


def test_nor_while_a_service_does_not_answer():
    night = Night(versions=ONE_HOP)
    night.out = lambda service: any(e.entry.step == "tickets.1.a.steady.failback" for e in night.events)
    end = night.run(night.plan())
    assert (end.state, "the service blocks does not answer" in end.message) == ("stopped", True)
    assert sum(e.entry.kind == "outage" and e.entry.outage.ended is None for e in night.events) == 1


def test_a_node_that_is_never_told_twice_is_waited_for_while_it_is_away():
    night = Night(
        versions=ONE_HOP,
        repeat={"restart": "never"},
        faults=[Fault(name="answer_lost", node="tickets/b", act="restart", nth=1)],
        bend=lambda reading: replace(reading, jobs=()),  # a device that lists no jobs
    )
    assert night.run(night.plan()).state == "finished"
    assert night.all_well() == []


# --- dead ends


def test_a_node_that_came_back_on_its_old_version_can_be_installed_again():
    night = Night(versions=ONE_HOP)
    plan, node = night.plan(), night.pair.nodes["b"]

    def falls_back(what, name, where, n):
        if not node.up:
            node.boots_from = node.runs_from

    night.trouble = falls_back
    end = night.run(plan)
    assert end.state == "stopped"
    assert "came back on 2.8.5, not on 2.11.3" in end.message
    again = "gallant resume roll-0001 --again tickets.1.b.install"
    assert again in end.next
    assert "gallant hold roll-0001 --for-good" in end.next
    night.trouble = lambda *_: None
    end = night.run(plan)  # resumed without a word, it says the same and does nothing
    assert (end.state, again in end.next) == ("stopped", True)
    end = night.run(plan, Orders(by="anna", again=("tickets.1.b.install",)), downtime=400)
    assert end.state == "finished", end
    assert any(e.entry.kind == "again" and e.entry.by == "anna" for e in night.events)
    assert [a for a in night.all_well() if not a.startswith("I5")] == []


def held_once(night: Night, done: str):
    """The plan, held right after a step of it was done."""
    plan = night.plan()
    while not any((e.entry.kind, e.entry.step) == ("outcome", done) for e in night.events):
        night.run(plan, Orders(by="anna", hold_after="step"))
    return plan


def test_a_package_that_is_gone_from_its_node_is_brought_again_or_the_roll_ended():
    night = Night(versions=ONE_HOP)
    plan = held_once(night, "tickets.1.b.preload")
    night.pair.nodes["b"].packages.clear()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b: install did not start" in end.message
    assert "gallant resume roll-0001 --again tickets.1.b.preload does that once more" in end.next
    assert "gallant hold roll-0001 --for-good" in end.next
    assert night.run(plan, Orders(by="anna", again=("tickets.1.b.preload",))).state == "finished"
    assert night.all_well() == []


def test_what_will_be_well_again_by_itself_is_no_reason_to_end_the_roll():
    night = Night(versions=ONE_HOP)
    plan = held_once(night, "tickets.1.b.install")
    level, night.pair.synced_at = night.pair.synced_at, None
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b: restart did not start" in end.message
    assert "--for-good" not in end.next
    night.pair.synced_at = level
    assert night.run(plan).state == "finished"


def test_what_something_was_built_on_is_not_done_again():
    night = Night(versions=ONE_HOP)
    plan = night.plan()
    while not any(a[:2] == ("b", "restart") for a in night.acts):
        night.run(plan, Orders(by="anna", hold_after="step"))
    with pytest.raises(GallantError, match="restart, which built on it, was done"):
        night.run(plan, Orders(by="anna", again=("tickets.1.b.install",)))
    with pytest.raises(GallantError, match="was not done yet"):
        night.run(plan, Orders(by="anna", again=("tickets.1.a.install",)))
    with pytest.raises(GallantError, match="has no step x"):
        night.run(plan, Orders(by="anna", again=("x",)))


def test_a_job_of_ours_that_a_person_declares_dead_is_not_taken_for_somebody_elses():
    night = Night(versions=ONE_HOP)
    plan = night.plan()
    ordered = night.pair._install

    def never_ends(node, package):
        task = ordered(node, package)
        night.world._queue.clear()  # somebody reset the node: nothing of the job goes on, and it is still listed
        return task

    night.pair._install = never_ends
    end = night.run(plan)
    assert (end.state, "was not done within" in end.message) == ("stopped", True)
    night.pair._install = ordered
    task = night.pair.nodes["b"].tasks[-1]
    task.what = "install"
    night.pair.nodes["b"].__class__ = type("Reset", (type(night.pair.nodes["b"]),), {"busy_task": None})
    end = night.run(plan, Orders(by="anna", answers={"tickets.1.b.install": False}))
    assert end.state == "finished", end
    assert task.state == "busy"  # the node says so to this day
    assert {(system, node) for system, node, _ in replay(night.events).set_aside} == {("tickets", "b")}


def test_a_consent_is_read_as_what_it_is():
    from gallant.core.decide.consents import Consent, parse_consent
    from gallant.core.errors import WrongUse

    assert parse_consent("one-way:tickets") == Consent(to="one-way", system="tickets")
    assert parse_consent("one-way:tickets").words == "one-way:tickets"
    for wrong in ("one-way", "oneway:tickets", "one-way:", ":tickets"):
        with pytest.raises(WrongUse, match="accepts nothing") as refused:
            parse_consent(wrong)
        assert "one-way:SYSTEM" in refused.value.why
        assert "loses-unsaved:NODE" in refused.value.why


def test_an_order_that_the_device_refuses_fails_its_step_and_is_given_again_only_on_resume():
    night = Night(versions=ONE_HOP)

    def refuses(what, system, node, n):
        if (what, node, n) == ("act", "b", 2):  # the install, after the package
            raise DeviceRefused("tickets/b refuses: no room for an image.", meaning="refused")

    night.trouble = refuses
    plan = night.plan()
    end = night.run(plan)
    assert end.state == "stopped"
    assert "install to 2.11.3 was refused. tickets/b refuses: no room for an image." in end.message
    words = [
        (event.entry.kind, event.entry.result) for event in night.events if event.entry.step == "tickets.1.b.install"
    ]
    assert words == [("intent", None), ("outcome", "failed")]
    assert ("b", "install", "2.11.3") not in night.acts
    assert night.run(plan).state == "finished"
    assert night.all_well() == []


def test_a_job_of_this_roll_that_a_device_still_lists_is_named_by_its_step():
    night = Night(versions=ONE_HOP)

    def still_running(reading):
        jobs = tuple(replace(j, state="running", message="writing") if j.kind == "install" else j for j in reading.jobs)
        return replace(reading, jobs=jobs) if reading.node == "b" and reading.next_version == "2.11.3" else reading

    plan = night.plan()
    night.bend = lambda reading: reading
    done = night._reading

    def told(system, name):
        reading = done(system, name)
        installed = any(e.entry.kind == "outcome" and e.entry.step == "tickets.1.b.install" for e in night.events)
        return still_running(reading) if installed else reading

    night._reading = told
    end = night.run(plan)
    assert end.state == "stopped"
    assert "tickets/b still says that it carries out tickets.1.b.install (writing)" in end.message


def test_nodes_that_do_not_become_whole_between_two_parts_of_a_wave_stop_it_in_the_end():
    night = ClusterNight(shape="pool", running=dict.fromkeys("abcd", "2.8.5"), leader=None, load=10.0)

    def more_load(*what):
        if night.backups:
            night.load = 45.0  # more than when the order was derived: one at a time now

    night.trouble = more_load

    def bend(reading):
        began = [e for e in night.events if e.entry.kind == "outcome" and (e.entry.step or "").endswith(".restart")]
        return replace(reading, in_sync=False, sync_word="apart") if reading.node == "d" and began else reading

    night.bend = bend
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "tickets/b: install did not start: tickets/d: its replica is apart" in end.message
    assert {node for node, kind, _ in night.acts if kind == "restart"} == {"a"}


def test_a_job_that_was_seen_once_is_asked_for_by_its_number_when_it_is_listed_no_more():
    """The device gives no number when it takes the order, and lists only what is going on."""
    night = Night(
        faults=[Fault(name="install_fails_at", node="tickets/b", act="install", nth=1, value=40)], forgets=True
    )

    class Silent(SimDriver):
        async def act(self, node, act, *, send_by, progress=None):
            return replace(await super().act(node, act, send_by=send_by, progress=progress), handle=None)

    night.driver = lambda system: Silent(night, system)
    end = night.run(night.plan())
    assert end.state == "stopped"
    assert "tickets/b: install to 2.11.3 failed" in end.message
