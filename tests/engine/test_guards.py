"""The guards, each made to refuse, in every form of what it is there for."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from gallant.core.catalog.products import Recall
from gallant.core.readings import RUNNING, UNSAVED, Component, Facet, Gauge, Job, PackagePresent
from gallant.core.records import replace
from gallant.core.steps.kinds import KINDS
from gallant.core.work.plan import Brought, steps_of
from gallant.engine.guards import GUARDS, MOST_FLAPS, Above, Scene, objections

from ..builders import ESTATE, TICKETS, both, sealed_backup
from ..simulation.night import Night

NOW = datetime(2026, 11, 25, tzinfo=UTC)

NIGHT = Night()
RELEASE = NIGHT.catalog.resolve("2.11.3")
PLAN = NIGHT.plan()
INSTALL = next(s for s in steps_of(PLAN.lanes[0].hops[0].waves) if s.kind == "install" and s.node == "b")
BACKUP = sealed_backup(taken=NOW, sealed=NOW)
PACKAGE = PackagePresent(name="shoal-2.11.3.pkg", sha256=RELEASE.installer.sha256, bytes=1)
EVERY_GUARD = replace(INSTALL, guards=tuple(GUARDS))


def scene(a: dict | None = None, b: dict | None = None, **more) -> Scene:
    good = {"packages": (PACKAGE,), "next_version": "2.11.3"}
    return Scene(
        **{
            "step": EVERY_GUARD,
            "system": TICKETS,
            "readings": both(a, {**good, **(b or {})}),
            "expected": {"a": "2.8.5", "b": "2.8.5"},
            "release": RELEASE,
            "release_as_planned": True,
            "backups": (BACKUP,),
            "backup_limit": timedelta(hours=24),
            "hop_backups": ("b",),
            "restore_point": "roll-0001-before-2.11.3_20261125-2100_anna",
            "now": NOW,
            **more,
        }
    )


def against(made: Scene) -> list[str]:
    return [one.reason for one in objections(made, lambda product, x, y: x == y)]


ALONE = replace(TICKETS, shape="single", nodes={"b": TICKETS.nodes["b"]})
POOL = replace(TICKETS, shape="pool")
ON_B = replace(EVERY_GUARD, guards=("enough_stay",))
FULL = {"gauges": (Gauge(name="load", value=45, unit="%"),)}
MOVING = replace(TICKETS, services={"blocks": replace(TICKETS.services["blocks"], address="10.0.0.2:860")})
HOSTS = replace(TICKETS, shape="quorum", nodes=dict.fromkeys("abc", TICKETS.nodes["b"]))


def above(b: dict | None = None, others: dict | None = None, **more) -> Above:
    """Three hosts, of which b leads and stands on the node that is worked on."""
    whole = {"role": "member", "system": "hosts"}
    readings = {n: replace(both()["a"], node=n, **{**whole, **(others or {})}) for n in "ac"}
    leads = replace(both()["b"], **{**whole, "role": "leader", **(b or {})})
    return Above(
        **{
            "system": replace(HOSTS, name="hosts"),
            "readings": {**readings, "b": leads},
            "going": ("b",),
            "drains": False,
            **more,
        }
    )


UNSAVED_B = {"facets": (Facet(name=RUNNING, state=UNSAVED),)}

REFUSES = {
    "right_machine": (scene(b={"serial": "Z"}), "answers as serial Z"),
    "own_address": (scene(system=MOVING), "which moves"),
    "no_unknown_job": (scene({"jobs": (Job(id="9", kind="install", state="running"),)}), "not ours"),
    "versions_as_expected": (scene({"version": "3.2.4"}), "by the journal it should run 2.8.5"),
    "not_recalled": (scene(release_as_planned=False), "has changed since the plan"),
    "peers_healthy": (scene({"in_sync": False, "sync_word": "apart"}), "not in sync (apart)"),
    "everyone_healthy": (scene(b={"state": "unknown"}), "tickets/b is not in service"),
    "backup_sealed": (scene(backups=(replace(BACKUP, sealed=None),)), "no sealed backup of 2.8.5"),
    "configuration_saved": (scene(b=UNSAVED_B), "tickets/b runs what it would not start with"),
    "restore_point_there": (scene(restore_point=None), "the restore point of tickets that the plan asks for"),
    "package_verified": (scene(b={"packages": (replace(PACKAGE, sha256="0" * 64),)}), "not the catalog's"),
    "not_serving": (scene(b={"role": "active"}), "only a standby node is restarted"),
    "enough_stay": (
        scene({"state": "out_of_service"}),
        "2 of 2 nodes would be out of service (a, b); tickets tolerates 1",
    ),
    "upper_ready": (scene(above=(above(),)), "hosts/b is leader, and stands on tickets/b"),
    "service_well": (scene(silent=("blocks",)), "the service blocks does not answer"),
    "awaits_target": (scene(b={"next_version": "2.8.5"}), "would start 2.8.5"),
}


def test_no_guard_stands_in_the_way_when_all_is_well():
    assert against(scene()) == []


def test_what_was_never_saved_is_lost_by_the_word_of_somebody_who_names_the_node_also_of_what_stands_on_it():
    alone = replace(EVERY_GUARD, guards=("configuration_saved",))
    assert against(scene(b=UNSAVED_B, step=alone, losing_accepted=("tickets/b",))) == []
    assert against(scene(b=UNSAVED_B, step=alone, losing_accepted=("tickets/a", "hosts/b"))) != []
    upper = above(b=UNSAVED_B)
    assert "hosts/b runs what" in against(scene(above=(upper,), step=alone))[0]
    assert against(scene(above=(upper,), step=alone, losing_accepted=("hosts/b",))) == []
    assert against(scene({"facets": UNSAVED_B["facets"]}, step=alone)) == []  # which stays up


def test_what_is_out_already_is_brought_back_and_a_consent_lets_a_service_go_down():
    assert against(scene(b={"state": "out_of_service"}, step=ON_B)) == []
    assert against(scene(system=ALONE, step=ON_B, downtime_accepted=True)) == []


@pytest.mark.parametrize("guard", GUARDS)
def test_each_guard_refuses_what_it_is_there_for(guard):
    made, said = REFUSES[guard]
    alone = replace(made, step=replace(EVERY_GUARD, guards=(guard,)))
    assert said in against(alone)[0]


MORE = [
    ({"b": {"state": "out_of_service", "role": "active"}}, "tickets/b is active though it is out of service"),
    ({"backups": (replace(BACKUP, taken=NOW - timedelta(hours=25)),)}, "no sealed backup"),
    ({"backups": (replace(BACKUP, versions={"a": "2.8.5", "b": "2.8.3"}),)}, "no sealed backup"),
    ({"release": None}, "no longer in the catalog"),
    ({"flapping": {"blocks": MOST_FLAPS}}, "was out 3 times while no role was moved"),
    (
        {"our_jobs": {("a", "9"): "x.1"}, "a": {"jobs": (Job(id="9", kind="install", state="running"),)}},
        "carries out x.1",
    ),
    ({"b": {"packages": ()}}, "is not on tickets/b"),
    ({"a": {"state": "out_of_service"}}, "tickets/a is not in service"),
    ({"beside": ("a",)}, "2 of 2 nodes would be out of service (a, b)"),
    ({"system": ALONE, "step": ON_B}, "has nothing that carries on while tickets/b is away"),
    ({"system": POOL, "a": FULL, "b": FULL, "ceiling_percent": 80}, "the load of the others would be 90 %, over 80 %"),
]


UPPER = replace(EVERY_GUARD, guards=("upper_ready",))
LONELY = replace(HOSTS, name="hosts", shape="single", nodes={"b": TICKETS.nodes["b"]})


def test_what_stands_on_a_node_lets_it_go_when_it_can_do_without():
    assert against(scene(step=UPPER, above=(above({"role": "member"}),))) == []
    assert against(scene(step=UPPER, above=(above({"state": "out_of_service", "role": "member"}, drains=True),))) == []
    nobody = above({"state": "out_of_service"}, {"state": "out_of_service"})
    assert not any("though it is out of service" in r for r in against(scene(step=UPPER, above=(nobody,))))
    alone = above(system=LONELY, readings={"b": above().readings["b"]})
    assert against(scene(step=UPPER, above=(alone,), falling_accepted=("hosts",))) == []


@pytest.mark.parametrize(
    ("one", "said"),
    [
        (
            above({"state": "out_of_service"}, drains=True),
            "hosts/b is leader though it is out of service, and stands on tickets/b",
        ),
        (above({"role": "member"}, drains=True), "hosts/b still carries, and stands on tickets/b"),
        (
            above({"role": "member"}, {"state": "out_of_service"}),
            "hosts tolerates 1 of 3 nodes out, a, b, c would be, and one stands on",
        ),
        (above({"role": "member"}, {"in_sync": False}), "hosts/a is not in sync"),
        (above(system=LONELY, readings={"b": above().readings["b"]}), "hosts would be down, and stands on tickets/b"),
    ],
)
def test_what_stands_on_a_node_keeps_it_in_every_way(one, said):
    assert any(said in reason for reason in against(scene(step=UPPER, above=(one,))))


@pytest.mark.parametrize(("change", "said"), MORE)
def test_a_guard_refuses_every_form_of_what_it_is_there_for(change, said):
    assert any(said in reason for reason in against(scene(**change)))


def test_every_guard_that_a_step_names_exists_and_every_guard_is_named_by_some_step():
    assert {name for kind in KINDS.values() for name in kind.guards} == set(GUARDS)
    assert ESTATE.systems["tickets"] is TICKETS


def test_without_an_export_and_with_a_consent_no_backup_is_asked_for_and_every_other_guard_stands():
    assert against(scene(backups=(), backup_waived=True)) == []
    told = Job(id="9", kind="install", state="running", message="no sealed backup of anything")
    assert any("not ours" in r for r in against(scene({"jobs": (told,)}, backups=(), backup_waived=True)))


def test_a_service_that_was_out_once_or_twice_guards_against_nothing():
    assert against(scene(flapping={"blocks": MOST_FLAPS - 1})) == []


def test_a_move_of_roles_needs_the_backup_that_its_own_hop_began_with_whatever_the_clocks_said():
    move = replace(EVERY_GUARD, kind="handover", guards=("backup_sealed",))
    late = replace(BACKUP, taken=NOW - timedelta(hours=20))
    assert against(scene(step=move, backups=(late,))) == []
    assert against(scene(step=move, backups=(late,), hop_backups=("another",))) != []
    assert against(scene(step=move, backups=(replace(late, sealed=None),))) != []


def test_what_a_node_that_is_out_tells_of_its_load_counts_for_nothing():
    four = replace(POOL, nodes=dict.fromkeys("abcd", TICKETS.nodes["b"]))
    load = {"gauges": (Gauge(name="load", value=55, unit="%"),)}
    idle = {"gauges": (Gauge(name="load", value=0, unit="%"),), "state": "out_of_service"}
    readings = {**both(load, load), "c": replace(both(load)["a"], node="c"), "d": replace(both(idle)["a"], node="d")}
    made = scene(system=four, step=ON_B, readings=readings, ceiling_percent=80)
    assert against(made) == ["without tickets/b the load of the others would be 82 %, over 80 %"]


def test_a_recall_is_named_as_what_it_is_and_a_person_may_have_said_that_it_does_not_matter():
    recalled = replace(RELEASE, recall=Recall(date=NOW, reason="it loses what it was given"))
    alone = replace(EVERY_GUARD, guards=("not_recalled",))
    (said,) = against(scene(release=recalled, release_as_planned=False, step=alone))
    assert said == f"2.11.3 was {recalled.recall.words}"
    assert against(scene(release=recalled, step=replace(alone, despite_recall=True))) == []


@pytest.mark.parametrize(
    ("waits", "said"), [(None, []), ("5.20", []), ("5.19", ["tickets/b would start nic 5.19, not 5.20"])]
)
def test_a_component_that_would_start_something_else_keeps_its_node_from_starting(waits, said):
    nic = Component(name="nic", kind="NIC", product="ostrel/nic", version="5.16", next_version=waits)
    brings = (Brought(component="nic", product="ostrel/nic", version="5.20"),)
    step = replace(EVERY_GUARD, guards=("awaits_target",), brings=brings)
    assert against(scene(b={"components": (nic,)}, step=step)) == said
