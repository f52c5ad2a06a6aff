"""How long steps took: told by the journal of every roll, kept
beside it where another estate's are brought in, and shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, WrongUse
from gallant.core.length.learning import MOST_OBSERVED, model_of
from gallant.core.length.spread import announced_s, product_of, way_of
from gallant.core.records import Record, clean, replace
from gallant.core.work.events import DONE, FAILED, Event
from gallant.core.work.paces import Observation, Pace, taken
from gallant.core.work.plan import Plan, steps_of
from gallant.disk import put_whole, why_not
from gallant.engine.journal import replay, taken_up, watched_through
from gallant.operations.ground.workplace import Workplace
from gallant.store.database import state_folder

SCHEMA = "gallant.durations/1"
BROUGHT = "durations.json"  # in state/: what was imported
MOST_ROLLS = 300  # the newest
LARGEST_BYTES = 64 * 1024 * 1024
LONGEST_S = 1e7
LONGEST_WORDS = 1000  # of all names of a step together
# What takes as long as a person or a given time takes says nothing of a device.
NOT_LEARNED = ("quiet", "by_hand", "look_over")


class Durations(Record):
    """A file of observations, to be taken from one estate to
    another; it names no system of the estate that it comes from."""

    schema: str
    observations: tuple[Observation, ...]


def learned(place: Workplace) -> tuple[Observation, ...]:
    """Every step that was carried out here or brought in, oldest first; as many of the newest as are of use."""
    own = list[list[Observation]]()
    for row in place.journal.rolls(most=MOST_ROLLS)[0]:  # newest first, and no older journal is read than is of use
        own.append(list(of_roll(row.plan, place.journal.events(row.id))))
        if sum(map(len, own)) >= MOST_OBSERVED:
            break
    return (*_brought(place), *(one for roll in reversed(own) for one in roll))[-MOST_OBSERVED:]


def of_roll(plan: Plan, events: Sequence[Event]) -> Iterator[Observation]:
    """What a roll tells of how long steps take."""
    state, again = replay(events), taken_up(events)
    for lane in plan.lanes:
        product = product_of(lane)
        for hop in lane.hops:
            for step in steps_of(state.waves.get(hop.id, hop.waves)):
                known = state.step(step.id)
                if known.intent is None or known.outcome is None or known.attempts != 1 or step.kind in NOT_LEARNED:
                    continue
                if not watched_through(known, again):
                    continue
                took = (known.outcome.entry.at - known.intent.entry.at).total_seconds()
                cut = known.outcome.entry.result == FAILED and took >= step.deadline_s
                if known.outcome.entry.result == DONE or cut:
                    name, way = way_of(hop, step, product)
                    yield Observation(
                        product=name,
                        hop=way,
                        kind=step.kind,
                        component=step.component,
                        system=step.system,
                        announced_s=announced_s(hop, step),
                        took_s=took,
                        cut=cut,
                    )


def _brought(place: Workplace) -> tuple[Observation, ...]:
    path = state_folder(place.folder) / BROUGHT
    return tuple(replace(o, brought=True) for o in _read(path).observations) if path.exists() else ()


def _read(path: Path) -> Durations:
    try:
        with path.open("rb") as file:
            raw = file.read(LARGEST_BYTES + 1)
        found = msgspec.json.decode(raw, type=Durations) if len(raw) <= LARGEST_BYTES else None
    except OSError as error:
        raise WrongUse(f"{path} cannot be read: {error.strerror}.") from None
    except (msgspec.DecodeError, ValueError) as error:
        raise WrongUse(
            f"{path} holds no durations: {clean(str(error), 120)}.",
            next="gallant history --durations --export FILE writes such a file",
        ) from None
    if found is None or found.schema != SCHEMA:
        raise WrongUse(
            f"{path} holds no durations of the form {SCHEMA}.",
            next="gallant history --durations --export FILE writes such a file",
        )
    for o in found.observations:
        if not (0 < o.announced_s < LONGEST_S and 0 < o.took_s < LONGEST_S):
            raise WrongUse(f"{path}: {clean(o.group, 80)}: seconds that cannot be.")
        if len(o.group) + len(o.system) > LONGEST_WORDS:
            raise WrongUse(f"{path}: {clean(o.group, 80)}: longer than any name of a product, hop and system.")
    return found


def export(place: Workplace, path: Path) -> int:
    """Write what was learned, with systems called by numbers: their names are nobody else's business."""
    found = learned(place)
    numbers = {name: f"system-{n}" for n, name in enumerate(dict.fromkeys(o.system for o in found), 1)}
    plain = tuple(msgspec.structs.replace(o, system=numbers[o.system]) for o in found)  # type: ignore[type-var]
    try:
        put_whole(path, msgspec.json.encode(Durations(schema=SCHEMA, observations=plain)) + b"\n")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    return len(plain)


def bring(place: Workplace, path: Path) -> int:
    """Take in what another estate learned; a second file adds to the first, and the same one again changes nothing."""
    found = _read(path)
    mark = f"{clean(path.stem, 40)}/"
    named = [replace(o, system=f"{mark}{clean(o.system, 60)}", brought=True) for o in found.observations]
    every = tuple(dict.fromkeys([*_brought(place), *named]))[-MOST_OBSERVED:]
    put_whole(state_folder(place.folder) / BROUGHT, msgspec.json.encode(Durations(schema=SCHEMA, observations=every)))
    return len(found.observations)


class Learned(Record):
    """What is known of one step of a hop: how often it was seen, how long
    was announced and taken (medians), and what the next is given."""

    product: str
    hop: str
    step: str
    seen: int
    announced_s: float
    took_s: float
    cut: int
    p50_s: float
    p90_s: float


def shown(place: Workplace, product: str | None = None) -> list[Learned]:
    """By product and hop, those first that were farthest from what was announced. Raises `WrongUse` for a product of
    which nothing is known while something is of others."""
    found, model = learned(place), None
    known = sorted({o.product for o in found})
    if product is not None and found and product not in known:
        raise WrongUse(
            f"Of a product {clean(product, 60)!r} nothing was learned{suggestion(product, known)}.",
            next="gallant history --durations shows all",
        )
    groups: dict[tuple[str, str, str, str], list[Observation]] = {}
    for o in found:
        if product is None or o.product == product:
            groups.setdefault((o.product, o.hop, o.kind, o.component), []).append(o)
    rows = []
    for (name, hop, kind, component), own in groups.items():
        model = model or model_of(found)
        pace: Pace = model.pace(name, hop, kind, component, own[-1].system)
        announced = _median([o.announced_s for o in own])
        rows.append(
            Learned(
                product=name,
                hop=hop,
                step=own[0].key.replace("_", " "),
                seen=len(own),
                announced_s=announced,
                took_s=_median([o.took_s for o in own]),
                cut=sum(o.cut for o in own),
                p50_s=max(0.0, taken(announced, pace.p50)),
                p90_s=max(0.0, taken(announced, pace.p90)),
            )
        )
    return sorted(rows, key=lambda r: (r.product, r.hop, -abs(r.took_s - r.announced_s)))


def _median(values: Sequence[float]) -> float:
    ordered = sorted(values)
    middle = len(ordered) // 2
    return ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2
