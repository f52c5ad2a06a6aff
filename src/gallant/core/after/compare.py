"""After the work: each node against what it should be, as rows a person can act on."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence

from gallant.core.after.picture import LOST, Unlike
from gallant.core.after.settling import AT_REST, Judged
from gallant.core.after.still import RESTART, Still
from gallant.core.catalog.products import Product, Release
from gallant.core.estate.systems import System, node_name
from gallant.core.outages import Sample
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.core.shapes import SHAPES


class NodeVerdict(Record):
    """One node: `expected` and `observed` versions, whether all is well, and what is not."""

    system: str
    node: str
    expected: str | None
    observed: str | None
    ok: bool
    problems: tuple[str, ...]


def verify_system(
    system: System,
    readings: Mapping[str, Reading],
    errors: Mapping[str, str],
    product: Product | None,
    target: Release | None,
    probes: Mapping[str, Sample],
    listed: Container[str] = (),
) -> list[NodeVerdict]:
    """One verdict a node, in the estate's order. A service that does not answer is a problem of
    the node whose usual place it is to serve (the first where the estate declares none).
    `listed` are the products of all catalogs: where none has the system's own, but one has
    something on the node, as with a host and its packages, that is what it is judged by."""
    return [
        _verdict(system, node, readings.get(node), errors.get(node), product, target, probes, listed)
        for node in system.nodes
    ]


def with_all_that_is_known(
    verdicts: Sequence[NodeVerdict], unlike: Sequence[Unlike], still: Sequence[Still], judged: Sequence[Judged]
) -> list[NodeVerdict]:
    """The verdicts, each the worst of all that is known of its node: what is lost against how it was, what waits for a
    restart, and numbers that are not at rest too. What is of a whole system stands at its first node."""
    first: dict[str, str] = {}
    for verdict in verdicts:
        first.setdefault(verdict.system, verdict.node)
    more: dict[tuple[str, str], list[str]] = {}

    def add(system: str, node: str, words: str) -> None:
        more.setdefault((system, node or first.get(system, "")), []).append(words)

    for one in unlike:
        if one.means == LOST:
            add(one.system, one.node, f"lost: {one.about} {one.before or 'none'} → {one.after or 'gone'}")
    for wait in still:
        if wait.about == RESTART:
            add(wait.system, wait.node, wait.what)
    for number in judged:
        if number.state not in AT_REST:
            add(number.system, number.node, f"{number.about}: {number.state}")
    return [
        replace(v, ok=False, problems=(*v.problems, *more[v.system, v.node])) if (v.system, v.node) in more else v
        for v in verdicts
    ]


def _verdict(
    system: System,
    node: str,
    reading: Reading | None,
    error: str | None,
    product: Product | None,
    target: Release | None,
    probes: Mapping[str, Sample],
    listed: Container[str],
) -> NodeVerdict:
    expected = target.version if target else None
    problems: list[str] = []
    parts = [part.product for part in reading.components] if reading is not None else []
    if target is None and (product is not None or not any(part in listed for part in parts)):
        problems.append(f"no catalog says what {system.product} should run")
    if reading is None:
        problems.append(error or "it was not read")
    else:
        problems += _problems_of(system, node, reading, product, target)
    if node == SHAPES[system.shape].usual_head(system.nodes, system.usual):
        problems += [
            f"the service {name} does not answer: {sample.why}" for name, sample in probes.items() if not sample.ok
        ]
    return NodeVerdict(
        system=system.name,
        node=node,
        expected=expected,
        observed=reading.version if reading else None,
        ok=not problems,
        problems=tuple(dict.fromkeys(problems)),
    )


def _problems_of(
    system: System, node: str, reading: Reading, product: Product | None, target: Release | None
) -> list[str]:
    problems: list[str] = []
    if target is not None and product is not None and product.resolve(reading.version) != target:
        problems.append(f"runs {reading.version}, its aim is {target.version}")
    if reading.next_version is not None and reading.next_version != reading.version:
        problems.append(f"would start {reading.next_version} at its next restart")
    if reading.state != "in_service":
        problems.append(f"is not in service ({reading.state})")
    if reading.in_sync is False:
        problems.append(f"its replica is not whole ({reading.sync_word})")
    problems += [f"is busy: {job.kind} ({job.message})" for job in reading.running_jobs]
    problems += [
        f"is {reading.role}, its usual place is {role}"
        for role, usual in system.usual.items()
        if usual == node and reading.role != role
    ]
    problems += [
        f"is {role}, the usual place of {node_name(system, usual)}"
        for role, usual in system.usual.items()
        if usual != node and reading.role == role
    ]
    return problems
