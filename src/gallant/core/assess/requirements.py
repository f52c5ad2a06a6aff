"""What releases require of other products, as rules between the systems of this estate.

A requirement of a system's release concerns the systems of the required product that it uses
or runs on, or that use or run on it; where there are none, those of its site; where there
are none either, all of them. A product that no system of the estate runs may be declared
there by a named person; else the requirement is unknown, which is not the same as kept.

What a system's own nodes carry as a component is the nearest of all: a requirement on it is about that component, and
no other system. A plan keeps it by the order of a node's layers (core/plan/layers.py).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from urllib.parse import quote

from gallant.core.assess.compat import Breach, Rule, Task
from gallant.core.catalog.products import Product, Release, Requirement, version_of
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.readings import Component, Reading
from gallant.core.records import Record
from gallant.core.versions import parse_range


class RequirementUnknown(Record):
    """A requirement whose other side was neither read nor declared."""

    system: str
    release: str
    product: str
    range: str

    @property
    def words(self) -> str:
        """What was not looked at, in one line."""
        return (
            f"{self.system} on {self.release} needs {self.product} on {parse_range(self.range).words()}, and what that"
            " runs is not known"
        )


class Requirements(Record):
    """All tasks (systems, and declared products under their own name), the rules between them, and what is unknown."""

    tasks: tuple[Task, ...]
    rules: tuple[Rule, ...]
    unknown: tuple[RequirementUnknown, ...]


def requirements(
    estate: Estate, readings: Mapping[str, Reading], products: Mapping[str, Product], targets: Mapping[str, str]
) -> Requirements:
    """Tasks for every system that was read (`targets` by system;
    others stay where they are), and the rules that tie them."""
    running = {
        name: found for name, system in estate.systems.items() if (found := _running(system, readings, products))
    }
    rules: list[Rule] = []
    unknown: list[RequirementUnknown] = []
    schemes: dict[str, str] = {}
    required = list(_required(estate, products))
    demanding = {system.name: system for system, *_ in required}
    carried = {name: {part.product for _, part in _parts(system, readings)} for name, system in demanding.items()}
    for system, product, release, requirement in required:
        if requirement.product in carried[system.name]:
            continue
        schemes.setdefault(requirement.product, parse_range(requirement.range).scheme)
        others = related(estate, system, requirement.product)
        known = [o for o in others if o in running]
        if not known and requirement.product in estate.declared:
            known = [requirement.product]
        if len(known) < len(others) or not known:
            unknown.append(
                RequirementUnknown(
                    system=system.name, release=release.version, product=requirement.product, range=requirement.range
                )
            )
        rules += [_rule(system, product, release, requirement, other) for other in known]
    tasks = tuple(_tasks(estate, running, products, targets, schemes))
    names = {task.system for task in tasks}
    return Requirements(
        tasks=tasks, rules=tuple(r for r in rules if {r.system, r.other} <= names), unknown=tuple(unknown)
    )


def _tasks(
    estate: Estate,
    running: Mapping[str, tuple[str, ...]],
    products: Mapping[str, Product],
    targets: Mapping[str, str],
    schemes: Mapping[str, str],
) -> Iterator[Task]:
    """What runs, and where it is to go; of declared products that are required (`schemes`), what is said of them."""
    for name, versions in running.items():
        yield Task(
            system=name,
            product=_product(estate.systems[name].product, products, schemes),
            running=versions[0],
            also=versions[1:],
            target=targets.get(name, versions[0]),
            delivery=estate.systems[name].delivery,
        )
    for name, said in estate.declared.items():
        if name in schemes:
            product = _product(name, products, schemes)
            yield Task(system=name, product=product, running=said.version, target=said.version)


def own_breaches(estate: Estate, readings: Mapping[str, Reading], products: Mapping[str, Product]) -> list[Breach]:
    """What nodes run and their own components do not keep now, each
    once for a system; the rule's `other` is the component."""
    found: dict[Breach, None] = {}
    for system in estate.systems.values():
        product = products.get(system.product)
        if product is None or not any(release.requires for release in product.releases):
            continue
        for reading, part in _parts(system, readings):
            release = product.resolve(reading.version)
            if release is None:
                continue
            for need in release.requires:
                if need.product == part.product and not _keeps(need, part, products):
                    rule = _rule(system, product, release, need, part.name)
                    found[Breach(rule=rule, running=release.version, other_running=part.version)] = None
    return list(found)


def _keeps(need: Requirement, part: Component, products: Mapping[str, Product]) -> bool:
    allowed = parse_range(need.range)
    version = version_of(products.get(part.product) or _plain(part.product, allowed.scheme), part.version)
    return version is not None and version in allowed


def _parts(system: System, readings: Mapping[str, Reading]) -> Iterator[tuple[Reading, Component]]:
    """What the system's own nodes carry besides their image."""
    for node in system.nodes:
        if (reading := readings.get(node_name(system, node))) is not None:
            yield from ((reading, part) for part in reading.components if part.product != system.product)


def _required(
    estate: Estate, products: Mapping[str, Product]
) -> Iterator[tuple[System, Product, Release, Requirement]]:
    """What every release of every system's product needs of other products; what its own nodes may run at the same time
    is a matter of its route (core/assess/routes.py)."""
    for system in estate.systems.values():
        product = products.get(system.product)
        for release in product.releases if product else ():
            for requirement in release.requires:
                if product and requirement.product != system.product:
                    yield system, product, release, requirement


def related(estate: Estate, system: System, product: str) -> list[str]:
    """The systems of `product` that a requirement of `system` is about, nearest first in kind and none twice."""
    near = _tied_to(estate, system)
    same = [other for other in estate.of_product.get(product, ()) if other.name != system.name]
    return (
        [o.name for o in same if o.name in near]
        or [o.name for o in same if o.site == system.site]
        or [o.name for o in same]
    )


def _tied_to(estate: Estate, system: System) -> set[str]:
    """The systems that this one uses or stands on, and those that use it or stand on it."""
    below = (node.runs_on.partition("/")[0] for node in system.nodes.values() if node.runs_on is not None)
    above = (other for node in system.nodes for other, _ in estate.upper_nodes.get(node_name(system, node), ()))
    users = estate.users.get(system.name, ())
    return {*system.uses, *below, *(other.name for other in (*users, *above))}


def _running(system: System, readings: Mapping[str, Reading], products: Mapping[str, Product]) -> tuple[str, ...]:
    """The versions that a system's nodes run, each once, the oldest first; empty while a node is unread."""
    versions = [r.version for n in system.nodes if (r := readings.get(node_name(system, n))) is not None]
    if len(versions) < len(system.nodes):
        return ()
    product = products.get(system.product)
    known = [found for v in versions if product and (found := product.resolve(v)) is not None]
    if product and len(known) == len(versions):
        return tuple(dict.fromkeys(r.version for r in sorted(known, key=product.key)))
    return tuple(dict.fromkeys(versions))


def _rule(system: System, product: Product, release: Release, requirement: Requirement, other: str) -> Rule:
    return Rule(
        system=system.name,
        when=f"vers:{product.scheme}/{quote(release.version, safe='')}",
        other=other,
        range=requirement.range,
        said_by=f"{product.name} {release.version}",
    )


def _product(name: str, products: Mapping[str, Product], schemes: Mapping[str, str]) -> Product:
    """The product as the catalogs have it, or one without releases in the scheme that the rules speak."""
    return products.get(name) or _plain(name, schemes.get(name, "dotted"))


def _plain(name: str, scheme: str) -> Product:
    """A product of which no release is known."""
    return Product(name=name, scheme=scheme, releases=())
