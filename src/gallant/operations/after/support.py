"""A bundle for a publisher's support desk: what a system is, how it stood around a failure, what the device said;
without any secret, and on request without names."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from gallant import __version__
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import System
from gallant.core.readings import Reading
from gallant.core.records import Record, clean
from gallant.core.work.plan import Plan
from gallant.disk import put_whole, why_not
from gallant.operations.after import history
from gallant.operations.after.anonymous import Nameless, names_of
from gallant.operations.checks import keeping
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.calls import calls_of

LIST = "CONTENTS.txt"
THEN = (1980, 1, 1, 0, 0, 0)  # the same bundle twice is the same file


class BundleItem(Record):
    """One file of a bundle, and what is in it, in a line."""

    name: str
    what: str
    bytes: int


class SupportBundle(Record):
    """A bundle that was written: its files, and where the table of the names that were replaced lies (None: none
    were)."""

    path: str
    items: tuple[BundleItem, ...]
    table: str | None = None
    replaced: int = 0


async def support(place: Workplace, name: str, into: Path, anonymous: bool) -> SupportBundle:
    """Write a bundle about a roll or a system. Raises `WrongUse` for what is neither."""
    if name in place.estate.systems:
        systems = [place.estate.systems[name]]
        files = list(_of_system(place, systems))
    else:
        row = place.journal.roll(name)
        systems = [place.estate.systems[n] for n in row.plan.systems if n in place.estate.systems]
        files = [*_of_roll(place, name), *_of_system(place, systems)]
        if systems and not any(place.has_to_ask(system, "read") for system in systems):
            files += [await _calls(place, row.plan)]
    if not any(place.has_to_ask(system, "read") for system in systems):
        files += [await _asked(place, systems)]
    names = names_of(place) if anonymous else {}
    without = Nameless(names)
    table = into.with_suffix(".names.txt")
    if anonymous and table.resolve() == into.resolve():
        raise WrongUse(f"{into} cannot be called that.", next="gallant support NAME --to bundle.zip")
    shown = [(without.text(path), without.text(what), _written(without, said)) for path, what, said in files]
    items = tuple(BundleItem(name=path, what=what, bytes=len(text.encode())) for path, what, text in shown)
    contents = _contents(place, items, anonymous)
    try:
        put_whole(into, _zipped([(LIST, contents), *((path, text) for path, _, text in shown)]))
        if anonymous:
            put_whole(table, "".join(f"{new}\t{old}\n" for old, new in names.items()).encode())
    except OSError as error:
        raise GallantError(f"{into} cannot be written: {why_not(error, into)}.") from None
    return SupportBundle(path=str(into), items=items, table=str(table) if anonymous else None, replaced=len(names))


File = tuple[str, str, object]  # its name, what is in it, and that: a text, or records that are written as JSON


def _written(without: Nameless, said: object) -> str:
    return without.text(said) if isinstance(said, str) else _json(without.value(said))


def _of_roll(place: Workplace, name: str) -> Iterator[File]:
    run, steps = history.one(place, name)
    row = place.journal.roll(name)
    yield "roll.json", f"the roll {name}: how it stands, its outages", run
    yield "steps.json", "its steps, as they were carried out", steps
    yield "plan.json", "the plan that it carries out", row.plan
    yield "journal.json", "its journal, entry by entry, with the device's words", place.journal.events(name)
    for which in (keeping.BEFORE, keeping.AFTER):
        try:
            kept = keeping.kept(place, f"{name}.{which}")
        except GallantError:
            continue
        yield f"{which}.json", f"what was read {which} it", kept.picture.readings


async def _calls(place: Workplace, plan: Plan) -> File:
    """No node is contacted for it."""
    return (
        "calls.json",
        "every call of the plan, as it is sent to a node, without secrets",
        await calls_of(place, plan),
    )


async def _asked(place: Workplace, systems: Sequence[System]) -> File:
    async with place.drivers(systems) as drivers:
        asked = {name: driver.asks() for name, driver in drivers.items()}
    return "reads.json", "the calls by which its nodes are read", asked


def _of_system(place: Workplace, systems: Sequence[System]) -> Iterator[File]:
    readings = last_readings(place, [s.name for s in systems])[0] if systems else {}
    yield "readings.json", "the newest readings of its nodes: versions, conditions, numbers", readings
    yield "messages.txt", "what the nodes themselves say: alarms, jobs, oddities", "\n".join(_messages(readings)) + "\n"
    for system in systems:
        found = place.readings.findings_before(system.name, place.clock.now())
        if found is not None:
            yield (
                f"checks-{system.name}.json",
                f"the last checks of {system.name}, on {found[0]:%Y-%m-%d %H:%M} UTC",
                found[1],
            )


def _messages(readings: Mapping[str, Reading]) -> Iterator[str]:
    for name, reading in readings.items():
        yield from (f"{name} alarm {alarm.level}: {clean(alarm.text, 400)}" for alarm in reading.alarms)
        yield from (
            f"{name} job {j.id} {j.kind} {j.state} {j.percent:g} %: {clean(j.message, 400)}" for j in reading.jobs
        )
        yield from (f"{name} {clean(oddity, 400)}" for oddity in reading.oddities)


def _contents(place: Workplace, items: Iterable[BundleItem], anonymous: bool) -> str:
    rows = "\n".join(f"{item.name:<28} {item.bytes:>10}  {item.what}" for item in items)
    replaced = "Names, addresses and serials are replaced; whoever sent it has the table." if anonymous else ""
    return f"Made by gallant {__version__}. No password, key or token is in it.\n{replaced}\n\n{rows}\n"


def _json(value: object) -> str:
    return msgspec.json.format(msgspec.json.encode(value), indent=1).decode() + "\n"


def _zipped(files: Iterable[tuple[str, str]]) -> bytes:
    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as bundle:
        for name, text in files:
            bundle.writestr(zipfile.ZipInfo(name, THEN), text, zipfile.ZIP_DEFLATED)
    return raw.getvalue()
