"""What a survey found: a row a node, those that failed below with what to do."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from gallant.views.output import Drawn, View
from gallant.views.tables import Grid, next_steps, state_word, sync_word, table
from gallant.views.words import (
    BOLD,
    DIM,
    LOUD,
    OFF,
    YELLOW,
    ago,
    many,
    mark,
    plain,
    said,
)

if TYPE_CHECKING:
    from gallant.operations.survey import Survey, Surveyed


def survey_view(result: Survey, now: datetime) -> View:
    rows = [
        {
            "system": n.system,
            "node": n.node,
            "ok": n.reading is not None,
            "version": n.reading.version if n.reading else None,
            "role": n.reading.role if n.reading else None,
            "state": n.reading.state if n.reading else None,
            "last_read": n.last,
            "error": n.error,
            "next": n.next,
        }
        for n in result.nodes
    ]
    failed = [n for n in result.nodes if n.reading is None]

    def text() -> Drawn:
        yield _answers(result.nodes)
        for n in failed:
            yield f"{mark('bad')} {plain(n.error)} {DIM}(last read: {ago(n.last, now)}){OFF}"
        told = f", {LOUD}{many(len(failed), 'node')} failed{OFF}" if failed else ""
        yield f"{many(len(result.nodes) - len(failed), 'node')} read{told}."
        yield from next_steps(*(n.next for n in failed)) or next_steps("gallant gaps")

    return View("survey", rows, text)


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
