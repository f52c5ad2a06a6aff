"""What a survey found: a row a node, those that failed below with what to do."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from gallant.views.output import View
from gallant.views.tables import next_steps, state_word, sync_word, table
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


def survey_view(result: Any, now: datetime) -> View:
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

    def text() -> Any:
        shown = table(
            "node",
            "answer",
            "version",
            "role",
            "state",
            "sync",
            "serial",
            "took",
            right=("took",),
            optional=("serial", "took"),
        )
        for n in result.nodes:
            name = f"{n.system}/{n.node}"
            if n.reading is None:
                shown.add_row(f"{BOLD}{name}{OFF}", said("bad", "no reading"), "", "", "", "", "", f"{n.took_s:.2f} s")
                continue
            r = n.reading
            waits = (
                f"{r.version} {YELLOW}▲ next {plain(r.next_version)}{OFF}"
                if r.next_version not in (None, r.version)
                else plain(r.version)
            )
            shown.add_row(
                f"{BOLD}{name}{OFF}",
                said("good", "read"),
                waits,
                r.role,
                state_word(r.state),
                sync_word(r),
                plain(r.serial),
                f"{n.took_s:.2f} s",
            )
        yield shown
        for n in failed:
            yield f"{mark('bad')} {plain(n.error)} {DIM}(last read: {ago(n.last, now)}){OFF}"
        good = len(result.nodes) - len(failed)
        yield (
            f"{many(good, 'node')} read" + (f", {LOUD}{many(len(failed), 'node')} failed{OFF}" if failed else "") + "."
        )
        yield from next_steps(*(n.next for n in failed)) or next_steps("gallant gaps")

    return View("survey", rows, text)
