"""What a device, a catalog or a file says is shown as it stands, whatever it says, and steers neither screen nor
table."""

from __future__ import annotations

import csv
import functools
import io
import re
from collections import Counter
from pathlib import Path

import msgspec
import pytest

from gallant.core.after.claims import Claim
from gallant.core.after.compare import NodeVerdict
from gallant.core.decide.ledger import Kept
from gallant.core.decide.waivers import Waiver
from gallant.core.estate.backups import Backup, BackupFate
from gallant.core.estate.snapshots import RestorePoint
from gallant.core.outages import Outage, Sample
from gallant.core.records import replace
from gallant.core.work import events as e
from gallant.core.work.events import Entry, Event
from gallant.core.work.plan import Hop, Lane, Plan, Step, Track, Wave
from gallant.operations.after import history, verify
from gallant.operations.assess import gaps, inventory, route
from gallant.operations.catalogs import following as catalogs
from gallant.operations.catalogs import here, syncing, testing, writing
from gallant.operations.checks import check, mending
from gallant.operations.decide import ledger as ledgers
from gallant.operations.decide import notices
from gallant.operations.ground import last as operation
from gallant.operations.ground import survey
from gallant.operations.keep import backups, looking_into, preloading, restoring, snapshots, stock
from gallant.operations.plan import calls
from gallant.operations.plan import making as plans
from gallant.operations.roll import carrying
from gallant.operations.setup import files, trial
from gallant.views.after import history as history_views
from gallant.views.after.verify import verify_view
from gallant.views.assess import gaps as assess
from gallant.views.assess import inventory as inventory_views
from gallant.views.assess import survey as survey_views
from gallant.views.assess.conflicts import conflicts_view
from gallant.views.assess.route import route_view
from gallant.views.catalogs import catalogs as catalog_views
from gallant.views.checks import checks as check_views
from gallant.views.decide import claims as claim_views
from gallant.views.decide import notices as notice_views
from gallant.views.ground import output
from gallant.views.ground.listing import sort_key
from gallant.views.ground.output import Output
from gallant.views.ground.parts import Listed
from gallant.views.keep import backups as backup_views
from gallant.views.keep import snapshots as snapshot_views
from gallant.views.keep import stock as stock_views
from gallant.views.plan import plans as plan_views
from gallant.views.roll import live as live_views
from gallant.views.roll import rolls as roll_views
from gallant.views.setup import files as file_views

from ..builders import NOW, filled

HOSTILE = {
    "closing": "[/x]",
    "closed": "[/]",
    "escaped": "\\[/x]",
    "twice": "\\\\[bold]",
    "backslash": "end\\",
    "style": "[bold red]loud[/bold red]",
    "link": "[link=https://evil.invalid]here[/link]",
    "emoji": ":warning:",
    "escape": "a\x1b[31mb",
    "title": "a\x1b]0;owned\x07b",
    "c1": "a\x9b31mb",
    "nul": "a\x00b",
    "bidi": "a\u202eb\u2066c",
    "newline": "a\nb",
    "ours": "a\x0ebold\x0fb",
    "formula": "=1+1",
    "half": "a\ud800b",
}
STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


class Rows(list):
    """Gaps as a view goes through them."""

    def rows(self, but=()):
        return ((s.gap.reading, s.gap.part, s.gap.verdict, s.change) for s in self if s.gap.verdict.standing not in but)


def plan_of(text: str) -> Plan:
    step = filled(Step, text, id=text, interrupts_s=2.0, disturbs=(text,))
    wave = (
        Wave(tracks=(Track(node=text, steps=(step,)),), why=text)
        if "why" in Wave.__struct_fields__
        else filled(Wave, text)
    )
    return filled(Plan, text, lanes=(filled(Lane, text, hops=(filled(Hop, text, waves=(wave,)),)),))


def run_of(text: str) -> history.Run:
    return filled(history.Run, text, state="stopped")


@functools.cache
def views_of(text: str):
    """Every view, over records in which every text is `text`."""

    def of(kind, **said):
        return filled(kind, text, **said)

    details = of(here.Details)
    plan = plan_of(text)
    assessment = of(
        gaps.Assessment,
        shown=Rows([gaps.GapShown(of(gaps.Gap), text, lambda *_: of(gaps.Decision))]),
        tallies={(text, text): Counter({"behind": 2, text: 1})},
    )
    compared = of(looking_into.Compared)
    return [
        assess.gaps_view(assessment, NOW, True),
        assess.gaps_view(assessment, NOW, False),
        conflicts_view([of(operation.ConflictRow)]),
        route_view(of(route.RouteAnswer)),
        backup_views.taken_view([of(backups.BackupTaken), of(backups.BackupTaken, error=None)]),
        backup_views.list_view([of(Backup)], NOW),
        backup_views.show_view(of(looking_into.BackupShown), NOW),
        backup_views.checked_view([of(looking_into.BackupChecked), of(looking_into.BackupChecked, problems=())]),
        backup_views.diff_view(compared, NOW, True),
        backup_views.exported_view(of(Backup), Path("x")),
        backup_views.restored_view(of(restoring.Restored)),
        backup_views.pruned_view([of(BackupFate), of(BackupFate, kept=None)], NOW, True),
        catalog_views.catalog_added_view(of(catalogs.SourceFollowed)),
        catalog_views.catalog_synced_view([of(syncing.Synced)]),
        catalog_views.catalog_tested_view([of(testing.SourceAsked)]),
        catalog_views.catalog_trusted_view(of(catalogs.KeyChanged)),
        catalog_views.catalog_written_view(of(writing.CatalogWritten, file="f")),
        catalog_views.catalog_list_view([of(here.CatalogListed)], NOW),
        catalog_views.catalog_show_view(replace(details, alone=True)),
        catalog_views.catalog_show_view(replace(details, alone=False)),
        check_views.health_view(of(check.Health), True, NOW),
        check_views.mended_view([of(mending.Mended)]),
        check_views.waived_view(of(Waiver)),
        inventory_views.tree_view([of(inventory.NodeKnown), of(inventory.NodeKnown, reading=None)], list, NOW, text),
        inventory_views.grouped_view([of(inventory.InventoryRow)], "product"),
        inventory_views.node_view(of(inventory.NodeKnown), [], NOW),
        inventory_views.changes_view([of(inventory.InventoryChange)], text, text),
        inventory_views.tried_view(of(trial.TrialResult), True),
        inventory_views.tried_view(of(trial.TrialResult, reading=None), True),
        notice_views.notices_view(of(notices.NoticesListed), NOW),
        notice_views.decided_view(of(notices.Decided)),
        notice_views.ledger_view(
            ledgers.LedgerLook(kept=(of(Kept),), problems=(text,), untold={text: 1}, entries=1, whole=True)
        ),
        notice_views.ledger_exported_view(1, text),
        notice_views.ledger_verified_view(of(ledgers.ChainVerified)),
        snapshot_views.made_view([of(snapshots.Made)]),
        snapshot_views.list_view([of(RestorePoint)], [text], 3),
        snapshot_views.done_view(of(RestorePoint), "is as it was at"),
        stock_views.fetched_view([of(stock.PackageFetched)], [of(stock.PackageFetched).error]),
        stock_views.held_view([of(stock.InStock)]),
        stock_views.added_view([of(stock.PackageCarriedIn)]),
        stock_views.preloaded_view([of(preloading.Preloaded)]),
        stock_views.pruned_view([of(stock.Pruned), of(stock.Pruned, kept=None)], True),
        survey_views.survey_view(
            of(survey.Survey, nodes=(of(survey.Surveyed), of(survey.Surveyed, reading=None))), NOW
        ),
        plan_views.plan_view(of(plans.Planned, plan=plan)),
        roll_views.rolled_view(of(carrying.RollEnded), run_of(text)),
        verify_view(of(verify.Verified, verdicts=(of(NodeVerdict, ok=False),))),
        history_views.history_view([run_of(text)]),
        history_views.roll_steps_view(run_of(text), [of(history.StepRow)], [of(Claim)]),
        claim_views.draft_view(text, [of(Claim)]),
        plan_views.calls_view(of(calls.PlanCalls)),
        history_views.journal_view(text, 3, [text]),
        file_views.validated_view([of(files.Validated)]),
    ]


def every_view() -> list[str]:
    return [f"{number}-{view.schema}" for number, view in enumerate(views_of("x"))]


def shown(view, capsys, form: str = ""):
    Output(as_json=form == "json", as_csv=form == "csv").show(view)
    return capsys.readouterr()


def literal(text: str) -> str:
    """What of a text is on the screen: all that a reader sees, on one line."""
    return STEERS.sub("", text)


@pytest.mark.parametrize("number", range(len(every_view())), ids=every_view())
@pytest.mark.parametrize("name", HOSTILE)
def test_every_view_shows_what_it_was_told_as_it_stands(name, number, capsys, monkeypatch):
    monkeypatch.setenv("COLUMNS", "4000")
    view = views_of(HOSTILE[name])[number]
    out, err = shown(view, capsys)
    assert "could not be drawn" not in err
    assert STEERS.search(out) is None, out
    if "qqq" in shown(views_of("qqq")[number], capsys).out:
        first = literal(HOSTILE[name]).splitlines()[0]
        assert first in out, out


@pytest.mark.parametrize("number", range(len(every_view())), ids=every_view())
def test_no_cell_of_csv_is_a_formula_and_nothing_in_it_steers(number, capsys):
    for text in ("=1+1", "+1", "-1", "@x", "\t=1", "\r=1", "a\x1b[31mb"):
        out, _ = shown(views_of(text)[number], capsys, "csv")
        assert STEERS.search(out) is None
        cells = [cell for row in csv.reader(io.StringIO(out)) for cell in row]
        assert not [c for c in cells if c.startswith(("=", "+", "@", "\t", "\r")) or c == "-1"]


def watching(show, text: str) -> None:
    """A roll, as its view is told of it, in which every text is `text`."""
    plan = plan_of(text)
    step = next(plan.steps())
    show.begin(text, plan, 240.0, [])

    def entry(kind: str, **said) -> None:
        show.event(Event(seq=1, entry=Entry(kind=kind, at=NOW, wall=0.0, **said)))

    entry(e.OPENED, by=text)
    entry(e.INTENT, step=step.id)
    show.progress(step.id, 30.0, text)
    show.unanswered(step.id, text)
    show.progress(step.id, 40.0, text)
    show.sample(Sample(service=text, at=NOW, real=0.0, ok=False, why=text))
    show.waiting(NOW, NOW, step.id)
    entry(e.OUTAGE, outage=filled(Outage, text))
    show.notice(text)
    entry(e.OUTCOME, step=step.id, result=text, message=text)
    show.close()


@pytest.mark.parametrize("name", HOSTILE)
def test_the_live_view_and_its_lines_go_on_whatever_a_device_says(name):
    screen, lines = io.StringIO(), io.StringIO()
    live = live_views.LiveShow(screen)
    watching(live, HOSTILE[name])
    drawn = output.console(io.StringIO())
    with drawn.capture() as captured:
        drawn.print(live._screen())
    assert "could not be drawn" not in captured.get()
    assert STEERS.search(captured.get()) is None
    told = live_views.LinesShow(lines, verbose=True)
    watching(told, HOSTILE[name])
    assert STEERS.search(lines.getvalue()) is None


def test_a_view_that_fails_says_so_and_takes_nothing_else_along(capsys):
    class Broken:
        def __rich_console__(self, console, options):
            raise ValueError("no")

    def text():
        yield "before"
        yield Broken()
        yield "between"
        raise KeyError("x")

    out, err = shown(Listed("x", "x").view([], text), capsys)
    assert out.split() == ["before", "between"]
    assert err.count("could not be drawn") == 2


def test_a_screen_that_cannot_be_drawn_keeps_what_was_there(monkeypatch):
    live = live_views.LiveShow(io.StringIO())
    watching(live, "first")
    good = live._screen()
    monkeypatch.setattr(live, "_lines", lambda: 1 / 0)
    kept = live._screen()
    assert [str(line) for line in kept.renderables[:-1]] == [str(line) for line in good.renderables]
    assert "could not be drawn" in str(kept.renderables[-1])


@pytest.mark.parametrize("text", ["²", "1²3", "٣", "a٣", "9" * 5000, "1 " * 5000 + "x", "5 GB", "", "–"])
def test_whatever_a_device_writes_can_be_sorted_by(text):
    assert sorted([sort_key(text), sort_key("7 d"), sort_key("bios 2"), sort_key(None)])


@pytest.mark.parametrize("count", [0, 1, 999, 1000, 1001, 2500])
def test_rows_that_are_written_as_they_are_made_are_one_document(count, capsys):
    rows = [of_row(n) for n in range(count)]
    Output(as_json=True).show(Listed("x", "x", beside=("more",)).view(lambda: iter(rows), list, {"more": ["a"]}))
    whole = {"schema": "gallant.x/1", "more": ["a"], "rows": rows}
    expected = msgspec.json.format(msgspec.json.encode(whole), indent=1).decode() + "\n"
    assert capsys.readouterr().out == expected


def of_row(n: int) -> dict[str, object]:
    return {"n": n, "text": '{"rows": [\n  ]}' if n % 3 else "", "list": list(range(n % 4)), "none": None}
