"""Nights by the thousand: estate, way, faults and moments of death
are drawn from a seed; every promise is judged all through.

    python -m tests.simulation.dice --runs 10000 --seed 1      # as `make simulate RUNS=10000 SEED=1`

A seed that fails is shrunk: what can be left out of it, and it still fails, is left out.
"""

from __future__ import annotations

import argparse
import contextlib
import dataclasses
import hashlib
import random
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from datetime import timedelta

import msgspec

from gallant.core.catalog.products import Recall, Requirement
from gallant.core.decide.consents import consents_needed
from gallant.core.errors import GallantError, Refused
from gallant.core.ports import NotReached
from gallant.core.readings import Facet, Reading
from gallant.core.records import replace
from gallant.core.windows.rules import Span
from gallant.core.work.plan import NothingToDo, Plan
from gallant.engine.journal import grammar_problems
from gallant.engine.means import End, Orders
from gallant.standin.world import Fault

from .backwards import way_back
from .led import LedNight
from .mishaps import Meets, Mishaps, mishaps_of
from .night import BEGAN, Killed, Night, last_state
from .promises import CANARY, ON_ITS_WAY_S, Judged
from .shapes import LETTERS, ClusterNight, Extra, SimCluster, StackedNight

ROUTES = (
    {"2.8.5": None, "3.2.4": "vers:dotted/>=2.8.0"},
    {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0", "3.2.4": "vers:dotted/>=2.11.3"},
    {"2.8.5": None, "2.9.1": "vers:dotted/>=2.8.0", "2.11.3": "vers:dotted/>=2.9.1", "3.2.4": "vers:dotted/>=2.11.3"},
    {
        "2.8.5": None,
        "2.9.1": "vers:dotted/>=2.8.0",
        "2.11.3": "vers:dotted/>=2.9.1",
        "3.0.2": "vers:dotted/>=2.11.3",
        "3.2.4": "vers:dotted/>=3.0.2",
    },
)
FAMILIES = ("pairs", "pairs", "cluster", "cluster", "stacked", "led")
SHAPES = ("single", "fabric", "quorum", "pool")
# By family: the faults that its devices know, with the orders that each may hit.
DEVICE = {
    "pairs": {
        "install_fails_at": ("install",),
        "no_return": ("restart",),
        "late_return": ("restart",),
        "wrong_version_after": ("install",),
        "sync_stuck": ("restart",),
        "role_stuck": ("yield", "reclaim"),
        "corrupt_package": ("upload",),
    },
    "cluster": {
        "install_fails_at": ("install", "install-part"),
        "no_return": ("restart",),
        "late_return": ("restart",),
        "role_stuck": ("hand-over",),
    },
}
DEVICE["stacked"] = DEVICE["cluster"]
DEVICE["led"] = {"install_fails_at": ("update-all",), "late_return": ("restart",), "no_return": ("restart",)}
ON_THE_WAY = ("answer_lost", "never_acts", "acts_late", "lands_late", "sent_late", "arrives_twice")
ORDERS = {
    "pairs": ("install", "restart", "yield", "reclaim"),
    "cluster": ("install", "restart", "hand-over", "lead", "drain"),
}
ORDERS["stacked"] = ORDERS["cluster"]
ORDERS["led"] = ("update-all", "pause", "go-on")
STEERING = ((), ("pause", "go_on"), ("pause", "go_on", "cancel"), ("cancel",))
LIVES = 20  # processes that carry one roll out, at most


NO_MISHAPS = Mishaps()


@dataclass(frozen=True)
class Case:
    """Everything that is drawn of one night."""

    seed: int = 0
    family: str = "pairs"
    shape: str = "pair"
    route: int = 1
    running: tuple[str, ...] = ("2.8.5", "2.8.5")
    aside: int = 0
    drains: bool = False
    load: float | None = None
    others: int = 0
    requires: bool = False
    extras: tuple[str, ...] = ()
    steering: tuple[str, ...] = ()
    snapshots: bool = True
    exports: bool = True
    lag_s: float = 0
    forgets: bool = False
    consents: bool = True
    loses_facet: bool = False
    faults: tuple[Fault, ...] = ()
    kills: tuple[tuple[str, int], ...] = ()
    downtimes: tuple[float, ...] = ()
    jumps: tuple[float, ...] = ()
    recall: tuple[str, float] | None = None
    lost_after: int | None = None
    full_after: int | None = None
    hold_after: int | None = None
    defect_after: int | None = None
    lost_reads: int | None = None  # of so many readings of a node one is lost
    back: bool = False  # a roll that stops is taken back rather than mended and carried on
    window: tuple[float, float] | None = (
        None  # minutes from the beginning: when the first opens, and how long each of them is
    )
    mishaps: Mishaps = NO_MISHAPS

    @property
    def nodes(self) -> int:
        return len(self.running)


def drawn(seed: int) -> Case:
    """The case of a seed; the same on every machine and under every hash seed."""
    dice = random.Random(f"night {seed}")
    family = dice.choice(FAMILIES)
    route = dice.randrange(len(ROUTES))
    versions = list(ROUTES[route])
    shape = (
        "pair"
        if family == "pairs"
        else "pool"
        if family == "stacked"
        else dice.choice(SHAPES[1:] if family == "led" else SHAPES)
    )
    size = (
        2
        if shape == "pair"
        else 1
        if shape == "single"
        else dice.choice((2, 3, 3, 4, 5, 7, 9, 12))
        if family == "cluster"
        else dice.choice((2, 3, 4, 5))
        if family == "led"
        else 3
    )
    first = dice.choice(versions[:-1])
    ahead = versions[versions.index(first) :][:2]
    mixed = dice.random() < 0.25
    running = tuple(dice.choice(ahead) if mixed else first for _ in range(size))
    if all(version == versions[-1] for version in running):
        running = (first, *running[1:])
    if family == "stacked":
        running = (first,) * size
    names = LETTERS[:size]
    faults = tuple(_fault(dice, family, names) for _ in range(dice.choice((0, 0, 1, 1, 2))))
    back = dice.random() < 0.25
    if back:  # something has to stop it
        faults = (_fault(dice, family, names, stops=True), *faults[:1])
    kills = tuple(
        (dice.choice(("before append", "after append", "before act", "after act")), dice.randint(1, 160))
        for _ in range(dice.choice((0, 0, 1, 2, 4)))
    )
    window = (dice.uniform(-30, 300), dice.uniform(30, 400)) if family == "pairs" and dice.random() < 0.3 else None
    # What is on its way while the clock on the wall is set has no time of day by which a window could be judged.
    jumps = tuple(dice.choice((-86400.0, 0.0, 0.0, 3600.0)) if window is None else 0.0 for _ in range(3))
    return Case(
        seed=seed,
        family=family,
        shape=shape,
        route=route,
        running=running,
        aside=1 if family == "cluster" and size > 2 and dice.random() < 0.1 else 0,
        drains=family == "cluster" and shape in ("quorum", "pool") and dice.random() < 0.3,
        load=dice.choice((None, 10.0, 30.0, 50.0)) if shape == "pool" and family == "cluster" else None,
        others=dice.choice((0, 0, 1, 2)) if family == "pairs" else 0,
        requires=dice.random() < 0.5,
        extras=dice.choice(((), (), ("agent",), ("agent", "layout")))
        if family == "cluster" and shape != "pool"
        else (),
        steering=dice.choice(STEERING) if family == "led" else (),
        snapshots=dice.random() < 0.7,
        exports=dice.random() < 0.9 or family != "pairs",
        lag_s=dice.choice((0.0, 0.0, 5.0, 15.0)),
        forgets=family == "pairs" and dice.random() < 0.2,
        consents=dice.random() < 0.93,
        loses_facet=dice.random() < 0.1,
        faults=faults,
        kills=kills,
        downtimes=tuple(round(dice.uniform(0.5, 3000), 1) for _ in range(4)),
        jumps=jumps,
        recall=(versions[-1], round(dice.uniform(0, 12000), 1)) if dice.random() < 0.08 else None,
        lost_after=dice.randint(3, 80) if dice.random() < 0.08 else None,
        full_after=dice.randint(3, 80) if dice.random() < 0.06 else None,
        hold_after=dice.randint(3, 80) if dice.random() < 0.1 else None,
        defect_after=dice.randint(3, 200) if dice.random() < 0.06 else None,
        back=back,
        lost_reads=dice.randint(23, 90) if dice.random() < 0.2 else None,
        window=window,
        mishaps=mishaps_of(seed, names, family),
    )


def _fault(dice: random.Random, family: str, names: str, stops: bool = False) -> Fault:
    node = f"tickets/{dice.choice(names)}"
    if stops:
        name = dice.choice(tuple(n for n in ("install_fails_at", "no_return", "role_stuck") if n in DEVICE[family]))
        act = DEVICE[family][name][0]
    elif dice.random() < 0.5:
        name, act = dice.choice(ON_THE_WAY), dice.choice(ORDERS[family])
    else:
        name = dice.choice(tuple(DEVICE[family]))
        act = dice.choice(DEVICE[family][name])
    value = {
        "install_fails_at": 40.0,
        "no_return": 5000.0,
        "late_return": 600.0,
        "acts_late": 5.0,
        "lands_late": 12.0,
        "arrives_twice": 2.0,
    }
    nth = (
        0 if family == "led" and name in DEVICE["led"] else dice.choice((1, 1, 2))
    )  # what a device does by itself has no number
    return Fault(name=name, node=node, act=act, nth=nth, value=value.get(name, 15.0))


@dataclass
class PairsNight(Judged, Night):
    pass


@dataclass
class SharedNight(Judged, ClusterNight):
    pass


@dataclass
class LayeredNight(Judged, StackedNight):
    def _below(self, hosts: SimCluster, name: str, powered: bool) -> None:
        """A machine that goes by itself takes its host along, whatever that carries."""
        before = len(self.broken)
        super()._below(hosts, name, powered)
        if any(self.world.now - since < ON_ITS_WAY_S for since in self.own_doing.values()):
            del self.broken[before:]  # it, or the machine of the one that led until then


@dataclass
class ByItselfNight(Judged, LedNight):
    def _down(self, cluster: SimCluster, name: str) -> None:
        """What goes by itself is not counted with what the device has taken."""
        before = len(self.broken)
        super()._down(cluster, name)
        if any(map(self._by_itself, self.own_doing)):
            del self.broken[before:]


EXTRAS = {
    "agent": Extra(kind="add-on module", restart="service"),
    "layout": Extra(kind="on-disk format", restart="none"),
}
FIRMWARE = Extra(kind="BIOS")  # of the same name, where the image needs it and it takes a restart of its own


def night_of(case: Case) -> Judged:
    names = LETTERS[: case.nodes]
    common = {
        "versions": dict(ROUTES[case.route]),
        "running": dict(zip(names, case.running, strict=True)),
        "faults": list(case.faults),
        "snapshots": case.snapshots,
        "exports": case.exports,
        "lag_s": case.lag_s,
        "forgets": case.forgets,
        "probes_every_s": 2.0,
        "read_s": 0.0,
    }
    if case.family == "pairs":
        others = {
            name: dict(zip("ab", (case.running[0],) * 2, strict=True)) for name in ("spit", "bank")[: case.others]
        }
        last = list(ROUTES[case.route])[-1]
        needs = Requirement(product="ostrel/spit", range=f"vers:dotted/>={last}")
        requires = {last: (needs,)} if case.requires and others else {}
        night: Judged = PairsNight(**common, others=others, requires=requires)
    elif case.family == "cluster":
        leads = case.shape in ("quorum", "fabric") and case.nodes > 1
        kinds = {**EXTRAS, **({"agent": FIRMWARE} if case.requires and case.seed % 2 else {})}
        needs = Requirement(product="ostrel/agent", range="vers:dotted/>=2.0")
        night = SharedNight(
            **common,
            requires={list(ROUTES[case.route])[-1]: (needs,)} if case.requires and case.extras else {},
            shape=case.shape,
            leader="a" if leads else None,
            aside=tuple(names[-case.aside :]) if case.aside else (),
            drains=case.drains,
            load=case.load,
            extras={name: kinds[name] for name in case.extras},
        )
    elif case.family == "led":
        leads = case.shape in ("quorum", "fabric")
        night = ByItselfNight(
            **common, shape=case.shape, leader="a" if leads else None, usual=False, steering=case.steering
        )
    else:
        hosts = dict.fromkeys(names, case.running[0])
        night = LayeredNight(**common, hosts=hosts, lead=names[-1], both=case.seed % 2 == 0)
    night.prepare()
    night.meets = Meets(night, case.mishaps)
    night.bend = (lambda reading: night.meets.told(_losing(reading))) if case.loses_facet else night.meets.told
    night.trouble = _Trouble(night, case)
    if case.window is not None:
        begin, length = case.window
        first = BEGAN + timedelta(minutes=begin)
        night.spans = tuple(
            Span(begin=first + timedelta(days=n), end=first + timedelta(days=n, minutes=length)) for n in range(9)
        )
        night.in_time = not (
            case.faults
            or case.kills
            or case.lost_after
            or case.full_after
            or case.mishaps.timed
            or case.mishaps.stale_s
        )
    if case.recall is not None:
        version, at = case.recall
        night.world.after(at, lambda: _recall(night, version))
    return night


def _losing(reading: Reading) -> Reading:
    """A node that was brought to its last release has lost its source of time."""
    gone = reading.version == "3.2.4" and reading.node == "a"
    return replace(
        reading, facets=(*reading.facets, Facet(name="time source", state="none" if gone else "synchronised"))
    )


def _recall(night: Night, version: str) -> None:
    product = night.catalogs["ostrel/shoal"]
    recall = Recall(date=night.world.moment, reason="it loses what it was given")
    night.catalogs["ostrel/shoal"] = replace(
        product, releases=tuple(replace(r, recall=recall) if r.version == version else r for r in product.releases)
    )
    night.recalled_at[version] = night.world.now


class _Trouble:
    """What happens to the process itself, by the number of what it has done so far; each once."""

    def __init__(self, night: Night, case: Case) -> None:
        self.night, self.case, self.done, self.count = night, case, set[str](), 0

    def __call__(self, what: str, name: str, node: str, n: int) -> None:
        self.count += 1
        night, case = self.night, self.case
        appended = len(night.events)
        if self._due("lost", case.lost_after, appended):
            night.lost.add("tickets")
            night.lost_at["tickets"] = night.world.now
        if self._due("full", case.full_after, appended):
            night.full_from = appended
        if self._due("hold", case.hold_after, appended):
            night.hold_reason = "somebody asked"
        night.meets.lost(what, name, node)
        if what == "read" and case.lost_reads is not None and n % case.lost_reads == 5:
            raise NotReached(f"{name}/{node} is away for a moment.")
        if what == "read" and self._due("defect", case.defect_after, self.count):
            raise RuntimeError(CANARY)

    def _due(self, what: str, at: int | None, count: int) -> bool:
        if at is None or what in self.done or count < at:
            return False
        self.done.add(what)
        return True


@dataclass
class Outcome:
    """How a night ended, what was broken, and its journal as bytes."""

    case: Case
    end: str
    broken: list[str] = field(default_factory=list)
    journal: bytes = b""
    lives: int = 0
    final: dict[str, dict[str, tuple[str, str]]] = field(default_factory=dict)
    unknown: bool = False


def carried_out(case: Case) -> Outcome:
    night = night_of(case)
    try:
        plan = night.plan()
    except Refused:
        return Outcome(case, "not planned")
    night.made = plan
    exports = [name for name in plan.systems if night.exports]
    needed = tuple(dict.fromkeys(one.consent.words for one in consents_needed(plan, exports)))
    night.consents = needed if case.consents else ()
    end, lives = _lives(night, case, plan)
    broken = [*night.broken, *(grammar_problems(night.events) if night.events else ())]
    if not case.consents and needed and night.every_act:
        broken.append(f"I11: {night.every_act[0]} was done without {needed}")
    outcome = Outcome(case, end.state if end is not None else "killed", broken, lives=lives)
    outcome.journal = msgspec.json.encode(night.events)
    outcome.final = {name: _final(night, name) for name in night.pairs}
    outcome.unknown = end is not None and "--it-did" in f"{end.message} {end.next}"
    if outcome.end == "killed":
        outcome.broken.append("I6: it was taken up again and again, and came to no end")
    return outcome


def _final(night: Night, system: str) -> dict[str, tuple[str, str]]:
    """What runs where, and who has which role where the shape has any."""
    roles = night.estate.systems[system].shape in ("pair", "fabric", "quorum")
    return {node: (version, role if roles else "") for node, (version, role) in night.end_state(system).items()}


def _lives(night: Night, case: Case, plan: Plan) -> tuple[End | None, int]:
    """One process after the other, each killed where the case says, until there is nothing more to carry on."""
    kills, mended, end = list(case.kills), 0, None
    for life in range(LIVES):
        if last_state(night) == "finished":
            return End(state="finished", message=night.events[-1].entry.message), life
        night.kill_at = kills.pop(0) if kills else None
        downtime = case.downtimes[life % len(case.downtimes)] if life else 0.0
        if end is not None and end.opens is not None:
            downtime = max(downtime, (end.opens - BEGAN).total_seconds() - night.world.now)
        night.clock_set = timedelta(seconds=case.jumps[life % len(case.jumps)]) if life else timedelta()
        try:
            windows = {"tickets": night.spans} if night.spans is not None else {}
            end = night.run(plan, Orders(by="tester", consents=night.consents, windows=windows), downtime=downtime)
        except Killed:
            end = None
        except Refused as error:
            return End(state="refused", message=error.what), life + 1
        except GallantError:  # its disk is full: the process ends with that
            end = None
        if end is not None:
            night.ended(end)
            if OWN in end.message and case.defect_after is None:
                night.breaks("I6", f"nobody drew a defect, and it ended with one: {end.message.splitlines()[0]}")
            if end.state == "finished":
                if plan.undoes is not None:
                    _is_back(night)
                return end, life + 1
            if end.state == "stopped":
                if case.back and plan.undoes is None and (way := _way_back(night, plan)) is not None:
                    plan = way
                    continue
                mended += 1
                if mended > 2:
                    return end, life + 1
                _mend(night)
        night.hold_reason, night.full_from = None, None
        night.lost.clear()
        night.lost_at.clear()
    return end, LIVES


def _way_back(night: Night, plan: Plan) -> Plan | None:
    """The plan that takes back what a stopped roll has done, with the
    consents that it needs; None where there is none to be made."""
    _mend(night)
    journal = list(night.events)
    try:
        way = way_back(night, plan)
    except (Refused, NothingToDo):
        night.events[:] = journal
        return None
    night.made = way
    exports = [name for name in way.systems if night.exports]
    night.consents = tuple(dict.fromkeys([*night.consents, *(o.consent.words for o in consents_needed(way, exports))]))
    return way


def _is_back(night: Night) -> None:
    """What was taken back runs what it ran before the first roll began."""
    for lane in night.made.lanes:
        for node, member in night.pairs[lane.system].nodes.items():
            was = night.started_as[f"{lane.system}/{node}"]
            if any(hop.image for hop in lane.hops) and member.version != was:
                night.breaks("I10", f"taken back, and {lane.system}/{node} runs {member.version}, not {was}")


def _mend(night: Night) -> None:
    """Somebody comes, and puts right what had failed: the faults are gone, and what hung is set going again."""
    night.world.faults = []
    for pair in night.pairs.values():
        if hasattr(pair, "_resync") and pair.synced_at is None and all(n.up for n in pair.nodes.values()):
            pair._resync(next(iter(pair.nodes.values())))
        for node in pair.nodes.values():
            if hasattr(node, "bays") and node.next_version == node.version:
                node.boots_from = node.runs_from
            if night.meets.mishaps.repaired and node.up and node.next_version != node.version:
                _repaired(night, pair, node)
    night.world.advance(night.world.now + 6000)


def _repaired(night: Night, pair, node) -> None:
    """Somebody starts a node at its console on what it was to run."""
    night.own_doing[node.name] = night.world.now
    if isinstance(pair, SimCluster):
        pair.halt(node.name)
        pair.start(node.name)
    else:
        node.boots, node.runs_from = node.boots + 1, node.boots_from
        night.world.changed()


def judged(case: Case) -> Outcome:
    """A night, and where it was killed the same one left alone: both come to the same (I6)."""
    outcome = carried_out(case)
    others = (
        case.mishaps.timed or case.recall or case.lost_after or case.full_after or case.hold_after or case.defect_after
    )
    # Whoever takes up a roll gives what failed, or is away, another chance:
    # it may then go on where one left alone would be taken back.
    if (
        case.kills
        and not others
        and not case.back
        and case.window is None
        and outcome.end != "refused"
        and not outcome.unknown
    ):
        alone = carried_out(dataclasses.replace(case, kills=()))
        if (alone.end, alone.final) != (outcome.end, outcome.final) and not alone.unknown:
            outcome.broken.append(
                f"I6: killed it is {outcome.end} with {outcome.final}, left alone {alone.end} with {alone.final}"
            )
    return outcome


SIMPLER = {
    "kills": (),
    "faults": (),
    "jumps": (0.0,),
    "recall": None,
    "lost_after": None,
    "full_after": None,
    "hold_after": None,
    "defect_after": None,
    "window": None,
    "back": False,
    "mishaps": NO_MISHAPS,
    "lost_reads": None,
    "lag_s": 0.0,
    "forgets": False,
    "loses_facet": False,
    "extras": (),
    "steering": (),
    "others": 0,
    "aside": 0,
    "drains": False,
    "snapshots": True,
    "exports": True,
}


def shrunk(case: Case) -> Case:
    """The case with all left out that can be, while it still breaks a promise."""
    for name, value in SIMPLER.items():
        tried = dataclasses.replace(case, **{name: value})
        if tried != case and judged(tried).broken:
            case = tried
    for name in ("kills", "faults"):
        for one in list(getattr(case, name)):
            tried = dataclasses.replace(case, **{name: tuple(o for o in getattr(case, name) if o != one)})
            if tried != case and judged(tried).broken:
                case = tried
    return case


def tried(seed: int) -> Outcome:
    """The night of a seed; one that ends with an error of the
    simulation, or of the engine, is a finding like any other."""
    case = drawn(seed)
    try:
        return judged(case)
    except Exception as error:
        return Outcome(case, CRASHED, [f"it came to no end: {type(error).__name__}: {error}"])


CRASHED = "crashed"
OWN = "an error of Gallant's own"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=1)
    parser.add_argument("--journals", action="store_true", help="print the digest of each journal")
    said = parser.parse_args()
    seeds, ends, failed, began = range(said.seed, said.seed + said.runs), Counter[str](), 0, time.monotonic()
    with contextlib.ExitStack() as stack:
        pool = stack.enter_context(ProcessPoolExecutor(said.jobs)) if said.jobs > 1 else None
        outcomes = pool.map(tried, seeds, chunksize=20) if pool is not None else map(tried, seeds)
        for seed, outcome in zip(seeds, outcomes, strict=True):
            ends[outcome.end] += 1
            if said.journals:
                print(seed, outcome.end, hashlib.sha256(outcome.journal).hexdigest())
            if outcome.broken:
                failed += 1
                print(f"seed {seed}: {'; '.join(outcome.broken[:4])}\n  make simulate SEED={seed} RUNS=1")
                if outcome.end != CRASHED:
                    print(f"  smallest: {shrunk(outcome.case)}")
    took = time.monotonic() - began
    if not said.journals:
        how = ", ".join(f"{count} {end}" for end, count in ends.most_common())
        print(f"{said.runs} nights in {took:.1f} s ({said.runs / took:.0f} a second): {how}; {failed} broke a promise")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
