"""What a survey found: a row a node, those that failed below with what to do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

from gallant.core.readings import HeldSurvey
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow, Says
from gallant.views.ground.tables import Grid, next_steps, state_word, sync_word, table
from gallant.views.ground.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    ago,
    duration,
    many,
    mark,
    moment,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.operations.ground.survey import Survey, Surveyed


class SurveyRow(ListRow):
    """A node, and whether it was read; failures first."""

    system: str
    node: str
    ok: bool
    version: str | None
    role: str | None
    state: str | None
    last_read: datetime | None
    error: str | None
    cause: Annotated[str, Says("the error in words that other nodes may share")]
    next: str | None
    in_sync: bool | None
    serial: str | None
    took_s: float

    @classmethod
    def of(cls, n: Surveyed) -> SurveyRow:
        r = n.reading
        return cls(
            system=n.system,
            node=n.node,
            ok=r is not None,
            version=r.version if r else None,
            role=r.role if r else None,
            state=r.state if r else None,
            last_read=n.last,
            error=n.error,
            cause=n.cause,
            next=n.next,
            in_sync=r.in_sync if r else None,
            serial=r.serial if r else None,
            took_s=n.took_s,
        )


SURVEY: Listed[SurveyRow] = Listed(
    "survey", "survey", beside=("sighted",), headings={"answer": "ok", "sync": "in_sync", "took": "took_s"}
)
SURVEYS: Listed[HeldSurvey] = Listed("surveys", "survey --list", headings={"survey": "number"})


def survey_view(result: Survey, now: datetime) -> View:
    rows = list(map(SurveyRow.of, result.nodes))
    failed = [n for n in result.nodes if n.reading is None]

    def text() -> Drawn:
        if len(result.nodes) <= MOST_ROWS:
            yield _answers(result.nodes)
        else:
            yield _by_site(result.nodes)
        groups = _alike(failed)
        for (site, cause), nodes in groups.items():
            yield from _failures(site, cause, nodes, now)
        told = f", {LOUD}{many(len(failed), 'node')} failed{OFF}" if failed else ""
        yield f"{many(len(result.nodes) - len(failed), 'node')} read{told}."
        if result.sighted:
            yield (
                f"{mark('work')} {_named(result.sighted)} {'is' if len(result.sighted) == 1 else 'are'} held to the"
                f" serial of the first sight; nobody has confirmed {'it' if len(result.sighted) == 1 else 'them'}."
            )
            yield from next_steps("gallant survey --learn-keys")
        yield from next_steps(*_after(groups)) or next_steps("gallant gaps")

    return SURVEY.view(rows, text, {"sighted": result.sighted})


def surveys_view(held: Sequence[HeldSurvey]) -> View:
    def text() -> Drawn:
        if not held:
            yield said("note", "no survey was held yet")
            yield from next_steps("gallant survey")
            return
        shown = table("survey", "began", "took", "whole", right=("survey", "took"))
        for one in held:
            took = duration((one.ended - one.began).total_seconds()) if one.ended is not None else "–"
            whole = said("good", "every node was asked") if one.whole else said("work", "cut off")
            shown.add_row(f"{BOLD}{one.number}{OFF}", moment(one.began), took, whole)
        yield shown
        yield from next_steps(f"gallant inventory --at {held[0].number}")

    return SURVEYS.view(list(held), text)


MOST_ROWS = 60  # nodes with a line each; of more, each site has one
MOST_NAMES = 6
ALONE = 2  # failures of one cause that still have a line each
Failures = dict[tuple[str, str], list["Surveyed"]]


def _alike(failed: Sequence[Surveyed]) -> Failures:
    """The failures by site and cause, the most first; what has no cause that others could share stands by itself."""
    groups: Failures = {}
    for n in failed:
        groups.setdefault((n.site, n.cause or f"{n.system}/{n.node}"), []).append(n)
    return dict(sorted(groups.items(), key=lambda one: -len(one[1])))


def _named(names: Sequence[str]) -> str:
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return f"{BOLD}{plain(', '.join(names[:MOST_NAMES]))}{OFF}{more}"


def _failures(site: str, cause: str, nodes: Sequence[Surveyed], now: datetime) -> Iterator[str]:
    if len(nodes) <= ALONE:
        for n in nodes:
            yield f"{mark('bad')} {plain(n.error)} {DIM}(last read: {ago(n.last, now)}){OFF}"
        return
    names = ", ".join(f"{n.system}/{n.node}" for n in nodes[:MOST_NAMES])
    more = f" and {len(nodes) - MOST_NAMES} more" if len(nodes) > MOST_NAMES else ""
    yield f"{mark('bad')} {BOLD}{len(nodes)} nodes of {plain(site)}: {plain(cause)}{OFF}  {plain(names)}{more}"


def _after(groups: Failures) -> Iterator[str | None]:
    """What to do about each cause once; those that share one are read again together."""
    for nodes in groups.values():
        if len(nodes) <= ALONE:
            yield from (n.next for n in nodes)
    if any(len(nodes) > ALONE for nodes in groups.values()):
        yield "Mend what they have in common, then: gallant survey --failed"


def _by_site(nodes: Sequence[Surveyed]) -> Grid:
    shown = table("site", "nodes", "read", "failed", "slowest", right=("nodes", "read", "failed", "slowest"))
    sites: dict[str, list[Surveyed]] = {}
    for n in nodes:
        sites.setdefault(n.site, []).append(n)
    worst = sorted(sites.items(), key=lambda one: (-sum(n.reading is None for n in one[1]), one[0]))
    for site, own in worst:
        failed = sum(n.reading is None for n in own)
        told = f"{LOUD}{failed}{OFF}" if failed else "0"
        slowest = max(n.took_s for n in own)
        shown.add_row(f"{BOLD}{plain(site)}{OFF}", str(len(own)), str(len(own) - failed), told, f"{slowest:.2f} s")
    return shown


COLUMNS = ("node", "answer", "version", "role", "state", "sync", "serial", "took")


def _answers(nodes: Sequence[Surveyed]) -> Grid:
    shown = table(*COLUMNS, right=("took",), optional=("serial", "took"))
    for n in nodes:
        name, r, took = f"{BOLD}{n.system}/{n.node}{OFF}", n.reading, f"{n.took_s:.2f} s"
        if r is None:
            shown.add_row(name, said("bad", "no reading"), "", "", "", "", "", took)
            continue
        waits = f" {YELLOW}▲ next {plain(r.next_version)}{OFF}" if r.next_version not in (None, r.version) else ""
        version = plain(r.version) + waits
        shown.add_row(
            name, said("good", "read"), version, r.role, state_word(r.state), sync_word(r), plain(r.serial), took
        )
    return shown
