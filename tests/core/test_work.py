"""Order, plans, outages, checks and the verdict after the work."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, timedelta
from importlib import import_module

import click
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.cli.main import COMMANDS
from gallant.core.after.compare import verify_system, with_all_that_is_known
from gallant.core.after.picture import Unlike
from gallant.core.after.settling import Judged
from gallant.core.after.still import Still
from gallant.core.assess.issues import Concern
from gallant.core.catalog.products import KnownIssue, Minutes, Package
from gallant.core.checks.all import CHECKS, check_named, run_checks
from gallant.core.checks.facts import (
    LEVELS,
    AroundFacts,
    AskedFacts,
    BookedTime,
    Facts,
    Followed,
    HalfRestored,
    Rescue,
    RouteFacts,
    SnapshotRoom,
    Unattended,
)
from gallant.core.decide.consents import parse_consent
from gallant.core.errors import Refused, worst_exit
from gallant.core.estate.backups import Copy
from gallant.core.estate.services import Service
from gallant.core.estate.snapshots import RestorePoint
from gallant.core.estate.systems import Aim, Limits, Note
from gallant.core.outages import Sample, outages
from gallant.core.plan.ground import Ground
from gallant.core.plan.lane_hops import lane_seconds
from gallant.core.plan.planning import make_plan
from gallant.core.readings import (
    RUNNING,
    SAVED,
    UNSAVED,
    Alarm,
    Channel,
    Component,
    Expiry,
    Facet,
    Gauge,
    Job,
    Reading,
    Snapshot,
)
from gallant.core.records import replace
from gallant.core.shapes import NotSafe, Standing, rounds
from gallant.core.steps import minutes as estimate
from gallant.core.steps.kinds import KINDS
from gallant.core.work.hop_work import HopWork
from gallant.core.work.knows import Knows
from gallant.core.work.plan import NothingToDo, Plan, basis_differences, steps_of

from ..builders import ESTATE, TICKETS, both, reading, sealed_backup
from .test_assessment import NOW, SHOAL

# --- order

PAIRS = [
    (["a", "b"], {"a": "active", "b": "standby"}, {"active": "a"}, ["work b", "handover a", "work a", "failback a"]),
    (["a", "b"], {"a": "standby", "b": "active"}, {"active": "a"}, ["work a", "handover b", "work b"]),
    (["a", "b"], {"a": "active", "b": "standby"}, {}, ["work b", "handover a", "work a"]),
    (["b"], {"a": "active", "b": "standby"}, {"active": "a"}, ["work b"]),
    (["a"], {"a": "active", "b": "standby"}, {"active": "a"}, ["handover a", "work a", "failback a"]),
    ([], {"a": "active", "b": "standby"}, {"active": "b"}, []),
]


@pytest.mark.parametrize(("todo", "roles", "usual", "expected"), PAIRS)
def test_a_pair_is_worked_standby_first_and_ends_in_its_usual_places(todo, roles, usual, expected):
    order = rounds("pair", ("a", "b"), todo, Standing(roles=roles), usual)
    assert [f"{t.kind} {t.node}" for (t,) in order] == expected


@pytest.mark.parametrize(
    "roles",
    [
        {"a": "active", "b": "active"},
        {"a": "standby", "b": "standby"},
        {"a": "active"},
        {"a": "active", "b": "unknown"},
    ],
)
def test_roles_that_allow_no_order_are_refused(roles):
    with pytest.raises(NotSafe, match="one active and one standby"):
        rounds("pair", ("a", "b"), ["a", "b"], Standing(roles=roles), {})


# --- plans


def plan_of(readings: dict[str, Reading]) -> Plan:
    named = {f"tickets/{n}": r for n, r in readings.items()}
    ground = Ground(estate=ESTATE, readings=named, products={SHOAL.name: SHOAL}, now=NOW)
    return make_plan(ground, [TICKETS], {"ostrel-shoal": "d"}, by="t")


def test_a_plan_is_named_by_its_content_and_survives_a_file():
    plan = plan_of(both())
    again = msgspec.json.decode(msgspec.json.encode(plan), type=Plan)
    assert again == plan
    assert again.is_whole
    assert not replace(plan, by="another").is_whole
    assert plan_of(both()) == plan


def test_a_plan_goes_hop_by_hop_over_both_nodes_with_a_backup_first():
    plan = plan_of(both())
    assert [(h.from_, h.to, h.needs) for h in plan.lanes[0].hops] == [
        ("2.8.5", "2.11.3", ()),
        ("2.11.3", "3.2.4", ("tickets.1",)),
    ]
    for hop in plan.lanes[0].hops:
        steps = [s for w in hop.waves for t in w.tracks for s in t.steps]
        assert steps[0].kind == "backup"
        assert len({s.id for s in steps}) == len(steps)
        assert all(s.guards for s in steps if s.kind != "steady")
    assert plan.estimate_s > 0


def test_what_releases_take_is_what_the_plan_through_them_takes():
    named = {f"tickets/{n}": r for n, r in both().items()}
    ground = Ground(estate=ESTATE, readings=named, products={SHOAL.name: SHOAL}, now=NOW)
    releases = [SHOAL.resolve(version) for version in ("2.11.3", "3.2.4")]
    seconds, room = lane_seconds(ground, TICKETS, releases)
    plan = plan_of(both())
    assert seconds == plan.estimate_s
    assert room > 0
    assert lane_seconds(ground, TICKETS, releases[:1])[0] < seconds


REFUSED = [
    ({"version": "3.2.6"}, "newer than its aim"),
    ({"version": "9.9.1"}, "not in the catalog"),
    ({"next_version": "3.2.6"}, "would run 3.2.6"),
    ({"role": "standby"}, "one active and one standby"),
]


@pytest.mark.parametrize(("change", "said"), REFUSED)
def test_what_cannot_be_planned_safely_is_refused_with_the_reason(change, said):
    with pytest.raises(Refused) as refused:
        plan_of(both(change))
    assert said in refused.value.what


WITHOUT_WAY = replace(
    SHOAL,
    releases=tuple(replace(r, from_range="vers:dotted/>=9.0") if r.version == "2.11.3" else r for r in SHOAL.releases),
)


@pytest.mark.parametrize(
    ("products", "aim", "said"),
    [
        ({}, "newest", "no catalog here lists ostrel/shoal"),
        ({SHOAL.name: SHOAL}, "pin 7.7.7", "no release of ostrel/shoal fits the aim pin 7.7.7"),
        ({SHOAL.name: WITHOUT_WAY}, "pin 3.2.4", "no route|no way|cannot"),
    ],
)
def test_a_plan_without_a_goal_or_a_way_to_it_is_refused_with_the_reason(products, aim, said):
    aimed = replace(ESTATE, aims=(Aim(for_="default", aim=aim),))
    named = {f"tickets/{n}": r for n, r in both().items()}
    ground = Ground(estate=aimed, readings=named, products=products, now=NOW)
    with pytest.raises(Refused, match=said):
        make_plan(ground, [TICKETS], {"ostrel-shoal": "d"}, by="t")


def test_a_system_whose_nodes_have_different_aims_is_refused_and_both_are_named():
    apart = replace(ESTATE, aims=(*ESTATE.aims, Aim(for_="tickets/b", aim="pin 3.2.4")))
    named = {f"tickets/{n}": r for n, r in both().items()}
    ground = Ground(estate=apart, readings=named, products={SHOAL.name: SHOAL}, now=NOW)
    with pytest.raises(Refused, match=r"different aims \(pin 3\.2\.4, settled 90d\)"):
        make_plan(ground, [apart.systems["tickets"]], {"ostrel-shoal": "d"}, by="t")


def test_an_unread_node_is_not_planned_and_a_current_system_has_nothing_to_do():
    with pytest.raises(Refused, match="never read"):
        plan_of({"a": reading("a")})
    with pytest.raises(NothingToDo):
        plan_of(both(*({"version": "3.2.4", "next_version": "3.2.4"},) * 2))


def plan_with(estate, capabilities, knows: Knows | None = None, **told: tuple[object, object]) -> Plan:
    """`told` is what a and b say of themselves, where it is not as usual."""
    system = estate.systems["tickets"]
    changes = [{field: values[n] for field, values in told.items()} for n in (0, 1)]
    readings = {f"tickets/{n}": r for n, r in both(*changes).items()}
    known = {"tickets": knows or Knows(capabilities=frozenset(capabilities))}
    ground = Ground(estate=estate, readings=readings, products={SHOAL.name: SHOAL}, now=NOW, knows=known)
    return make_plan(ground, [system], {"ostrel-shoal": "p"}, by="x")


ALL_ACTS = {"preload", "install", "restart", "handover", "failback"}


def test_a_plan_asks_nothing_of_a_driver_that_it_does_not_know():
    with pytest.raises(Refused, match=r"tickets: its profile knows no handover, no failback"):
        plan_with(ESTATE, ALL_ACTS - {"handover", "failback"})


def test_where_a_device_keeps_no_packages_the_install_brings_them_along():
    steps = list(plan_with(ESTATE, ALL_ACTS - {"preload"}).steps())
    assert not [s for s in steps if s.kind == "preload"]
    installs = [s for s in steps if s.kind == "install"]
    assert installs
    assert all(s.package and s.sha256 and "package_verified" not in s.guards for s in installs)
    assert all("package_verified" in s.guards for s in plan_with(ESTATE, ALL_ACTS).steps() if s.kind == "install")


def test_a_plan_promises_a_spare_slot_only_where_the_profile_says_that_there_is_one():
    for slots in (1, 2):
        knows = Knows(capabilities=frozenset(ALL_ACTS), slots=slots)
        plan = plan_with(ESTATE, ALL_ACTS, knows)
        told = " ".join(f"{s.expects} {s.undo}" for s in plan.steps() if s.kind in ("install", "restart"))
        assert plan.lanes[0].slots == slots
        assert ("slot" in told) == (slots == 2)


def test_a_plan_names_the_nodes_that_show_nothing_of_an_install_before_they_have_restarted():
    for telling, mute in (((True, True), ()), ((True, False), ("b",)), ((False, False), ("a", "b"))):
        plan = plan_with(ESTATE, ALL_ACTS, tells_work=telling)
        assert plan.lanes[0].mute == mute


def test_a_step_is_repeated_as_its_profile_says_and_else_as_its_kind_does():
    knows = Knows(capabilities=frozenset(ALL_ACTS), repeat={"install": "never", "restart": "safe"})
    kinds = {s.kind: s.repeat for s in plan_with(ESTATE, ALL_ACTS, knows).steps()}
    assert (kinds["install"], kinds["restart"], kinds["handover"], kinds["preload"]) == (
        "never",
        "safe",
        "if_absent",
        "safe",
    )


def test_what_one_hop_saves_the_next_has_saved():
    told = {"facets": ((Facet(name=RUNNING, state=UNSAVED),), (Facet(name=RUNNING, state=SAVED),))}
    hops = plan_with(ESTATE, ALL_ACTS | {"save_config"}, **told).lanes[0].hops
    saved = [[step.node for step in steps_of(hop.waves) if step.kind == "save_config"] for hop in hops]
    assert saved == [["a"], []]


def test_no_step_passes_a_recall_that_nobody_has_passed():
    assert not any(step.despite_recall for step in plan_with(ESTATE, ALL_ACTS).steps())


def test_a_consent_is_about_a_system_also_where_it_names_a_node():
    given = [parse_consent(text) for text in ("loses-unsaved:quay/b", "one-way:quay")]
    assert [(one.whose, one.words) for one in given] == [("quay", "loses-unsaved:quay/b"), ("quay", "one-way:quay")]


def test_a_step_brings_a_whole_package_or_none():
    for step in plan_with(ESTATE, ALL_ACTS).steps():
        brings = step.kind in ("preload", "install")
        assert (step.package is not None, step.sha256 is not None, step.bytes > 0) == (brings,) * 3, step.id


IDLE = replace(ESTATE, systems={**ESTATE.systems, "tickets": replace(TICKETS, in_service=False)})


def test_only_users_of_a_service_get_no_answer_and_only_where_the_system_serves():
    def interrupting(estate) -> set[str]:
        return {step.kind for step in plan_with(estate, ALL_ACTS).steps() if step.interrupts_s > 0}

    alone = replace(ESTATE, systems={**ESTATE.systems, "tickets": replace(TICKETS, services={})})
    assert [interrupting(estate) for estate in (ESTATE, alone, IDLE)] == [{"handover", "failback"}, set(), set()]


def test_a_move_of_roles_ends_no_work_on_a_node_and_a_restart_does():
    steps = list(plan_with(ESTATE, ALL_ACTS).steps())
    before = {one.kind for one, two in itertools.pairwise(steps) if two.kind == "steady" and not two.ends_node}
    assert before == {"handover", "failback"}
    assert any(step.ends_node for step in steps if step.kind == "steady")


@pytest.mark.parametrize("roles", [("active", "standby"), ("standby", "standby"), ("active", "active")])
def test_machines_that_are_not_in_service_are_planned_all_at_once_whatever_their_roles(roles):
    plan = plan_with(IDLE, ALL_ACTS - {"handover", "failback"}, role=roles)
    waves = plan.lanes[0].hops[0].waves
    assert [sorted(t.node for t in w.tracks) for w in waves] == [["a", "b"], ["a", "b"], ["a"]]
    assert [s.kind for t in waves[1].tracks for s in t.steps] == ["install", "restart"] * 2
    for step in (s for t in waves[1].tracks for s in t.steps):
        assert step.alone
        assert {"right_machine", "not_recalled", "backup_sealed"} <= set(step.guards)
        assert not {"peers_healthy", "not_serving"} & set(step.guards)


@pytest.mark.parametrize("tie", ["uses", "runs_on"])
def test_what_carries_a_system_in_service_is_not_taken_for_idle(tie):
    other = replace(TICKETS, name="other", uses=("tickets",) if tie == "uses" else ())
    if tie == "runs_on":
        other = replace(other, nodes={n: replace(node, runs_on=f"tickets/{n}") for n, node in other.nodes.items()})
    estate = replace(IDLE, systems={**IDLE.systems, "other": other})
    with pytest.raises(Refused, match="other, which is, stands on it"):
        plan_with(estate, ALL_ACTS)
    idle = replace(estate, systems={**estate.systems, "other": replace(other, in_service=False)})
    assert plan_with(idle, ALL_ACTS).lanes


def test_what_changed_since_the_plan_is_named():
    basis = plan_of(both()).basis
    later = replace(
        basis,
        versions={**basis.versions, "tickets/a": "3.2.4"},
        releases=dict.fromkeys(basis.releases, "x"),
        nodes={"tickets/a": "Z"},
    )
    said = basis_differences(basis, later)
    assert "tickets/a: version was 2.8.5, is 3.2.4" in said
    assert "tickets/b: serial was B, is none" in said
    assert sum("the catalog says has changed" in s for s in said) == 2
    assert basis_differences(basis, basis) == []


# --- outages


@given(st.lists(st.booleans(), min_size=1, max_size=60))
def test_an_outage_is_each_stretch_of_failed_probes_and_nothing_else(good):
    samples = [Sample(service="s", at=NOW + timedelta(seconds=i), real=i * 0.1, ok=ok) for i, ok in enumerate(good)]
    found = outages(samples)
    runs = sum(not ok and (i == 0 or good[i - 1]) for i, ok in enumerate(good))
    assert len(found) == runs
    assert sum(o.ended is None for o in found) == (not good[-1])
    for o in found:
        if o.ended is not None:
            first, last = int((o.began - NOW).total_seconds()), int((o.ended - NOW).total_seconds())
            assert not any(good[first:last])
            assert good[last]
            assert o.measured == pytest.approx((last - first) * 0.1)


# --- checks

BACKUP = sealed_backup(taken=NOW - timedelta(hours=1), opened=NOW - timedelta(days=3))
PACKAGE = Package(name="p", url="x", bytes=1000, sha256="0" * 64)


def facts(readings: dict[str, Reading] | None = None, **more) -> Facts:
    """Facts, each said by its own name, laid into the group that has it."""
    said = {
        "backups": (BACKUP,),
        "wanted": (PACKAGE,),
        "probes": {"blocks": Sample(service="blocks", at=NOW, real=0, ok=True)},
        **more,
    }
    groups = {"route": RouteFacts, "around": AroundFacts, "asked": AskedFacts}
    laid = {
        name: kind(**{field: said.pop(field) for field in kind.__struct_fields__ if field in said})
        for name, kind in groups.items()
    }
    plain = {"system": TICKETS, "readings": readings or both(), "errors": {}, "now": NOW, "limits": Limits()}
    return Facts(**{**plain, **laid, **said})


SIGHTED = replace(TICKETS, nodes={n: replace(node, held_by="sight") for n, node in TICKETS.nodes.items()})


def booked(seconds: float) -> BookedTime:
    return BookedTime(notice="tickets:image", start=NOW, end=NOW + timedelta(seconds=seconds))


def ends(days: int) -> Expiry:
    return Expiry(name="console", kind="password", ends=NOW + timedelta(days=days, hours=1))


GOOD_CHANNEL = Channel(name="main", state="reachable")
ISSUE = KnownIssue(text="loses a path", severity="high")

LOAD = Gauge(name="load", value=55, unit="%")
UP, DOWN = Facet(name="path 1", state="up"), Facet(name="uplink-2", state="down")


def kept(days: float) -> RestorePoint:
    snapshot = Snapshot(name=f"s{days:g}", taken=NOW - timedelta(days=days))
    return RestorePoint(
        system="tickets", keeper="tickets/a", snapshot=snapshot, age=timedelta(days=days), overdue=days > 3
    )


# Each check: what makes it fire, at which level, and a word of its message.
FIRES = [
    ("reachable", facts({"a": reading("a")}, errors={"b": "no answer"}), "stop", "was not read"),
    ("known-by-sight", facts(system=SIGHTED), "warn", "nobody has confirmed"),
    ("distinct", facts(errors={"b": "x"}, alike={"b": "tickets/a"}), "stop", "one machine"),
    ("distinct", facts(both(b={"serial": "A", "boot": "a"})), "stop", "answer alike"),
    ("in-service", facts(both(b={"state": "out_of_service"})), "stop", "not in service"),
    ("in-sync", facts(both(b={"in_sync": False, "sync_word": "apart"})), "stop", "not whole"),
    ("roles", facts(both({"role": "standby"}, {"role": "active"})), "warn", "usual place"),
    ("no-job", facts(both(b={"jobs": (Job(id="1", kind="install", state="running"),)})), "stop", "busy"),
    ("restart-pending", facts(both(b={"next_version": "3.2.4"})), "warn", "next restart"),
    ("versions-even", facts(both(b={"version": "3.2.4"})), "warn", "different versions"),
    ("space", facts(both(b={"gauges": (Gauge(name="free space", value=1200, unit="B"),)})), "stop", "no room"),
    ("clock", facts(both(b={"clock_offset_s": 9.0})), "warn", "is off"),
    (
        "service-address",
        facts(system=replace(TICKETS, services={"blocks": Service(address="10.0.0.2:3260")})),
        "warn",
        "tickets/b's own",
    ),
    (
        "service-address",
        facts(both({"answers_for": ("10.0.1.1",)}, {"answers_for": ("10.0.1.1",)})),
        "stop",
        "both answer",
    ),
    ("service-address", facts(both({"answers_for": ()}, {"answers_for": ()})), "stop", "no node answers for"),
    (
        "service-answers",
        facts(probes={"blocks": Sample(service="blocks", at=NOW, real=0, ok=False, why="refused")}),
        "stop",
        "does not answer",
    ),
    ("backup", facts(backups=()), "warn", "no fresh sealed backup"),
    ("backup", facts(backups=(replace(BACKUP, sealed=None),)), "warn", "no fresh sealed backup"),
    ("backup", facts(backups=(replace(BACKUP, taken=NOW - timedelta(days=2)),)), "warn", "no fresh sealed backup"),
    ("backup", facts(backups=(replace(BACKUP, versions={"a": "2.8.5", "b": "1"}),)), "warn", "no fresh sealed backup"),
    ("stock", facts(missing=("p",)), "stop", "not in stock"),
    ("stock", facts(unkept=("q",)), "warn", "running release"),
    ("open-roll", facts(open_roll="roll-0001"), "note", "not finished"),
    ("alarms", facts(both(b={"alarms": (Alarm(text="a fan has failed", level="stop"),)})), "stop", "a fan has failed"),
    ("alarms", facts(both(b={"alarms": (Alarm(text="odd", level="unknown"),)})), "warn", "odd"),
    ("readiness", facts(tested={"a": (Alarm(text="rule 12", level="stop"),)}, announced={"a": 14}), "stop", "rule 12"),
    ("expiries", facts(both(b={"expiries": (ends(9),)})), "warn", "ends in 9 d"),
    ("expiries", facts(both(b={"expiries": (ends(-1),)})), "stop", "is over"),
    (
        "saved",
        facts(both(b={"facets": (Facet(name="running configuration", state="unsaved"),)})),
        "warn",
        "something else",
    ),
    (
        "updates-itself",
        facts(both(b={"facets": (Facet(name="updates itself", state="on"),)})),
        "warn",
        "may update itself",
    ),
    (
        "updates-itself",
        facts(both(b={"facets": (Facet(name="updates itself", state="not told"),)})),
        "warn",
        "may update",
    ),
    (
        "put-aside",
        facts(both(b={"facets": (Facet(name="package bash", state="kept back"),)})),
        "note",
        "keeps back bash",
    ),
    (
        "put-aside",
        facts(both(b={"facets": (Facet(name="libraries of cron", state="replaced"),)})),
        "warn",
        "replaced libraries",
    ),
    ("put-aside", facts(both(b={"facets": (Facet(name="name resolution x", state="unknown"),)})), "warn", "by name x"),
    ("put-aside", facts(both(b={"facets": (Facet(name="virtual medium 1", state="attached"),)})), "warn", "still has"),
    ("oddities", facts(both(b={"oddities": ("has no sessions",)})), "note", "has no sessions"),
    ("channels", facts(both(b={"channels": ()})), "stop", "has no channel"),
    ("channels", facts(both(b={"channels": (Channel(name="main", state="unreachable"),)})), "stop", "has no channel"),
    (
        "channels",
        facts(both(b={"channels": (Channel(name="x", enabled=False, state="reachable"),)})),
        "stop",
        "no channel",
    ),
    (
        "channels",
        facts(both(b={"channels": (Channel(name="x", state="unauthenticated"), GOOD_CHANNEL)})),
        "warn",
        "unauth",
    ),
    ("terms", facts(terms=("2026-04",)), "stop", "terms 2026-04 are not accepted"),
    ("known-issues", facts(issues=(Concern(release="2", issue=ISSUE, nodes=("tickets/a",)),)), "warn", "loses a path"),
    ("known-issues", facts(issues=(Concern(release="2", issue=ISSUE, untold=("tickets/a",)),)), "note", "loses a path"),
    (
        "site-notes",
        facts(notes=(Note(about="tickets", text="ring the office first", by="anna"),)),
        "note",
        "ring the office",
    ),
    (
        "expiries",
        facts(both(b={"expiries": (ends(9),)}), booked=booked(20 * 86400.0)),
        "stop",
        "before the booked",
    ),
    ("own-files", facts(writable=("estate.yaml",)), "warn", "others can write"),
    ("own-path", facts(own_path=("it runs on tickets/a",)), "stop", "stands on tickets"),
    ("accounts", facts(may_act={"a": "refused", "b": None}), "stop", "does not let"),
    ("redundancy", facts(both(b={"in_sync": False})), "stop", "can be taken out"),
    (
        "capacity",
        facts(both({"gauges": (LOAD,)}, {"gauges": (LOAD,)}), system=replace(TICKETS, shape="pool")),
        "stop",
        "does not fit",
    ),
    ("links", facts(both(b={"facets": (UP, DOWN)})), "stop", "1 of 2 links up"),
    ("links", facts(both(b={"facets": (UP, replace(UP, name="path 2"), DOWN)})), "warn", "2 of 3 links up"),
    ("links", facts(both(b={"facets": (UP,)})), "note", "one link"),
    ("rescue", facts(rescue={"a": Rescue(how="")}), "warn", "no second way into"),
    (
        "rescue",
        facts(rescue={"a": Rescue(how="ssh://10.9.0.1", answers=False, why="refused")}),
        "warn",
        "does not answer",
    ),
    ("recalled", facts(recalled={"2.8.5": "recalled"}), "warn", "it runs"),
    ("recalled", facts(recalled={"3.2.4": "recalled"}, entering=("3.2.4",)), "stop", "would enter"),
    ("requirements", facts(conflicts=("x needs y",)), "warn", "x needs y"),
    ("publisher", facts(sources=(Followed(name="ostrel", state="unreachable", why="refused"),)), "warn", "unreachable"),
    ("publisher", facts(channels_unknown_here=True), "warn", "no catalog here lists"),
    (
        "memory",
        facts(both(b={"gauges": (Gauge(name="memory available", value=5e6, unit="B"),)})),
        "warn",
        "little memory",
    ),
    ("sessions", facts(both(b={"gauges": (Gauge(name="sessions", value=3, unit=""),)})), "note", "3 sessions"),
    ("backup-possible", facts(can_export=False, backups=()), "warn", "cannot be backed up"),
    ("backup-opened", facts(backups=(replace(BACKUP, opened=None),)), "note", "opened ever"),
    (
        "backup-opened",
        facts(backups=(BACKUP, replace(BACKUP, id="c", opened=None, taken=NOW - timedelta(days=31)))[1:]),
        "warn",
        "opened ever",
    ),
    ("backup-opened", facts(backups=(replace(BACKUP, opened=NOW - timedelta(days=31)),)), "warn", "for 30 days"),
    (
        "backup-copies",
        facts(backups=(replace(BACKUP, copies=(Copy(place="second", problem="gone"),)),)),
        "warn",
        "no copy at",
    ),
    ("backup-copies", facts(copy_places=("second",)), "warn", "no copy at second"),
    ("snapshots", facts(snapshots=(kept(1),)), "note", "still exists"),
    ("snapshots", facts(snapshots=(kept(5),)), "warn", "older than its limit"),
    ("snapshots", facts(snapshots=(kept(2), kept(1))), "warn", "has 2 snapshots"),
    (
        "snapshot-room",
        facts(snapshot_room=SnapshotRoom(keeper="deck/a", free=1e8, needed=5e8)),
        "stop",
        "deck/a has no room for the restore point of tickets",
    ),
    (
        "snapshot-room",
        facts(snapshot_room=SnapshotRoom(keeper="deck/a", free=None, needed=5e8)),
        "note",
        "does not tell",
    ),
    ("snapshot-possible", facts(can_snapshot=False), "note", "cannot be snapshotted"),
    ("snapshot-possible", facts(can_snapshot=True, no_snapshots_from="3.2.4"), "warn", "from 3.2.4 on"),
    (
        "format",
        facts(
            both(
                b={
                    "components": (
                        Component(name="archive", kind="on-disk format", product="p", version="3", next_version="4"),
                    )
                }
            )
        ),
        "warn",
        "waits to be raised to 4",
    ),
    (
        "restored",
        facts(half_restored=(HalfRestored(node="b", backup="b1", began=NOW, why="it was cut off"),)),
        "warn",
        "did not end well",
    ),
    ("window", facts(booked=booked(600.0), needed_s=5400.0), "warn", "does not fit"),
    ("unattended", facts(unattended=(Unattended(purpose="act", kind="ask"),)), "warn", "cannot log in by itself"),
    *(
        (check, facts(both(b={"facets": (Facet(name=facet, state=state),)})), "warn", words)
        for check, facet, state, words in (
            ("time-source", "time source", "none", "no time source"),
            ("spare-slot", "spare slot", "broken", "no spare slot"),
            ("configuring", "configuration session", "anna", "by somebody"),
            ("partner", "synchronous partner", "blocks", "stops writing"),
        )
    ),
]


def test_a_host_with_a_channel_that_delivers_is_not_stopped_and_an_issue_of_nobody_here_is_no_finding():
    good = facts(both(b={"channels": (GOOD_CHANNEL,)}), issues=(Concern(release="2", issue=ISSUE),))
    assert {f.level for f in run_checks(good)} == {"pass"}


@pytest.mark.parametrize(
    ("check", "given_facts", "level", "words"), FIRES, ids=[f"{f[0]}-{f[2]}-{i}" for i, f in enumerate(FIRES)]
)
def test_each_check_fires_when_it_should_and_says_what_to_do_next(check, given_facts, level, words):
    found = [f for f in run_checks(given_facts) if f.check == check and f.level == level]
    assert found, run_checks(given_facts)
    assert words in found[0].message
    assert {f.level for f in found} <= set(check_named(check).levels)
    assert found[0].next or level == "note"
    if (found[0].next or "").startswith("gallant "):
        assert_command(found[0].next)


def assert_command(line: str) -> None:
    """That a line names a command, and where that is a group one of its own."""
    words = line.split()
    assert words[1] in COMMANDS
    module, function, _ = COMMANDS[words[1]]
    command = getattr(import_module(f"gallant.cli.{module}"), function)
    if isinstance(command, click.Group):
        assert words[2] in command.commands
    options = {name for param in command.params for name in param.opts}
    assert not [w for w in words if w.startswith("--") and not isinstance(command, click.Group) and w not in options]


ALL_WELL = {
    "facets": (
        UP,
        replace(UP, name="path 2"),
        *(
            Facet(name=name, state=well)
            for name, well in (
                ("running configuration", "saved"),
                ("updates itself", "off"),
                ("time source", "synchronised"),
                ("spare slot", "ready"),
                ("configuration session", "none"),
                ("synchronous partner", "does not block"),
            )
        ),
    ),
    "gauges": (
        Gauge(name="free space", value=1e9, unit="B"),
        Gauge(name="memory available", value=1e9, unit="B"),
        Gauge(name="sessions", value=0, unit=""),
        Gauge(name="load", value=30, unit="%"),
    ),
    "channels": (GOOD_CHANNEL,),
    "expiries": (ends(300),),
}
# Checks that say nothing where there is nothing to say.
SILENT = {
    "distinct", "known-by-sight", "restart-pending", "versions-even", "terms", "known-issues", "site-notes", "open-roll", "put-aside",
    "oddities", "format",
}  # fmt: skip


def test_no_check_fires_on_a_system_of_which_everything_is_known_and_well():
    well = facts(
        both(ALL_WELL, ALL_WELL),
        may_act={"a": None, "b": None},
        rescue={"a": Rescue(how="its host deck/a")},
        sources=(Followed(name="ostrel", state="reachable"),),
        tested={"a": ()},
        can_snapshot=True,
        snapshot_room=SnapshotRoom(keeper="tickets/a", free=5e8, needed=5e8),
        can_export=True,
        booked=booked(7200.0),
        needed_s=5400.0,
        backups=(replace(BACKUP, copies=(Copy(place="second", sealed=NOW),)),),
    )
    found = run_checks(well) + [
        f for f in run_checks(replace(well, system=replace(TICKETS, shape="pool"))) if f.check == "capacity"
    ]
    assert {f.level for f in found} == {"pass"}
    assert {f.check for f in found} == {c.id for c, _ in CHECKS} - SILENT


def test_a_mend_is_named_only_where_there_is_one_and_only_on_what_is_wrong():
    from gallant.operations.checks.mending import MENDS

    assert {c.mend for c, _ in CHECKS} - {None} == set(MENDS)
    mends = {f.check: f.mend for f in run_checks(facts(both({"role": "standby"}, {"role": "active"}), backups=()))}
    assert (mends["roles"], mends["backup"], mends["in-sync"]) == ("roles", "backup", None)


def test_only_what_was_asked_for_is_checked_and_every_check_says_why_it_matters():
    assert {f.check for f in run_checks(facts(), only=["clock"])} == {"clock"}
    during = {f.check for f in run_checks(facts(), phase="during")}
    assert "in-sync" in during
    assert "backup" not in during
    assert all(
        c.why and c.looks_at and c.levels and set(c.phases) <= {"ahead", "before", "during", "after"} for c, _ in CHECKS
    )


def test_a_check_is_asked_only_of_the_shapes_that_it_applies_to():
    alone = facts(system=replace(TICKETS, shape="single"))
    assert not {"redundancy", "capacity", "distinct", "versions-even"} & {f.check for f in run_checks(alone)}


def test_a_service_that_answers_on_machines_said_to_be_idle_stops_the_work():
    idle = replace(TICKETS, in_service=False)
    answering = {"blocks": Sample(service="blocks", at=NOW, real=0, ok=True)}
    silent = {"blocks": Sample(service="blocks", at=NOW, real=0, ok=False)}
    apart = both(b={"in_sync": False, "sync_word": "apart"})
    said = {f.check: f.level for f in run_checks(facts(apart, system=idle, probes=answering))}
    assert said["service-answers"] == "stop"
    levels = {(f.check, f.level) for f in run_checks(facts(apart, system=idle, probes=silent))}
    assert ("in-sync", "note") in levels
    assert not [c for c, _ in levels if c == "service-answers"]


def test_a_healthy_system_passes_every_check():
    assert {f.level for f in run_checks(facts())} == {"pass"}


def test_every_check_is_made_to_fire_by_some_test_and_findings_come_worst_first():
    assert {c.id for c, _ in CHECKS} == {f[0] for f in FIRES}
    levels = [LEVELS.index(f.level) for f in run_checks(facts(both(b={"state": "x", "clock_offset_s": 9.0})))]
    assert levels == sorted(levels)


def test_a_backup_is_held_against_the_nodes_that_answer():
    alone = facts({"a": reading("a")}, errors={"b": "no answer"})
    assert not [f for f in run_checks(alone) if f.check == "backup" and f.level != "pass"]


def test_a_clock_is_not_called_off_by_more_than_is_known():
    uncertain = facts(both(b={"clock_offset_s": 9.0, "clock_uncertainty_s": 8.0}))
    assert not [f for f in run_checks(uncertain) if f.level != "pass"]


# --- the verdict

VERDICTS = [
    ({}, {}, {}, []),
    ({"version": "2.8.5", "next_version": "2.8.5"}, {}, {}, ["runs 2.8.5, its aim is 3.2.4"]),
    ({"in_sync": False, "sync_word": "apart"}, {}, {}, ["not whole"]),
    ({"role": "standby"}, {}, {}, ["its usual place is active"]),
    ({"next_version": "3.2.6"}, {}, {}, ["would start 3.2.6"]),
    ({"state": "resting"}, {}, {}, ["not in service"]),
    (
        {},
        {},
        {"blocks": Sample(service="blocks", at=NOW, real=0, ok=False, why="refused")},
        ["blocks does not answer: refused"],
    ),
]


@pytest.mark.parametrize(("a", "errors", "probes", "said"), VERDICTS)
def test_a_verdict_says_all_that_is_not_as_it_should_be(a, errors, probes, said):
    good = {"version": "3.2.4", "next_version": "3.2.4"}
    rows = verify_system(TICKETS, both({**good, **a}, good), errors, SHOAL, SHOAL.resolve("3.2.4"), probes)
    assert rows[0].ok == (not said)
    assert all(any(words in p for p in rows[0].problems) for words in said)
    assert rows[1].ok


def test_a_node_has_one_verdict_and_that_is_the_worst_of_all_that_is_known_of_it():
    good = {"version": "3.2.4", "next_version": "3.2.4"}
    rows = verify_system(TICKETS, both(good, good), {}, SHOAL, SHOAL.resolve("3.2.4"), {})
    assert all(r.ok for r in rows)
    path = Unlike(system="tickets", node="b", about="path 2", before="up", after="down", means="lost", since=NOW)
    known = with_all_that_is_known(rows, [path, replace(path, node="a", means="planned")], [], [])
    assert [(r.node, r.ok, r.problems) for r in known] == [("a", True, ()), ("b", False, ("lost: path 2 up → down",))]
    service = with_all_that_is_known(rows, [replace(path, node="", about="blocks")], [], [])
    assert [(r.node, r.ok) for r in service] == [("a", False), ("b", True)]
    waits = Still(about="restart", system="tickets", node="b", what="it waits for a restart")
    leaks = Judged(system="tickets", node="a", about="memory", unit="B", state="running out", before=None, now=1.0)
    both_ = with_all_that_is_known(rows, [], [waits, replace(waits, about="package", node="a")], [leaks])
    assert [(r.node, r.problems) for r in both_] == [
        ("a", ("memory: running out",)),
        ("b", ("it waits for a restart",)),
    ]
    assert with_all_that_is_known(rows, [replace(path, system="other")], [], []) == rows


def test_a_node_that_was_not_read_is_not_as_it_should_be():
    rows = verify_system(TICKETS, {"a": reading("a")}, {"b": "no answer"}, SHOAL, SHOAL.resolve("2.8.5"), {})
    assert [(r.node, r.ok) for r in rows] == [("a", True), ("b", False)]


def test_a_host_that_no_catalog_lists_is_judged_by_those_of_its_packages_that_one_does():
    own = {"components": (Component(name="kissgate", kind="OS package", product="deb/kissgate", version="1.2-1"),)}
    node, other = reading("a", **own), reading("b")
    rows = verify_system(TICKETS, {"a": node, "b": other}, {}, None, None, {}, {"deb/kissgate"})
    assert [(r.ok, r.problems) for r in rows] == [
        (True, ()),
        (False, ("no catalog says what ostrel/shoal should run",)),
    ]
    unread = verify_system(TICKETS, {}, {"a": "no answer", "b": "no answer"}, None, None, {}, {"deb/kissgate"})
    assert [r.ok for r in unread] == [False, False]


def test_the_exit_code_of_several_is_the_first_that_holds_in_order():
    assert worst_exit([0, 1, 3]) == 3
    assert worst_exit([3, 5, 4]) == 5
    assert worst_exit([5, 2]) == 2
    assert worst_exit([]) == 0


def test_moments_are_said_in_utc():
    from gallant.core.records import clean, rfc3339

    assert rfc3339(datetime(2026, 11, 25, 12, 0, tzinfo=UTC)) == "2026-11-25T12:00:00Z"
    assert clean("a\x1b[31mb\u202ec\nd") == "a[31mbc d"


def test_a_step_lasts_as_many_minutes_as_its_publisher_says_and_where_nobody_does_as_a_table_has():
    work = HopWork(
        hop_id="x", to="2.0", minutes=Minutes(install=8, restart=0, sync=4), package=None, mbit_per_s=None, steady_s=60.0,
        knows=Knows(capabilities=frozenset()), by_itself=3,
    )  # fmt: skip
    minutes = {
        "install": 8,
        "restart": estimate.RESTART_MINUTES,
        "steady": 4 + 1,
        "update_all": 3 * (8 + estimate.RESTART_MINUTES + 4),
        "backup": estimate.BACKUP_MINUTES,
        "snapshot": estimate.SNAPSHOT_MINUTES,
        "handover": estimate.MOVE_MINUTES,
        "drain": estimate.DRAIN_MINUTES,
        "fall_back": estimate.FALL_BACK_MINUTES,
        "enable_channel": estimate.CHANNEL_MINUTES,
        "look_over": estimate.LOOK_MINUTES,
        "by_hand": estimate.BY_HAND_MINUTES,
    }
    assert {kind: KINDS[kind].estimate(work) for kind in minutes} == {k: n * 60.0 for k, n in minutes.items()}
    given = replace(work, minutes=Minutes(install=8, restart=7, sync=4))
    assert KINDS["restart"].estimate(given) == 420.0
