"""Two plans that are carried out beside each other: whether some moment of one and some moment of the other break what
one of their systems asks of the other. Each plan by itself was made such that none does."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from gallant.core.assess.compat import Rule, Task, breaches
from gallant.core.assess.requirements import requirements
from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate, node_name
from gallant.core.readings import Reading
from gallant.core.records import replace
from gallant.core.work.plan import Plan

Versions = dict[str, tuple[str, ...]]


def passed_through(estate: Estate, plan: Plan) -> Versions:
    """By system of a plan, every release that its nodes may run while it is carried out."""
    found: Versions = {}
    for lane in (lane for lane in plan.lanes if lane.system in estate.systems):
        system = estate.systems[lane.system]
        names = [node_name(system, node) for node in system.nodes]
        began = [plan.basis.versions[name] for name in names if name in plan.basis.versions]
        found[lane.system] = tuple(dict.fromkeys([*began, *(hop.to for hop in lane.hops if hop.image)]))
    return found


def broken_beside(
    estate: Estate, readings: Mapping[str, Reading], products: Mapping[str, Product], one: Plan, other: Plan
) -> Rule | None:
    """The first rule between a system of one plan and one of the other
    that some pair of their releases breaks, and that holds now."""
    known = requirements(estate, readings, products, {})
    tasks = {task.system: task for task in known.tasks}
    mine, its = passed_through(estate, one), passed_through(estate, other)
    ran, now = {**mine, **its}, set(_broken(tasks, known.rules))
    for rule in known.rules:
        ends = (rule.system, rule.other)
        apart = (ends[0] in mine and ends[1] in its) or (ends[0] in its and ends[1] in mine)
        if not apart or rule in now or not tasks.keys() >= set(ends):
            continue
        both = {name: _passing(tasks[name], ran[name]) for name in ends}
        if next(iter(_broken(both, (rule,))), None) is not None:
            return rule
    return None


def _passing(task: Task, versions: tuple[str, ...]) -> Task:
    first, *rest = versions or (task.running,)
    return replace(task, running=first, target=first, also=tuple(rest))


def _broken(tasks: Mapping[str, Task], rules: tuple[Rule, ...]) -> Iterator[Rule]:
    return (breach.rule for breach in breaches(list(tasks.values()), rules))
