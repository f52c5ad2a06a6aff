"""The stock as people look at it: what failed, is wrong or was recalled first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import few, next_steps, table
from gallant.views.ground.words import BOLD, DIM, OFF, many, mark, plain, said, size

if TYPE_CHECKING:
    from gallant.operations.keep.preloading import Preloaded
    from gallant.operations.keep.stock import InStock, PackageCarriedIn, PackageFetched, Pruned


class PrunedRow(ListRow):
    """A package, and what becomes of it."""

    package: str
    bytes: int
    sha256: str
    kept: Annotated[str | None, Says("why it stays")]
    gone: bool

    @classmethod
    def of(cls, r: Pruned, dry: bool) -> PrunedRow:
        return cls(package=r.package, bytes=r.bytes, sha256=r.sha256, kept=r.kept, gone=not dry and r.kept is None)


FETCHED: Listed[PackageFetched] = Listed(
    "stock-fetch", "stock fetch", headings={"for": "why", "size": "bytes", "sha-256": "sha256"}
)
STOCK: Listed[InStock] = Listed(
    "stock-list",
    "stock list, stock verify",
    headings={"size": "bytes", "bytes on the disk": "ok", "needed by": "needed", "sha-256": "sha256"},
)
CARRIED: Listed[PackageCarriedIn] = Listed("stock-add", "stock add")
PRELOADED: Listed[Preloaded] = Listed(
    "stock-preload", "stock preload, stock unload", headings={"size": "bytes", "verified by": "by"}
)
PRUNED: Listed[PrunedRow] = Listed(
    "stock-prune",
    "stock prune",
    headings={"size": "bytes", "what becomes of it": "kept", "sha-256": "sha256"},
)


STATES = {
    "fetched": ("good", "fetched, verified"),
    "present": ("good", "was here, verified"),
    "failed": ("bad", "failed"),
}
ON_NODES = {
    "preloaded": ("good", "preloaded"),
    "sent": ("note", "sent; the node lists no packages"),
    "present": ("good", "was there"),
    "unloaded": ("good", "taken off"),
    "failed": ("bad", "failed"),
}


MOST_ROWS, MOST_FAILED = 30, 3  # packages with a line each; of more, failures that have one


def _speed(count: int, seconds: float) -> str:
    return f"{size(count / seconds)}/s" if seconds > 0 else ""


def fetched_view(rows: Sequence[PackageFetched], following: Sequence[str]) -> View:
    """What was fetched, of the selected systems or for a plan, and what comes next."""

    def text() -> Drawn:
        shown = table(
            "package", "for", "size", "state", "speed", "sha-256", optional=("sha-256",), right=("size", "speed")
        )
        many_rows = len(rows) > MOST_ROWS  # what went well is a count then
        for r in [r for r in rows if r.error][:MOST_FAILED] if many_rows else rows:
            speed = _speed(r.bytes, r.seconds) if r.state == "fetched" else ""
            shown.add_row(
                f"{BOLD}{plain(r.package)}{OFF}",
                r.why,
                size(r.bytes),
                said(*STATES.get(r.state, ("note", r.state))),
                speed,
                f"{r.sha256[:12]}…",
            )
        if not many_rows or any(r.error for r in rows):
            yield shown
        failures = [f"{mark('bad')} {plain(r.error)}" for r in rows if r.error]
        yield from few(failures, MOST_FAILED, "failure") if many_rows else failures
        if many_rows:
            states = Counter(STATES.get(r.state, ("note", r.state))[1] for r in rows)
            yield f"{many(len(rows), 'package')}: {', '.join(f'{count} {state}' for state, count in states.items())}."
        fetched = [r for r in rows if r.state == "fetched"]
        if fetched:
            longest = max(r.seconds for r in fetched)
            yield f"{many(len(fetched), 'package')}, {size(sum(r.bytes for r in fetched))} in {longest:.1f} s."
        if not rows:
            yield "Nothing is wanted: no route, and no installer for what runs."
        yield from next_steps(*(r.next for r in rows))
        if rows and not any(r.error for r in rows):
            yield from next_steps(*following)

    return FETCHED.view(rows, text)


def held_view(rows: Sequence[InStock]) -> View:
    def text() -> Drawn:
        shown = table(
            "package",
            "release",
            "size",
            "bytes on the disk",
            "needed by",
            "sha-256",
            right=("size",),
            optional=("sha-256",),
        )
        for r in rows:
            state = said("good", "as in the catalog") if r.release else said("good", "as it was added")
            if not r.ok:
                state = said("bad", "not what its name says")
            elif r.recalled:
                state = said("bad", "recalled since")
            shown.add_row(
                f"{BOLD}{plain(r.package)}{OFF}",
                plain(r.release)
                if r.release
                else said("work", f"vouched for by {r.vouched}" if r.vouched else "in no catalog"),
                size(r.bytes),
                state,
                plain(", ".join(dict.fromkeys(r.needed))) or f"{DIM}nobody{OFF}",
                f"{r.sha256[:12]}…",
            )
        yield shown
        yield from (
            f"{mark('bad')} {plain(r.package)}: {plain(r.release)} was {plain(r.recalled)}" for r in rows if r.recalled
        )
        if not rows:
            yield from next_steps("gallant stock fetch")
        elif any(not r.ok for r in rows):
            yield from next_steps("gallant stock prune", "gallant stock fetch")
        elif any(not r.needed and not r.vouched for r in rows):
            yield from next_steps("gallant stock prune --dry-run")

    return STOCK.view(rows, text)


def added_view(rows: Sequence[PackageCarriedIn]) -> View:
    def text() -> Drawn:
        for r in rows:
            what = plain(r.release) if r.release else f"in no catalog; {plain(r.vouched)}"
            yield f"{said('good' if r.release else 'work', r.package)}  {size(r.bytes)}, {what}"
        yield from next_steps("gallant stock list")

    return CARRIED.view(rows, text)


def preloaded_view(rows: Sequence[Preloaded]) -> View:
    def text() -> Drawn:
        shown = table("node", "package", "size", "state", "verified by", "speed", right=("size", "speed"))
        for r in rows:
            speed = _speed(r.bytes, r.seconds) if r.state in ("preloaded", "sent") else ""
            state = said(*ON_NODES.get(r.state, ("note", r.state)))
            shown.add_row(
                f"{BOLD}{plain(r.node)}{OFF}", plain(r.package) or "–", size(r.bytes), state, r.by or "–", speed
            )
        if rows:
            yield shown
        else:
            yield "Nothing to do: no package is ahead of these systems, or lies on them."
        yield from (f"{mark('bad')} {plain(r.error)}" for r in rows if r.error)
        yield from next_steps(*(r.next for r in rows))
        done = list(
            dict.fromkeys(r.node.partition("/")[0] for r in rows if r.state in ("preloaded", "present", "sent"))
        )
        if done and not any(r.error for r in rows):
            yield from next_steps(f"gallant plan {' '.join(done)}")

    return PRELOADED.view(rows, text)


def pruned_view(rows: Sequence[Pruned], dry: bool) -> View:
    going = [r for r in rows if r.kept is None]

    def text() -> Drawn:
        shown = table("package", "size", "what becomes of it", "sha-256", right=("size",), optional=("sha-256",))
        for r in rows:
            fate = said("good", f"stays: {r.kept}") if r.kept else said("work", "would go" if dry else "gone")
            shown.add_row(f"{BOLD}{plain(r.package)}{OFF}", size(r.bytes), fate, f"{r.sha256[:12]}…")
        if rows:
            yield shown
        yield f"{many(len(going), 'package')}, {size(sum(r.bytes for r in going))}, {'would go' if dry else 'gone'}."
        if dry and going:
            yield from next_steps("gallant stock prune")

    return PRUNED.view([PrunedRow.of(r, dry) for r in rows], text)
