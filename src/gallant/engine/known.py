"""What the journal says of the steps of a run, and of the nodes that they are about. It is asked far oftener than an
entry is written, so each answer is kept until there is another entry about its system."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TypeVar, cast

from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.ports import Drivers
from gallant.core.readings import IMAGE
from gallant.core.steps.kinds import BACKUP, KINDS, Kind, nodes_of
from gallant.core.work.plan import Plan, Step, steps_of
from gallant.engine.means import Log

T = TypeVar("T")
Sort = Callable[[Step, Kind], bool]


def _may_enter(step: Step, row: Kind) -> bool:
    """Whether a node's image may be another by it: a host has its version from a component."""
    return row.enters or row.whole or step.component != IMAGE


def _is_driven(step: Step, row: Kind) -> bool:
    return row.driven


def _is_backup(step: Step, row: Kind) -> bool:
    return step.kind == BACKUP


def _disturbs(step: Step, row: Kind) -> bool:
    return row.disturbs


class RunKnown:
    """Of one run: `log` has the journal, `drivers` know which component an image has its version from."""

    def __init__(self, plan: Plan, estate: Estate, drivers: Drivers, log: Log) -> None:
        self.plan, self.estate, self.drivers, self.log = plan, estate, drivers, log
        self._hops = [hop for lane in plan.lanes for hop in lane.hops]
        self._hops_of: dict[str, list[str]] = {}  # by system, those that have steps on it
        for lane in plan.lanes:
            for hop in lane.hops:
                for system in dict.fromkeys([lane.system, *lane.also, *(s.system for s in steps_of(hop.waves))]):
                    self._hops_of.setdefault(system, []).append(hop.id)
        self._answers: dict[Hashable, tuple[int, object]] = {}  # each with the number of entries that it is of
        self._sorted: dict[tuple[str, Sort], tuple[int, list[Step]]] = {}  # each with the number of hops that it is of

    def steps(self) -> list[Step]:
        """Every step that was derived so far, in the order of the plan."""
        waves = self.log.state.waves
        return [step for hop in self._hops for step in steps_of(waves.get(hop.id, ()))]

    def _steps_of(self, system: str, sort: Sort) -> list[Step]:
        """Those of a system that are of one sort. The waves of a hop are derived once in a roll."""
        waves = self.log.state.waves
        own = [waves[hop] for hop in self._hops_of.get(system, ()) if hop in waves]
        known = self._sorted.get((system, sort))
        if known is None or known[0] != len(own):
            found = [s for hop in own for s in steps_of(hop) if s.system == system and sort(s, KINDS[s.kind])]
            known = self._sorted[system, sort] = (len(own), found)
        return known[1]

    def expected(self, system: System) -> dict[str, str]:
        """The version of each node as the journal left it: the plan's basis, and every step
        since that entered another. None of a node whose image has its version from a
        component that was brought since, nor of those that a device works on by itself."""
        return self._once(self._expected, system.name)

    def _expected(self, name: str) -> dict[str, str]:
        system = self.estate.systems[name]
        expected = {n: self.plan.basis.versions[node_name(system, n)] for n in system.nodes}
        carried, state = self.drivers[name].knows().image_from, self.log.state
        for step in self._steps_of(name, _may_enter):
            row, known = KINDS[step.kind], state.step(step.id)
            if known.intent and (step.component in carried or row.whole):
                expected = {n: version for n, version in expected.items() if n not in nodes_of(step)}
            if row.enters and known.done:
                expected |= dict.fromkeys(nodes_of(step), step.to)
        return expected

    def jobs(self, system: str) -> dict[tuple[str, str], str]:
        """The steps of this roll by node and the job that the node gave them."""
        return self._once(self._jobs, system)

    def _jobs(self, system: str) -> dict[tuple[str, str], str]:
        taken = ((step, self.log.state.step(step.id).accepted) for step in self._steps_of(system, _is_driven))
        return {
            (node, t.entry.handle): step.id
            for step, t in taken
            if t is not None and t.entry.handle is not None
            for node in nodes_of(step)
        }

    def backups(self, step: Step) -> tuple[str, ...]:
        """The backups that the hop of a step began with, as the journal has them: no clock is asked which came
        first."""
        own = (s for s in self._steps_of(step.system, _is_backup) if s.hop == step.hop)
        ends = (self.log.state.step(s.id).outcome for s in own)
        return tuple(end.entry.handle for end in ends if end is not None and end.entry.handle is not None)

    def links(self, system: str, node: str) -> tuple[str, ...]:
        """The links of a node that were up before this roll last
        disturbed it: where it has other links, it has to have these."""
        return self._once(self._links, system, node)

    def _links(self, system: str, node: str) -> tuple[str, ...]:
        own = (s for s in self._steps_of(system, _disturbs) if s.node == node)
        intents = (self.log.state.step(s.id).intent for s in own)
        last = max((i for i in intents if i is not None), key=lambda i: i.seq, default=None)
        return last.entry.before.links if last is not None and last.entry.before is not None else ()

    def _once(self, ask: Callable[..., T], system: str, *about: str) -> T:
        question, entries = (ask.__name__, system, *about), self.log.entries[system]
        known = self._answers.get(question)
        if known is None or known[0] != entries:
            known = self._answers[question] = (entries, ask(system, *about))
        return cast(T, known[1])
