"""Notices and the ledger: where each decision stands, who made it, and whether nothing of it was touched."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.core.decide.ledger import PLAN, Kept, LedgerEntry
from gallant.core.decide.listing import Notices
from gallant.core.decide.notices import Notice
from gallant.core.records import fields_of
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow
from gallant.views.ground.tables import Grid, barred_lines, few, next_steps, table
from gallant.views.ground.words import BOLD, DIM, LOUD, OFF, WordMarks, ago, many, mark, moment, plain, said

if TYPE_CHECKING:
    from gallant.operations.decide.ledger import ChainVerified, LedgerLook
    from gallant.operations.decide.notices import Chosen, Decided, NoticesListed

STATE_MARKS = WordMarks(
    {
        "new": "work",
        "accepted": "note",
        "booked": "note",
        "overdue": "bad",
        "under way": "going",
        "skipped": "quiet",
        "acts by itself": "note",
        "left alone": "quiet",
        "blocked": "bad",
        "done": "good",
    }
)


MOST_BY_NAME = 60  # notices; beyond, those that say the same are one row
MOST_ALIKE, MOST_SAID = 24, 5  # rows of a fleet, and lines below them: one screen of 40


class EntryRow(LedgerEntry):
    """An entry of the ledger in its place, and the hash of it and of all before it; the newest first."""

    seq: int
    hash: str


class ExportRow(ListRow):
    """The ledger in a file."""

    file: str
    entries: int


NOTICES: Listed[Notice] = Listed(
    "notice-list",
    "notice list",
    beside=("settled", "uncatalogued", "unread", "barred"),
    headings={"notice": "name", "when": "start", "of": "name"},
)
DECIDED: Listed[Notice] = Listed(
    "notice",
    "notice accept, notice book, notice assign, notice skip, notice reopen",
    beside=("did", "entry", "doubts", "entries"),
)
CHOSEN: Listed[Notice] = Listed("notices-chosen", "notice accept")
LEDGER: Listed[EntryRow] = Listed(
    "ledger",
    "ledger",
    beside=("whole", "problems", "untold"),
    headings={"entry": "seq", "when": "at", "who": "by", "did": "kind", "about": "subject", "for": "target"},
)
EXPORTED: Listed[ExportRow] = Listed("ledger-export", "ledger export")
VERIFIED: Listed[ChainVerified] = Listed("ledger-verify", "ledger verify")


def notices_view(result: NoticesListed, now: datetime, whole: bool = False) -> View:
    """`whole`: every row, where somebody asked for an order or a number of them."""
    more = {
        "settled": result.settled,
        "uncatalogued": result.uncatalogued,
        "unread": result.unread,
        "barred": result.barred,
    }
    return NOTICES.view(result.notices, lambda: _notices_text(result, now, whole), more)


def _notices_text(result: NoticesListed, now: datetime, whole: bool) -> Drawn:
    rows: Sequence[Notice] = result.notices
    if isinstance(rows, Notices) and len(rows) > MOST_BY_NAME and not (whole or result.named):
        yield from _fleet(rows, now)
    elif rows:
        yield _notice_table(rows, now)
        yield from (line for n in rows for line in _said_of(n))
    elif not result.uncatalogued and not result.unread:
        yield said("good", "No notice waits for a decision.")
    else:
        yield said("work", "No notice is known; not all of it was looked at.")
    yield from _not_looked_at(result)
    if result.settled:
        yield f"{mark('quiet')} {many(result.settled, 'notice')} skipped or left alone; --all shows them."
    yield from barred_lines(result.barred)
    barred = {one.system for one in result.barred}
    first = next((n for n in rows if n.state == "new" and n.system not in barred), None)
    yield from next_steps(
        *((f"gallant notice accept {first.name}", f"gallant notice book {first.name} TIME") if first else ()),
        *(one.next for one in result.barred),
    )


def _fleet(rows: Notices, now: datetime) -> Drawn:
    """Notices that say the same in one row, as many rows as a screen holds."""
    groups = rows.alike()
    shown = table(
        "notices",
        "product",
        "of",
        *COLUMNS[1:],
        right=("notices",),
        optional=("since", "restart", "when", "person", "product"),
    )
    for notice, names in groups[:MOST_ALIKE]:
        whose = f"{BOLD}{plain(names[0])}{OFF}{f' and {len(names) - 1} more' if len(names) > 1 else ''}"
        shown.add_row(str(len(names)), plain(notice.product), whose, *_notice_cells(notice, now))
    yield shown
    if len(groups) > MOST_ALIKE:
        left = sum(len(names) for _, names in groups[MOST_ALIKE:])
        yield (
            f"{mark('note')} {many(len(groups) - MOST_ALIKE, 'more row')} of {many(left, 'notice')}; name a system,"
            " or narrow it: gallant notice list severity:high+; --json has every one"
        )
    yield from few([line for one in groups[:MOST_ALIKE] for line in _said_of(one.notice)], MOST_SAID, "line")


def _said_of(n: Notice) -> Iterator[str]:
    """What is to be said of a notice that the table does not say."""
    who = f" {DIM}({plain(n.by)}){OFF}" if n.by else ""
    if n.why and n.why != n.lag:
        yield f"{mark(STATE_MARKS[n.state])} {BOLD}{n.name}{OFF} {n.state}: {plain(n.why)}{who}"
    for version in n.terms:
        yield f"{BOLD}{n.name}{OFF} {DIM}comes under the publisher's terms {plain(version)}{OFF}"


def _not_looked_at(result: NoticesListed) -> Drawn:
    """What no notice can be of: systems of which no catalog says anything, and nodes of which nothing is known."""
    if result.uncatalogued:
        one = len(result.uncatalogued) == 1
        yield (
            f"{mark('work')} No catalog here lists the image of {_a_few(result.uncatalogued)}: whether"
            f" {'it is' if one else 'they are'} behind is not known."
        )
        yield from next_steps("gallant catalog list", "gallant catalog add NAME SOURCE --key FILE")
    if result.unread:
        yield f"{mark('work')} {_a_few(result.unread)} {'was' if len(result.unread) == 1 else 'were'} never read."
        yield from next_steps("gallant survey")


def _a_few(names: Sequence[str], most: int = 6) -> str:
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return f"{plain(', '.join(names[:most]))}{more}"


COLUMNS = ("notice", "installed", "target", "severity", "restart", "state", "when", "person", "since")


def _notice_table(rows: Sequence[Notice], now: datetime) -> Grid:
    shown = table(*COLUMNS, optional=("restart", "since"))
    for n in rows:
        shown.add_row(f"{BOLD}{n.name}{OFF}", *_notice_cells(n, now))
    return shown


def _notice_cells(n: Notice, now: datetime) -> list[str]:
    severity = f"{n.severity}{' ⚑' if n.security else ''}" if n.severity else "–"
    return [
        plain(", ".join(n.installed)),
        plain(n.target or "–"),
        f"{LOUD}{severity}{OFF}" if n.severity in ("critical", "high") else severity,
        n.restart or "–",
        said(STATE_MARKS[n.state], n.state),
        _span(n),
        plain(n.person or "–"),
        ago(n.since, now).removesuffix(" ago"),
    ]


def _span(notice: Notice) -> str:
    """When it begins and ends, the day once where it is one."""
    if notice.start is None:
        return "–"
    if notice.end is None:
        return _minute(notice.start)
    same = notice.start.date() == notice.end.date()
    return f"{notice.start:%Y-%m-%d %H:%M}–{notice.end:{'%H:%M' if same else '%Y-%m-%d %H:%M'}}Z"


def _minute(then: datetime | None) -> str:
    return "–" if then is None else f"{then:%Y-%m-%d %H:%M}Z"


def decided_view(decided: Decided) -> View:
    n: Notice = decided.notice

    def text() -> Drawn:
        yield f"{said('good', n.name)}  {plain(decided.did)}  {DIM}entry {decided.entry} of the ledger{OFF}"
        if n.start is not None:
            yield f"  from {_minute(n.start)}" + (f" to {_minute(n.end)}" if n.end else "")
        for doubt in decided.doubts:
            yield f"{mark('bad')} It would be left undone: {plain(doubt)}"
        yield from next_steps(*decided.next)

    return DECIDED.view([n], text, {"did": decided.did, "entry": decided.entry, "doubts": list(decided.doubts)})


def chosen_view(chosen: Chosen, now: datetime) -> View:
    """What would be accepted, for a person who is asked."""

    def text() -> Drawn:
        yield _notice_table(chosen.notices, now)
        yield from _left_aside(chosen)

    return CHOSEN.view(chosen.notices, text)


def _left_aside(chosen: Chosen) -> Drawn:
    for n in chosen.blocked:
        yield (
            f"{mark('bad')} {BOLD}{n.name}{OFF} is not among them: it is blocked{f' ({plain(n.why)})' if n.why else ''}"
        )
    if chosen.settled:
        yield (
            f"{mark('quiet')} {many(chosen.settled, 'more notice')} {'is' if chosen.settled == 1 else 'are'} decided"
            " already."
        )


def accepted_view(done: Sequence[Decided], chosen: Chosen) -> View:
    def text() -> Drawn:
        for one in done:
            yield f"{said('good', one.notice.name)}  {plain(one.did)}  {DIM}entry {one.entry} of the ledger{OFF}"
        if not done:
            yield said("note", "Nothing was accepted.")
        yield from _left_aside(chosen)
        yield from next_steps(*(step for one in done for step in one.next))

    return DECIDED.view([one.notice for one in done], text, {"entries": [one.entry for one in done]})


def terms_text(version: str, text: str | None) -> str:
    """The publisher's terms, for a person who is asked to accept them."""
    return f"Terms of use {version}\n\n{text or 'The catalog carries no text of them; ask the publisher.'}\n"


LEDGER_COLUMNS = ("entry", "when", "who", "host", "did", "about", "for", "hash")


def _entries(kept: Sequence[Kept]) -> Grid:
    shown = table(*LEDGER_COLUMNS, right=("entry",), optional=("host", "hash"))
    for k in kept:
        e = k.entry
        until, start = f"until {e.until}" if e.until else None, _minute(e.start) if e.start else None
        target = f"{e.target[:12]}…" if e.kind == PLAN and e.target else e.target  # the digest of all of it
        more = ", ".join(one for one in (target, e.person, until, start) if one)
        shown.add_row(
            str(k.seq),
            moment(e.at),
            plain(e.who),
            plain(e.host),
            e.kind,
            plain(e.subject),
            plain(more or "–"),
            f"{k.hash[:12]}…",
        )
    return shown


def ledger_view(looked: LedgerLook) -> View:
    kept, problems = looked.kept, looked.problems

    def text() -> Drawn:
        if kept:
            yield _entries(kept)
            yield from (f"  {DIM}{k.seq}: {plain(k.entry.why)}{OFF}" for k in kept if k.entry.why)
        if (older := looked.entries - len(kept)) > 0 and kept:
            yield f"{mark('note')} The newest {len(kept)}; {many(older, 'older entry', 'older entries')} not shown: --all"
        yield from (said("bad", problem) for problem in problems)
        if not problems:
            newest = f"; the newest is {kept[0].hash[:16]}…" if kept else ""
            yield said("good", f"{_looked_at(looked)}{newest}")
        if not looked.whole:
            yield from next_steps("gallant ledger verify looks at the whole chain")
        for place, count in looked.untold.items():
            yield said(
                "work",
                f"{many(count, 'entry', 'entries')} could not be told to {place} yet; the next entry tries again",
            )

    rows = [EntryRow(seq=k.seq, **fields_of(k.entry, LedgerEntry), hash=k.hash) for k in kept]
    more = {"whole": not problems, "problems": problems, "untold": dict(looked.untold)}
    return LEDGER.view(rows, text, more)


def _looked_at(looked: LedgerLook) -> str:
    if looked.whole:
        return f"The chain of {many(looked.entries, 'entry', 'entries')} is whole"
    return f"The links of the newest {len(looked.kept)} of {many(looked.entries, 'entry', 'entries')} are whole"


def ledger_exported_view(count: int, file: str) -> View:
    def text() -> Drawn:
        yield said("good", f"{many(count, 'entry', 'entries')} with their hashes are in {file}")
        yield f"  Keep it where nobody who can write here can; then: gallant ledger verify --against {plain(file)}"

    return EXPORTED.view([ExportRow(file=file, entries=count)], text)


def ledger_verified_view(done: ChainVerified) -> View:
    def text() -> Drawn:
        yield from (said("bad", problem) for problem in done.problems)
        if done.broken is not None:
            yield f"  The first link that is not whole is entry {done.broken}; nothing after it proves anything."
        if not done.problems:
            beside = (
                f", and as {many(done.witnessed, 'entry', 'entries')} told to others"
                if done.witnessed is not None
                else ""
            )
            yield said("good", f"The chain of {many(done.entries, 'entry', 'entries')} is whole{beside}")
        if done.blind:
            yield (
                f"{mark('note')} Its end is held against the journal, and against what each account noted of its own;"
                " one that was cut off in all of them cannot be seen from here."
            )
            yield from next_steps("gallant ledger verify --against FILE, with what a collector was told, or an export")

    return VERIFIED.view([done], text)
