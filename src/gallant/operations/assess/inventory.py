"""What runs where: now, at an earlier moment, or the difference
between two; as rows, by node, and as a bill of materials."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, time

from gallant.core.errors import WrongUse
from gallant.core.estate.picks import Pick, split
from gallant.core.estate.systems import Node, System, node_name
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.operations.assess.gaps import wrongly_picked
from gallant.operations.ground.workplace import Workplace


class InventoryRow(Record):
    """One component of one node as last read; `error` says how the newest try failed, if it did."""

    system: str
    node: str
    component: str | None = None
    kind: str | None = None
    product: str | None = None
    version: str | None = None
    next_version: str | None = None
    build: str | None = None
    role: str | None = None
    state: str | None = None
    read_at: datetime | None = None
    error: str | None = None
    serial: str | None = None
    model: str | None = None
    part_number: str | None = None


class NodeKnown(Record):
    """A node of the estate with its reading, if there is one, and how the newest try failed, if it did."""

    system: System
    node: str
    place: Node
    reading: Reading | None
    error: str | None

    @property
    def name(self) -> str:
        return node_name(self.system, self.node)


class InventoryChange(Record):
    """What differs between two moments: `what` is new, gone or changed; versions are None where there is none."""

    system: str
    node: str
    component: str
    what: str
    before: str | None
    after: str | None


def known(place: Workplace, terms: Sequence[str], at: str | None = None) -> list[NodeKnown]:
    """The selected nodes in the order of the estate, as last read or as
    they were at a moment, with the components that are meant."""
    terms, pick = split(place.estate, terms)
    found = _known(place, terms, at)
    if not pick.asked:
        return found
    if pick.severity or pick.standings or pick.states:
        raise WrongUse(
            "An inventory says what runs; how far behind that is, gaps say.", next="gallant gaps, with the same words"
        )
    readings = {one.name: one.reading for one in found if one.reading is not None}
    if (wrong := wrongly_picked(pick, readings)) is not None:
        raise wrong
    return [_meant(one, pick) for one in found]


def _meant(known: NodeKnown, pick: Pick) -> NodeKnown:
    """A node with those of its components alone that are meant."""
    if known.reading is None:
        return known
    system, node = known.system.name, [known.node]
    parts = [c for c in known.reading.components if pick.takes(system, node, c.name, (c.kind, c.product), None, "")]
    return replace(known, reading=replace(known.reading, components=tuple(parts)))


def _known(place: Workplace, terms: Sequence[str], at: str | None) -> list[NodeKnown]:
    chosen = place.select(terms)
    if at is not None:
        then = place.readings.as_of(moment_of(place, at))
        return [
            NodeKnown(system=s, node=n, place=s.nodes[n], reading=then.get(node_name(s, n)), error=None)
            for s, nodes in chosen
            for n in nodes
        ]
    newest = place.readings.newest([system.name for system, _ in chosen] if terms else None)
    found = []
    for system, nodes in chosen:
        for node in nodes:
            last = newest.get(node_name(system, node))
            reading = last.reading if last is not None else None
            error = last.error if last is not None else "never read"
            found.append(NodeKnown(system=system, node=node, place=system.nodes[node], reading=reading, error=error))
    return found


def rows_of(nodes: Iterable[NodeKnown]) -> Iterator[InventoryRow]:
    """One row a component; a node that was never read has one row that says so."""
    for known in nodes:
        reading, system = known.reading, known.system
        if reading is None:
            error = known.error or "not read by then"
            yield InventoryRow(system=system.name, node=known.node, product=system.product, error=error)
            continue
        for c in reading.components:
            yield InventoryRow(
                system=system.name,
                node=known.node,
                component=c.name,
                kind=c.kind,
                product=c.product,
                version=c.version,
                next_version=c.next_version,
                build=c.build,
                role=reading.role,
                state=reading.state,
                read_at=reading.taken,
                error=known.error,
                serial=c.serial,
                model=c.model,
                part_number=c.part_number,
            )


def moment_of(place: Workplace, text: str) -> datetime:
    """A moment as people write it: a date (its end), a date with a time, or the number of a survey; raises
    `WrongUse`."""
    if text.isdecimal() and len(text) < 8:
        held = next((h for h in place.readings.surveys() if h.number == int(text)), None)
        if held is None:
            numbers = [str(h.number) for h in place.readings.surveys()]
            raise WrongUse(
                f"No survey {text} is kept.",
                next=f"There are {', '.join(numbers[:12])}." if numbers else "gallant survey",
            )
        return held.ended or place.clock.now()
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise WrongUse(
            f"{text!r} is not a moment.", next="Write 2027-01-10, 2027-01-10T08:00Z, or the number of a survey."
        ) from None
    if len(text) == 10:
        found = datetime.combine(found.date(), time(23, 59, 59))
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def difference(place: Workplace, terms: Sequence[str], before: str, after: str) -> list[InventoryChange]:
    """What changed from one moment to another, of the selected nodes; by node and component."""
    old, new = (
        {k.name: _versions(k.reading) for k in known(place, terms, at) if k.reading is not None}
        for at in (before, after)
    )
    found = []
    for k in known(place, terms):
        one, other = old.get(k.name, {}), new.get(k.name, {})
        for component in sorted(one.keys() | other.keys(), key=lambda c: (c != "image", c)):
            was, now = one.get(component), other.get(component)
            if was != now:
                what = "new" if was is None else "gone" if now is None else "changed"
                found.append(
                    InventoryChange(
                        system=k.system.name, node=k.node, component=component, what=what, before=was, after=now
                    )
                )
    return found


def _versions(reading: Reading | None) -> Mapping[str, str]:
    """What is compared: versions, and role, state and facets next to them."""
    if reading is None:
        return {}
    return {
        **{c.name: c.version for c in reading.components},
        "role": reading.role,
        "state": reading.state,
        "serial": reading.serial,
        **{f"facet {f.name}": f.state for f in reading.facets},
    }


def bill_of(place: Workplace, nodes: Sequence[NodeKnown]) -> dict[str, object]:
    """The selected nodes as a bill of materials, with the hashes of what catalogs here know."""
    from uuid import uuid4

    from gallant import __version__
    from gallant.core.assess.materials import bill

    read = [(k.system.name, k.node, k.reading) for k in nodes if k.reading is not None]
    wanted = {(part.product, part.version) for _, _, reading in read for part in reading.components}
    hashes = {}
    for product, version in wanted:
        listed = place.products.get(product)
        release = listed.resolve(version) if listed is not None else None
        package = next((p for p in release.packages if p.kind == "installer"), None) if release is not None else None
        if package is not None:
            hashes[product, version] = package.sha256
    runs_on = {k.name: k.place.runs_on for k in nodes if k.place.runs_on is not None}
    return bill(place.estate.name, read, place.clock.now(), __version__, str(uuid4()), hashes, runs_on)
