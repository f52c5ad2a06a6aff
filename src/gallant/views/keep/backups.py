"""Backups as people look at them: the newest first, what is wrong above what is well, secrets masked."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from gallant.core.after.differences import CHANGED, GONE, NEW, SAME, Difference, Pair
from gallant.core.estate.backups import Backup, BackupFate, Copy, Item
from gallant.views.ground.palette import TERMINAL
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import Grid, few, next_steps, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    WordMarks,
    ago,
    duration,
    many,
    mark,
    moment,
    on,
    plain,
    roughly,
    said,
    size,
)

if TYPE_CHECKING:
    from gallant.operations.keep.backups import BackupTaken
    from gallant.operations.keep.looking_into import BackupChecked, BackupShown, Compared
    from gallant.operations.keep.restoring import Restored

WHAT_MARKS = WordMarks({CHANGED: "work", NEW: "note", GONE: "bad", SAME: "good"})
WHAT_WORDS = {CHANGED: "changed", NEW: "only in the second", GONE: "only in the first", SAME: "the same"}
MOST_ROWS = 60  # of one item on a screen; --json has them all


class BackupRow(ListRow):
    """A backup, the newest first."""

    id: str
    system: str
    version: str
    taken: datetime
    by: str
    comment: str
    items: tuple[str, ...]
    bytes: int
    sealed: Annotated[datetime | None, Says("when its bytes were last read back whole")]
    opened: Annotated[datetime | None, Says("when it was last decrypted and unpacked")]
    encrypted: bool
    before: Annotated[str | None, Says("the release that was to be entered")]
    copies: tuple[Copy, ...]


class BackupCheckedRow(BackupRow):
    """A backup that was read back, and what is wrong with it."""

    problems: tuple[str, ...]
    opened_now: bool


class BackupShownRow(BackupRow):
    """A backup with all that its manifest says."""

    items: tuple[Item, ...]  # type: ignore[assignment]  # in full, in the same place of the row
    signature: Annotated[str | None, Says("what is wrong with it")]
    path: str
    recipients: tuple[str, ...]
    key: str | None
    blake3: str
    shares_with: Annotated[tuple[str, ...], Says("backups that point to the same archive")]


class DifferenceRow(ListRow):
    """An item of two backups, and how it differs."""

    item: str
    what: Annotated[str, Says("changed, new, gone, same")]
    before_bytes: int | None
    after_bytes: int | None
    rows: tuple[Pair, ...]

    @classmethod
    def of(cls, d: Difference) -> DifferenceRow:
        return cls(item=d.item, what=d.what, before_bytes=d.before_bytes, after_bytes=d.after_bytes, rows=d.rows)


class ExportedRow(ListRow):
    """An item of a backup, in clear in a folder."""

    path: str
    bytes: int
    sha256: str


class RestoredRow(ListRow):
    """A node that took a backup's items, and which of them it exports otherwise since."""

    node: str
    backup: str
    items: tuple[str, ...]
    unlike: tuple[DifferenceRow, ...]
    version: str
    before: Annotated[str | None, Says("the backup of what was there before")]


class BackupPrunedRow(ListRow):
    """A backup, and what becomes of it."""

    id: str
    system: str
    taken: datetime
    kept: Annotated[str | None, Says("the rule by which it stays")]
    gone: bool


TAKEN: Listed[BackupRow] = Listed("backup-take", "backup take", beside=("failed",))
BACKUPS: Listed[BackupRow] = Listed(
    "backup-list",
    "backup list",
    headings={"backup": "id", "age": "taken", "size": "bytes", "sealed ago": "sealed", "opened ago": "opened"},
)
SHOWN: Listed[BackupShownRow] = Listed("backup-show", "backup show", headings={"item": "id"})
CHECKED: Listed[BackupCheckedRow] = Listed("backup-verify", "backup verify")
COMPARED: Listed[DifferenceRow] = Listed("backup-diff", "backup diff", beside=("left", "right"))
EXPORTED: Listed[ExportedRow] = Listed("backup-export", "backup export", beside=("id",))
RESTORED: Listed[RestoredRow] = Listed("backup-restore", "backup restore")
PRUNED: Listed[BackupPrunedRow] = Listed(
    "backup-prune",
    "backup prune",
    headings={"backup": "id", "age": "taken", "what becomes of it": "kept"},
)


def _row(b: Backup) -> BackupRow:
    return BackupRow(**_of(b), items=_items(b))


def _items(b: Backup) -> tuple[str, ...]:
    return tuple(item.name for item in b.items)


def _of(b: Backup) -> dict[str, Any]:
    """What every row of a backup says."""
    return {
        "id": b.id,
        "system": b.system,
        "version": ", ".join(dict.fromkeys(b.versions.values())),
        "taken": b.taken,
        "by": b.by,
        "comment": b.comment,
        "bytes": b.bytes,
        "sealed": b.sealed,
        "opened": b.opened,
        "encrypted": b.encrypted,
        "before": b.before,
        "copies": b.copies,
    }


MOST_TAKEN, MOST_FAILED = 20, 3  # systems with lines of their own; of more, failures that have one


def taken_view(taken: Sequence[BackupTaken]) -> View:
    rows = [_row(t.backup) for t in taken if t.backup]

    def text() -> Drawn:
        whole = len(taken) <= MOST_TAKEN  # of more systems, what went well is a count
        failures = [f"{mark('bad')} {plain(t.error)}" for t in taken if t.error is not None]
        yield from failures if whole else few(failures, MOST_FAILED, "failure")
        if not whole:
            kept = [t.backup for t in taken if t.backup is not None]
            stored = size(sum(b.bytes for b in kept))
            yield f"{said('good', many(len(kept), 'backup'))}  sealed, {stored} stored; gallant backup list has them"
        for t in taken if whole else ():
            if t.backup is None:
                continue
            b = t.backup
            what = f"sealed, {size(b.bytes)} stored, of {', '.join(dict.fromkeys(b.versions.values()))}"
            yield f"{said('good', b.id)}  {what}, {_for_whom(b)}"
            yield f"  holds {plain(', '.join(f'{_item(b, i)} {size(i.bytes)}' for i in b.items))}"
            if t.same_as is not None:
                yield f"  nothing has changed since {t.same_as}: both point to one archive"
            for copy in b.copies:
                yield f"  {_copy(copy)}"
        yield from next_steps(*(t.next for t in taken))

    failed = [{"system": t.system, "error": t.error, "next": t.next} for t in taken if t.error is not None]
    return TAKEN.view(rows, text, {"failed": failed})


def _item(backup: Backup, item: Item) -> str:
    """An item's name, with its node where several were exported."""
    return item.path if len({i.node for i in backup.items}) > 1 else item.name


def _for_whom(backup: Backup) -> str:
    if not backup.encrypted:
        return said("work", "not encrypted")
    return f"encrypted for {many(len(backup.recipients), 'recipient')}"


def _copy(copy: Copy) -> str:
    if copy.problem is not None:
        return said("bad", f"no copy at {copy.place}: {copy.problem}")
    return said("good", f"copy at {copy.place}, sealed")


def list_view(backups: Sequence[Backup], now: datetime) -> View:
    def text() -> Drawn:
        shown = table(
            "backup", "age", "version", "size", "sealed ago", "opened ago", "copies", "by", "comment",
            optional=("by", "opened ago"), right=("size",),
        )  # fmt: skip
        for b in backups:
            shown.add_row(
                f"{BOLD}{b.id}{OFF}" + ("" if b.encrypted else f"\n{said('work', 'not encrypted')}"),
                _since(b.taken, now),
                ", ".join(dict.fromkeys(b.versions.values())),
                size(b.bytes),
                said("good", _since(b.sealed, now)) if b.sealed else said("bad", "not sealed"),
                _since(b.opened, now) if b.opened else "never",
                _copies(b),
                plain(b.by),
                plain(b.comment),
            )
        yield shown
        if not backups:
            yield from next_steps("gallant backup take")
        elif all(b.opened is None for b in backups):
            yield f"{mark('work')} None of them was ever opened; only then is it known that they can be."
            yield from next_steps("gallant backup verify --all")

    return BACKUPS.view(list(map(_row, backups)), text)


def _since(then: datetime, now: datetime) -> str:
    return roughly((now - then).total_seconds())


def _copies(backup: Backup) -> str:
    bad = [c for c in backup.copies if c.problem is not None]
    if bad:
        return said("bad", f"{len(bad)} of {len(backup.copies)} missing")
    return said("good", str(len(backup.copies))) if backup.copies else "–"


def show_view(shown: BackupShown, now: datetime) -> View:
    b: Backup = shown.backup

    def text() -> Drawn:
        yield f"{BOLD}{b.id}{OFF}  {plain(b.system)}, {plain(b.product)}"
        if shown.signature:
            yield f"{mark('bad')} {plain(shown.signature)}"
        yield f"  taken    {moment(b.taken)} ({ago(b.taken, now)}) by {plain(b.by)}, {plain(b.tool)}"
        if b.comment:
            yield f"  comment  {plain(b.comment)}"
        nodes = (f"{n} {v} (serial {b.serials.get(n, 'unknown')})" for n, v in b.versions.items())
        yield f"  runs     {plain(', '.join(nodes))}"
        yield f"  sealed   {ago(b.sealed, now)}, opened {ago(b.opened, now)}"
        yield f"  archive  {plain(shown.path)}, {size(b.bytes)}"
        yield f"           blake3:{b.blake3}"
        if shown.shares_with:
            yield f"           shared with {', '.join(shown.shares_with)}: nothing had changed"
        yield f"  signed   by {b.key}" if b.key else f"  signed   {said('bad', 'no')}"
        for recipient in b.recipients:
            yield f"  opens    {plain(recipient)}"
        if not b.encrypted:
            yield f"  opens    {said('work', 'anyone who has the file: it is not encrypted')}"
        for copy in b.copies:
            yield f"  copy     {_copy(copy)}"
        yield ""
        items = table("item", "node", "size", "sha-256", right=("size",))
        for item in b.items:
            items.add_row(plain(item.name), plain(item.node), size(item.bytes), item.sha256)
        yield items
        yield from next_steps(f"gallant backup diff {b.id}", f"gallant backup export {b.id} FOLDER")

    row = BackupShownRow(
        **_of(b),
        items=b.items,
        signature=shown.signature,
        path=shown.path,
        recipients=b.recipients,
        key=b.key,
        blake3=b.blake3,
        shares_with=tuple(shown.shares_with),
    )
    return SHOWN.view([row], text)


def checked_view(checked: Sequence[BackupChecked]) -> View:
    def text() -> Drawn:
        for c in checked:
            good = not c.problems
            well = "sealed and opened: every item is as it was exported" if c.opened_now else "sealed; not opened"
            yield f"{said('good' if good else 'bad', c.backup.id)}  " + (well if good else plain("; ".join(c.problems)))
        closed = [c for c in checked if not c.problems and not c.opened_now]
        if closed:
            yield f"{mark('note')} {many(len(closed), 'backup')} can be opened only with an identity: --identity FILE"
        yield from next_steps(*(f"gallant backup take {c.backup.system}" for c in checked if c.problems))

    rows = [
        BackupCheckedRow(**_of(c.backup), items=_items(c.backup), problems=tuple(c.problems), opened_now=c.opened_now)
        for c in checked
    ]
    return CHECKED.view(rows, text)


def diff_view(found: Compared, now: datetime, everything: bool) -> View:
    left, right = found.left, found.right
    items: tuple[Difference, ...] = found.items

    def text() -> Drawn:
        other = right.id if right is not None else "now"
        yield f"{BOLD}{left.id}{OFF} ({ago(left.taken, now)})  against  {BOLD}{other}{OFF}" + (
            f" ({ago(right.taken, now)})" if right is not None else f": {left.system} as it is"
        )
        differing = [d for d in items if d.what != SAME]
        for d in differing:
            yield ""
            yield f"{said(WHAT_MARKS[d.what], d.item)}  {WHAT_WORDS.get(d.what, d.what)}, {_sizes(d)}" + (
                "" if d.text or d.what != CHANGED else ", no text"
            )
            if d.rows:
                yield _rows(d.rows, other)
        yield ""
        same = [d.item for d in items if d.what == SAME]
        if everything:
            for name in same:
                yield f"{said('good', name)}  the same"
        yield (
            f"{mark('good' if not differing else 'work')} {many(len(differing), 'item')}"
            f" {'differs' if len(differing) == 1 else 'differ'}, {len(same)} the same."
        )
        if differing and right is None:
            yield from next_steps(f"gallant backup take {left.system}")
            if found.takes_back:
                several = len({item.node for item in left.items}) > 1
                whose = f" --node {differing[0].item.partition('/')[0]}" if several else ""
                yield from next_steps(f"gallant backup restore {left.id}{whose}")

    return COMPARED.view(
        list(map(DifferenceRow.of, items)), text, {"left": left.id, "right": right.id if right else None}
    )


def _sizes(d: Difference) -> str:
    return " → ".join(size(n) for n in (d.before_bytes, d.after_bytes) if n is not None)


def _rows(rows: Sequence[Pair], other: str) -> Grid:
    shown = table("", "before", " ", "after" if other != "now" else "now")
    last = 0
    for pair in rows[:MOST_ROWS]:
        if last and pair.at[0] > last + 1:
            shown.add_row(f"{DIM}…{OFF}", "", "", "")
        last = pair.at[0]
        style = TERMINAL["warn" if pair.differs else "muted"]
        sign = " " if not pair.differs else "+" if pair.left is None else "-" if pair.right is None else "≠"
        shown.add_row(
            f"{DIM}{pair.at[0]}{OFF}", _cell(pair.left, style), f"{on(style)}{sign}{OFF}", _cell(pair.right, style)
        )
    if len(rows) > MOST_ROWS:
        shown.add_row("…", f"{DIM}{len(rows) - MOST_ROWS} more rows; --json has them{OFF}", "", "")
    return shown


def _cell(text: str | None, style: str) -> str:
    return "" if text is None else f"{on(style)}{plain(text)}{OFF}"


def exported_view(backup: Backup, folder: Path) -> View:
    def text() -> Drawn:
        yield (
            f"{said('good', backup.id)}  is in {plain(folder)}: {many(len(backup.items), 'item')}, each as it was"
            " exported"
        )
        yield f"{mark('work')} It lies there in clear; take it away when you have what you need."

    rows = [ExportedRow(path=str(folder / i.path), bytes=i.bytes, sha256=i.sha256) for i in backup.items]
    return EXPORTED.view(rows, text, {"id": backup.id})


def restored_view(done: Restored) -> View:
    def text() -> Drawn:
        as_sent = [item for item in done.items if not any(_is_of(one.item, item) for one in done.unlike)]
        if as_sent:
            yield (
                f"{said('good', done.node)}  exports {plain(', '.join(as_sent))} as in {done.backup.id} again; it runs"
                f" {plain(done.version)}"
            )
        for one in done.unlike:
            yield (
                f"{said('bad', done.node)}  took {plain(one.item)} of {done.backup.id}, and exports it otherwise,"
                f" {_sizes(one)}"
            )
            if one.rows:
                yield _rows(one.rows, "now")
        if done.safety is not None:
            yield f"  What was there before is in {done.safety.id}."
        yield from next_steps(f"gallant check {done.backup.system}", f"gallant backup diff {done.backup.id}")

    row = RestoredRow(
        node=done.node,
        backup=done.backup.id,
        items=tuple(done.items),
        unlike=tuple(map(DifferenceRow.of, done.unlike)),
        version=done.version,
        before=done.safety.id if done.safety else None,
    )
    return RESTORED.view([row], text)


def _is_of(compared: str, item: str) -> bool:
    """A tar is compared member by member, each named after it."""
    return compared == item or compared.startswith(f"{item}:")


def pruned_view(planned: Sequence[BackupFate], now: datetime, dry: bool) -> View:
    going = [f for f in planned if f.kept is None]

    def text() -> Drawn:
        shown = table("backup", "age", "version", "size", "what becomes of it", right=("size",))
        for f in planned:
            b = f.backup
            fate = said("good", f"stays: {f.kept}") if f.kept else said("work", "would go" if dry else "gone")
            versions = ", ".join(dict.fromkeys(b.versions.values()))
            shown.add_row(
                f"{BOLD}{b.id}{OFF}", duration((now - b.taken).total_seconds()), versions, size(b.bytes), fate
            )
        yield shown
        if dry and going:
            yield from next_steps("gallant backup prune")
        elif not going:
            yield f"{mark('good')} Every backup is kept by a rule."

    rows = [
        BackupPrunedRow(
            id=f.backup.id, system=f.backup.system, taken=f.backup.taken, kept=f.kept, gone=not dry and not f.kept
        )
        for f in planned
    ]
    return PRUNED.view(rows, text)
