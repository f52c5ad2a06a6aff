"""Restore points as people look at them: the oldest is the loudest."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

from gallant.core.estate.snapshots import RestorePoint
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import Counts, ListRow, Says, Seconds
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, OFF, duration, many, mark, plain, said, size

if TYPE_CHECKING:
    from gallant.operations.keep.snapshots import Made, NodeBack, Reverted


class SnapshotRow(ListRow):
    """A snapshot; the oldest is the loudest."""

    system: str
    name: str
    taken: datetime
    age: Seconds
    bytes: Annotated[int | None, Counts("bytes")]
    keeper: Annotated[str, Says("the node that keeps it")]
    overdue: bool

    @classmethod
    def of(cls, k: RestorePoint) -> SnapshotRow:
        return cls(
            system=k.system,
            name=k.snapshot.name,
            taken=k.snapshot.taken,
            age=k.age.total_seconds(),
            bytes=k.snapshot.bytes,
            keeper=k.keeper,
            overdue=k.overdue,
        )


TAKEN: Listed[Made] = Listed("snapshot-take", "snapshot take")
SNAPSHOTS: Listed[SnapshotRow] = Listed(
    "snapshot-list",
    "snapshot list",
    beside=("failed",),
    headings={"snapshot": "name", "size": "bytes", "kept by": "keeper"},
)
REVERTED: Listed[SnapshotRow] = Listed("snapshot-revert", "snapshot revert", beside=("nodes",))
SNAPSHOT: Listed[SnapshotRow] = Listed("snapshot", "snapshot remove")


def made_view(rows: Sequence[Made]) -> View:
    def text() -> Drawn:
        for row in rows:
            if row.error is not None:
                yield f"{mark('bad')} {plain(row.error)}"
            else:
                yield f"{said('good', row.name)}  of {plain(row.system)} is there, kept by {plain(row.keeper)}"
        yield from next_steps(
            *(r.next for r in rows), *(f"gallant snapshot list {r.system}" for r in rows if not r.error)
        )

    return TAKEN.view(rows, text)


def list_view(kept: Sequence[RestorePoint], failed: Sequence[str], days: float) -> View:
    def text() -> Drawn:
        for what in failed:
            yield f"{mark('bad')} {plain(what)}"
        shown = table("system", "snapshot", "age", "size", "kept by", optional=("kept by",), right=("size",))
        for k in kept:
            age = duration(k.age.total_seconds())
            shown.add_row(
                f"{BOLD}{plain(k.system)}{OFF}",
                plain(k.snapshot.name),
                said("work", f"{age}, limit {days:g} d") if k.overdue else said("note", age),
                "–" if k.snapshot.bytes is None else size(k.snapshot.bytes),
                plain(k.keeper),
            )
        if kept:
            yield shown
            yield f"{many(len(kept), 'snapshot')}; each slows its system down while it exists."
            yield from next_steps(*(f"gallant snapshot remove {k.system} {k.snapshot.name}" for k in kept if k.overdue))
        elif not failed:
            yield f"{mark('good')} No snapshot is left over."

    return SNAPSHOTS.view(list(map(SnapshotRow.of, kept)), text, {"failed": list(failed)})


def reverted_view(done: Reverted) -> View:
    point = done.point

    def text() -> Drawn:
        wrong = [one for one in done.nodes if not one.is_back]
        if not wrong:
            known = all(one.ran is not None for one in done.nodes)
            rest = (
                "every node runs what it ran then" if known else "every node answers; what some ran then is not known"
            )
            yield f"{said('good', point.system)}  went back to {plain(point.snapshot.name)}; {rest}"
        else:
            yield (
                f"{said('bad', point.system)}  was told to go back to {plain(point.snapshot.name)}, and is not as it"
                " was then"
            )
        for one in wrong:
            yield f"  {BOLD}{plain(point.system)}/{plain(one.node)}{OFF} {plain(_not_back(one))}"
        yield from next_steps(f"gallant check {point.system}")

    return REVERTED.view([SnapshotRow.of(point)], text, {"nodes": list(done.nodes)})


def _not_back(one: NodeBack) -> str:
    if one.runs is None:
        return "does not answer"
    runs, ran = one.runs, one.ran or {}
    return "; ".join(f"{name} runs {runs.get(name, 'nothing')}, then it ran {ran[name]}" for name in one.others)


def done_view(kept: RestorePoint, did: str) -> View:
    def text() -> Drawn:
        yield f"{said('good', kept.system)}  {did} {plain(kept.snapshot.name)}"
        yield from next_steps(f"gallant check {kept.system}")

    return SNAPSHOT.view([SnapshotRow.of(kept)], text)
