"""What runs where, as a tree of systems, by product, by component,
one node in full, and what changed between two moments."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec

from gallant.core.readings import IMAGE, Component, Gauge, Reading
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow
from gallant.views.ground.tables import Grid, next_steps, state_word, sync_word, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LIVELY,
    LOUD,
    OFF,
    YELLOW,
    WordMarks,
    ago,
    duration,
    many,
    mark,
    moment,
    plain,
    said,
    size,
)

if TYPE_CHECKING:
    from gallant.operations.assess.inventory import InventoryChange, InventoryRow, NodeKnown
    from gallant.operations.setup.trial import TrialCall, TrialResult

MOST_SYSTEMS = 20  # in a tree; of more of them what runs where is told by product and version
MOST_VERSIONS = 30  # rows of a fleet
FEW = 4  # components of one kind that a tree names one by one
CHANGE_MARKS = WordMarks({"new": "note", "gone": "bad", "changed": "work"})
ALARM_ORDER = {"stop": 0, "warn": 1, "note": 2}
ALARM_MARKS = WordMarks({"stop": "bad", "warn": "work", "note": "note"})


class ProductVersion(ListRow):
    """A version of a product, and where it runs."""

    product: str
    kind: str
    version: str
    nodes: tuple[str, ...]


class ComponentVersion(ListRow):
    """A version of a component, and where it runs."""

    component: str
    product: str
    version: str
    nodes: tuple[str, ...]


INVENTORY: Listed[InventoryRow] = Listed("inventory", "inventory", beside=("reading",))
BY_PRODUCT: Listed[ProductVersion] = Listed("inventory-by", "inventory --by product")
BY_COMPONENT: Listed[ComponentVersion] = Listed("inventory-by", "inventory --by component")
CHANGES: Listed[InventoryChange] = Listed("inventory-diff", "inventory --diff", headings={"change": "what"})
TRIED: Listed[Reading] = Listed(
    "survey-trial", "survey --profile", beside=("profile", "capabilities", "calls", "problem", "warnings")
)


def tree_view(
    nodes: Sequence[NodeKnown],
    rows: Callable[[], Iterable[InventoryRow]],
    now: datetime,
    at: str | None,
    whole: bool = False,
) -> View:
    """Systems with their nodes; parts that are alike on all nodes stand once, many of a kind as a number. Of a fleet
    what runs where, by product and version, unless the `whole` of it was asked for."""

    def text() -> Drawn:
        systems: dict[str, list[NodeKnown]] = {}
        for known in nodes:
            systems.setdefault(known.system.name, []).append(known)
        if at is not None:
            yield f"as it was at {plain(at)}"
        if len(systems) > MOST_SYSTEMS and not whole:
            yield from _fleet(nodes)
        else:
            yield "\n".join(line for members in systems.values() for line in _system_lines(members, now))
        unread = [k for k in nodes if k.reading is None]
        failed = [k for k in nodes if k.reading is not None and k.error]
        count = sum(len(k.reading.components) for k in nodes if k.reading is not None)
        yield (
            f"{many(len(systems), 'system')}, {many(len(nodes), 'node')}, {many(count, 'component')}"
            + (f", {LOUD}{len(unread)} never read{OFF}" if unread else "")
            + (f", {YELLOW}{len(failed)} not reached last time{OFF}" if failed else "")
            + "."
        )
        if unread or failed:
            yield from next_steps("gallant survey --failed")

    return INVENTORY.view(rows, text)


def _fleet(nodes: Sequence[NodeKnown]) -> Drawn:
    """What runs where, a row for each product and version, those that most nodes run first; of a product together."""
    runs: dict[str, dict[str, list[NodeKnown]]] = {}
    for known in nodes:
        version = known.reading.version if known.reading is not None else "never read"
        runs.setdefault(known.system.product, {}).setdefault(version, []).append(known)
    shown = table("product", "runs", "systems", "nodes", "of", right=("systems", "nodes"))
    told = [
        (product, version, members)
        for product, versions in sorted(runs.items(), key=lambda one: -sum(map(len, one[1].values())))
        for version, members in sorted(versions.items(), key=lambda one: -len(one[1]))
    ]
    last = None
    for product, version, members in told[:MOST_VERSIONS]:
        names = list(dict.fromkeys(known.system.name for known in members))
        whose = f"{plain(', '.join(names[:3]))}{f' and {len(names) - 3} more' if len(names) > 3 else ''}"
        first = f"{BOLD}{plain(product)}{OFF}" if product != last else ""
        shown.add_row(first, plain(version), str(len(names)), str(len(members)), whose)
        last = product
    yield shown
    if len(told) > MOST_VERSIONS:
        left = sum(len(members) for _, _, members in told[MOST_VERSIONS:])
        yield f"{mark('note')} {many(len(told) - MOST_VERSIONS, 'more version')} on {many(left, 'node')}"
    yield f"{DIM}gallant inventory SYSTEM shows one of them, --by component what is on them, --all every node{OFF}"


def _system_lines(members: Sequence[NodeKnown], now: datetime) -> Iterator[str]:
    system = members[0].system
    where = f"{system.shape}, {plain(system.site)}" + ("" if system.in_service else ", not in service")
    yield f"{BOLD}{plain(system.name)}{OFF}  {plain(system.product)}  {DIM}{where}{OFF}"
    readings = [k.reading for k in members if k.reading is not None]
    on_all, on_most = _shared(readings)
    last = len(members) - 1 if not (on_all or on_most) else len(members)
    for number, known in enumerate(members):
        branch = "└" if number == last else "├"
        yield f"{branch} {BOLD}{plain(known.name)}{OFF}  {_node_line(known, now)}"
        if known.reading is not None:
            bare = (c.bare for c in known.reading.components if c.name != IMAGE)
            own = [c for c in bare if c not in on_all and c not in on_most]
            trunk = " " if number == last else "│"
            yield from (f"{trunk}    {line}" for line in _parts_lines(own))
    every = "on both" if len(members) == 2 else "on all" if len(members) > 2 else "on it"
    groups = [(whose, parts) for whose, parts in ((every, on_all), ("on most", on_most)) if parts]
    for whose, parts in groups:
        first, below = ("└", " ") if (whose, parts) == groups[-1] else ("├", "│")
        for number, line in enumerate(_parts_lines(parts)):
            yield (
                f"{first if number == 0 else below} {f'{DIM}{whose}{OFF}' if number == 0 else ' ' * len(whose)}  {line}"
            )


def _node_line(known: NodeKnown, now: datetime) -> str:
    r = known.reading
    if r is None:
        return said("bad", f"not known: {known.error or 'not read by then'}")
    version = plain(r.version) + (f" {DIM}build {plain(r.build)}{OFF}" if r.build else "")
    waits = f" {YELLOW}▲ next {plain(r.next_version)}{OFF}" if r.next_version not in (None, r.version) else ""
    loud = sum(a.level in ("stop", "warn") for a in r.alarms)
    parts = [
        version + waits,
        plain(r.role),
        state_word(r.state),
        sync_word(r) if r.in_sync is not None else "",
        f"{DIM}{ago(r.taken, now)}{OFF}",
    ]
    if loud:
        parts.insert(3, said("work", many(loud, "alarm")))
    if known.error:
        parts.append(said("bad", f"last try: {known.error}"))
    return "  ".join(part for part in parts if part)


def _shared(readings: Sequence[Reading]) -> tuple[list[Component], list[Component]]:
    """Components that every node has in the same version, whichever piece each
    is, and those that more than half have so; of a single node, all."""
    count: Counter[Component] = Counter()
    for reading in readings:
        count.update({c.bare for c in reading.components})
    order = dict.fromkeys(c.bare for r in readings for c in r.components if c.name != IMAGE)
    on_all = [c for c in order if count[c] == len(readings)]
    return on_all, [c for c in order if len(readings) > count[c] > len(readings) / 2]


def waits(part: Component) -> bool:
    """Whether another version runs from the next start on."""
    return part.next_version not in (None, part.version)


def _parts_lines(parts: Sequence[Component]) -> Iterator[str]:
    kinds: dict[str, list[Component]] = {}
    for part in parts:
        kinds.setdefault(part.kind, []).append(part)
    few: list[str] = []
    for kind, own in kinds.items():
        if len(own) <= FEW:
            few += [
                f"{plain(c.name)} {DIM}{kind}{OFF} {plain(c.version)}"
                + (f" {YELLOW}▲ next {plain(c.next_version)}{OFF}" if waits(c) else "")
                for c in own
            ]
            continue
        few += [
            f"{plain(c.name)} {plain(c.version)} {YELLOW}▲ next {plain(c.next_version)}{OFF}" for c in own if waits(c)
        ]
        versions = Counter(c.version for c in own).most_common()
        spread = (
            ", ".join(f"{plain(v)} ×{n}" for v, n in versions[:3])
            if len(versions) <= FEW
            else f"{len(versions)} versions"
        )
        few.append(f"{len(own)} {DIM}{kind}{OFF} {spread}")
    for at in range(0, len(few), 3):
        yield ",  ".join(few[at : at + 3])


def grouped_view(rows: Iterable[InventoryRow], by: str) -> View:
    """Versions and where they run, by product or by component; the version that fewest run last."""
    second = "kind" if by == "product" else "product"
    groups: dict[tuple[str, str], dict[str, list[str]]] = {}
    for row in rows:
        if row.component is not None:
            key = (row.product, row.kind) if by == "product" else (row.component, row.product)
            versions = groups.setdefault((key[0] or "", key[1] or ""), {})
            versions.setdefault(row.version or "", []).append(f"{row.system}/{row.node}")
    told = [
        (key, version, names)
        for key, versions in sorted(groups.items())
        for version, names in sorted(versions.items(), key=lambda v: -len(v[1]))
    ]

    def text() -> Drawn:
        shown = table(by, second, "version", "on", "nodes", right=("on",))
        last = None
        for key, version, names in told:
            first, last = key[0] != last, key[0]
            nodes = list(dict.fromkeys(names))
            some = ", ".join(nodes[:4]) + (f" and {len(nodes) - 4} more" if len(nodes) > 4 else "")
            shown.add_row(
                f"{BOLD}{plain(key[0])}{OFF}" if first else "",
                plain(key[1]) if first else "",
                plain(version),
                str(len(names)),
                plain(some),
            )
        yield shown

    if by == "product":
        return BY_PRODUCT.view(
            [ProductVersion(product=k[0], kind=k[1], version=v, nodes=tuple(names)) for k, v, names in told], text
        )
    return BY_COMPONENT.view(
        [ComponentVersion(component=k[0], product=k[1], version=v, nodes=tuple(names)) for k, v, names in told], text
    )


def node_view(known: NodeKnown, rows: Sequence[InventoryRow], now: datetime) -> View:
    """One node, everything that is known of it."""
    r = known.reading

    def text() -> Drawn:
        yield f"{BOLD}{plain(known.name)}{OFF}  {plain(known.system.product)}  {DIM}{plain(known.place.address)}{OFF}"
        if r is None:
            yield said("bad", f"not known: {known.error}")
            yield from next_steps(f"gallant survey {known.name}")
            return
        for a in sorted(r.alarms, key=lambda a: ALARM_ORDER.get(a.level, len(ALARM_ORDER))):
            yield said(ALARM_MARKS[a.level], a.text)
        yield "\n".join(f"{DIM}{name:<12}{OFF} {plain(value)}" for name, value in _head(known, r, now) if value)
        yield _components(r)
        yield from (draw(r, now) for holds, draw in _PARTS if holds(r))
        for job in r.running_jobs:
            yield f"{mark('going')} job {plain(job.id)}: {job.kind}, {job.percent:.0f} %, {plain(job.message)}"
        for oddity in r.oddities:
            yield f"{mark('note')} it {plain(oddity)}"
        if known.error:
            yield said("bad", f"the last try failed: {known.error}")

    return INVENTORY.view(rows, text, {"reading": msgspec.to_builtins(r) if r is not None else None})


def _head(known: NodeKnown, r: Reading, now: datetime) -> Sequence[tuple[str, str | None]]:
    """What a node is and where it stands, by the words that stand before each."""
    return (
        ("model", r.model),
        ("serial", r.serial),
        ("part number", r.part_number),
        ("version", r.version + (f" = build {r.build}" if r.build else "")),
        ("next start", r.next_version if r.next_version not in (None, r.version) else None),
        ("other slot", r.other_slot),
        ("role, state", f"{r.role}, {r.state.replace('_', ' ')}"),
        ("replica", None if r.in_sync is None else f"{r.sync_word}" + ("" if r.in_sync else ", not whole")),
        ("network", r.network),
        ("started as", r.boot),
        ("clock", _clock(r)),
        ("runs on", known.place.runs_on),
        ("read", f"{ago(r.taken, now)}, {moment(r.taken)}"),
    )


def _components(r: Reading) -> Grid:
    pieces = any(c.serial for c in r.components)
    more = ("serial", "part number", "model") if pieces else ()
    shown = table("component", "kind", "version", "next start", "product", *more, optional=("model",))
    for c in r.components:
        waits = f"{YELLOW}▲ {plain(c.next_version)}{OFF}" if c.next_version not in (None, c.version) else ""
        said = [plain(text or "–") for text in (c.serial, c.part_number, c.model)] if pieces else []
        shown.add_row(f"{BOLD}{plain(c.name)}{OFF}", c.kind, plain(c.version), waits, plain(c.product), *said)
    return shown


def _channels(r: Reading, now: datetime) -> Grid:
    shown = table("channel", "set", "state", "why")
    for way in sorted(r.channels or (), key=lambda way: way.delivers):
        look = "good" if way.delivers else "bad" if way.enabled else "quiet"
        enabled = "enabled" if way.enabled else "disabled"
        shown.add_row(plain(way.name), enabled, said(look, way.state), plain(way.why))
    return shown


def _packages(r: Reading, now: datetime) -> Grid:
    shown = table("package on it", "size", "sha-256", right=("size",))
    for p in r.packages:
        shown.add_row(plain(p.name), size(p.bytes), p.sha256)
    return shown


def _snapshots(r: Reading, now: datetime) -> Grid:
    shown = table("snapshot", "taken", "size", "of", right=("size",))
    for s in r.snapshots or ():
        of = plain(s.of or r.system)
        shown.add_row(plain(s.name), moment(s.taken), "–" if s.bytes is None else size(s.bytes), of)
    return shown


def _clock(r: Reading) -> str | None:
    """The device's clock less ours, and how well that is known."""
    if r.clock_offset_s is None:
        return None
    within = r.clock_uncertainty_s or 0.0
    return f"{r.clock_offset_s:+.1f} s" + (f", known to within {within:.0f} s" if within >= 1 else "")


def _conditions(r: Reading, now: datetime) -> Grid:
    shown = table("condition", "state", right=())
    plainly = [f for f in r.facets if not f.name.startswith("service ") or f.state != "running"]
    running = len(r.facets) - len(plainly)
    for f in plainly[:40]:
        shown.add_row(plain(f.name), plain(f.state))
    if len(plainly) > 40:
        shown.add_row(f"and {len(plainly) - 40} more", "")
    if running:
        shown.add_row(many(running, "service"), "running")
    for g in r.gauges:
        shown.add_row(plain(g.name), _gauge(g))
    return shown


def _gauge(g: Gauge) -> str:
    return size(g.value) if g.unit == "B" else f"{g.value:g} {g.unit}".strip()


def _expiries(r: Reading, now: datetime) -> Grid:
    shown = table("ends", "kind", "when", "in")
    for e in sorted(r.expiries, key=lambda e: e.ends):
        left = (e.ends - now).total_seconds()
        word = said("bad", "over") if left <= 0 else said("work" if left < 30 * 86400 else "good", duration(left))
        shown.add_row(f"{BOLD}{plain(e.name)}{OFF}", e.kind, moment(e.ends), word)
    return shown


def _guests(r: Reading, now: datetime) -> Grid:
    shown = table("guest", "state", "cannot move")
    for g in (r.guests or ())[:40]:
        shown.add_row(plain(g.name), plain(g.state), plain(g.tied))
    if (left := len(r.guests or ()) - 40) > 0:
        shown.add_row(f"and {left} more", "", "")
    return shown


# What stands below a node's components, in this order: whether there is any of it, and its table.
_PARTS: tuple[tuple[Callable[[Reading], object], Callable[[Reading, datetime], Grid]], ...] = (
    (lambda r: r.facets or r.gauges, _conditions),
    (lambda r: r.expiries, _expiries),
    (lambda r: r.channels, _channels),
    (lambda r: r.packages, _packages),
    (lambda r: r.guests, _guests),
    (lambda r: r.snapshots, _snapshots),
)


def changes_view(changes: Sequence[InventoryChange], before: str, after: str) -> View:
    def text() -> Drawn:
        if not changes:
            yield said("good", f"Nothing differs between {before} and {after}.")
            return
        shown = table("node", "component", "change", "before", "after")
        last = None
        for c in changes:
            name = f"{c.system}/{c.node}"
            shown.add_row(
                f"{BOLD}{plain(name)}{OFF}" if name != last else "",
                plain(c.component),
                said(CHANGE_MARKS[c.what], c.what),
                plain(c.before or ""),
                plain(c.after or ""),
            )
            last = name
        yield shown
        yield f"{many(len(changes), 'difference')} from {plain(before)} to {plain(after)}."

    return CHANGES.view(changes, text)


TRIED_FIELDS = (
    "serial", "model", "part_number", "version", "build", "next_version", "boot", "role", "state", "network"
)  # fmt: skip
TRIED_LISTS = ("components", "facets", "gauges", "packages", "jobs", "alarms", "expiries")
MOST_LINES = 24  # of one answer


def tried_view(tried: TrialResult, show_calls: bool) -> View:
    """A profile's trial: the calls, then what they came to."""

    def text() -> Drawn:
        for call in tried.calls if show_calls else ():
            yield from _call_lines(call)
        if tried.reading is not None:
            yield _taken(tried.reading)
            yield from (f"{mark('note')} it {plain(o)}" for o in tried.reading.oddities)
            yield from (said("work", warning) for warning in tried.warnings)
        else:
            yield said("bad", tried.problem or "no reading")
        yield f"{DIM}can: {', '.join(tried.capabilities)}{OFF}"
        yield from next_steps(tried.next)

    rows = [tried.reading] if tried.reading is not None else []
    more = {
        "profile": tried.profile,
        "capabilities": tried.capabilities,
        "calls": [msgspec.to_builtins(c) for c in tried.calls] if show_calls else [],
        "problem": tried.problem,
        "warnings": tried.warnings,
    }
    return TRIED.view(rows, text, more)


def _call_lines(call: TrialCall) -> Iterator[str]:
    yield f"{LIVELY}▸{OFF} {BOLD}{plain(call.asked)}{OFF}"
    rows = call.answered.strip().splitlines() or ["(nothing)"]
    for row in rows[:MOST_LINES]:
        yield f"  {DIM}{plain(row[:400])}{OFF}"
    if len(rows) > MOST_LINES:
        yield f"  {DIM}and {len(rows) - MOST_LINES} lines more{OFF}"
    for key, value in call.fields.items():
        yield f"  {plain(key)} = {plain(json.dumps(value, ensure_ascii=False, default=str)[:300])}"


def _taken(r: Reading) -> Grid:
    """Each field of a reading with what was taken for it."""
    shown = table("field", "value")
    for key in TRIED_FIELDS:
        value = getattr(r, key)
        shown.add_row(f"{BOLD}{key.replace('_', ' ')}{OFF}", plain(value) if value else f"{DIM}not taken{OFF}")
    for name in TRIED_LISTS:
        shown.add_row(f"{BOLD}{name}{OFF}", str(len(getattr(r, name))))
    return shown
