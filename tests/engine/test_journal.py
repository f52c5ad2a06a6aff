"""The grammar of a journal."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from gallant.core.work.events import Entry, Event
from gallant.engine.journal import grammar_problems, replay

NOW = datetime(2026, 11, 25, tzinfo=UTC)


def journal(*words: str) -> list[Event]:
    """`intent:x`, `outcome:x:done`, `opened` … as events."""
    events, attempts = [], {}
    for seq, word in enumerate(words, 1):
        kind, step, result = (*word.split(":"), None, None)[:3]
        if kind == "intent":
            attempts[step] = attempts.get(step, 0) + 1
        events.append(
            Event(
                seq=seq,
                entry=Entry(
                    kind=kind,
                    at=NOW,
                    wall=0,
                    step=step,
                    result=result,
                    attempt=attempts.get(step) if kind == "intent" else None,
                ),
            )
        )
    return events


VALID = [
    ["opened"],
    ["opened", "intent:x", "outcome:x:done", "finished"],
    ["opened", "intent:x", "accepted:x", "outcome:x:failed", "stopped", "resumed", "intent:x", "outcome:x:done"],
    ["opened", "intent:x"],
    ["opened", "intent:x", "held", "resumed", "answered:x", "outcome:x:done", "finished"],
    ["opened", "intent:x", "ended"],
    ["ended"],
    ["opened", "intent:x", "intent:y", "outcome:y:done", "outcome:x:done"],
]
BROKEN = [
    ([], "empty"),
    (["intent:x"], "begins with intent"),
    (["opened", "opened"], "opened twice"),
    (["opened", "accepted:x"], "without an open intent"),
    (["opened", "outcome:x:done"], "without an open intent"),
    (["opened", "intent:x", "intent:x"], "new intent before"),
    (["opened", "intent:x", "outcome:x:done", "intent:x"], "after it was done"),
    (["opened", "finished", "resumed"], "after the roll finished"),
    (["opened", "intent:x", "finished"], "left open"),
    (["opened", "intent:x", "accepted:x", "accepted:x"], "without an open intent"),
    (["opened", "intent:x", "outcome:x:maybe"], "no such outcome"),
    (["opened", "late:x"], "late without an open intent"),
    (["ended", "opened"], "begins with ended"),
    (["opened", "told:x"], "told something without an open intent"),
    (["opened", "again:x"], "to be done again, and it was not done"),
]


@pytest.mark.parametrize("words", VALID, ids=" ".join)
def test_a_valid_journal_has_no_problems(words):
    assert grammar_problems(journal(*words)) == []


@pytest.mark.parametrize(("words", "said"), BROKEN, ids=[" ".join(b[0]) for b in BROKEN])
def test_a_broken_journal_says_where(words, said):
    assert any(said in problem for problem in grammar_problems(journal(*words)))


def test_what_is_of_no_step_stands_among_no_steps():
    state = replay(journal("opened", "intent:x", "outage", "outcome:x:done", "finished"))
    assert (state.order, set(state.steps)) == (("x",), {"x"})


def test_a_gap_in_the_sequence_is_found():
    events = journal("opened", "intent:x", "outcome:x:done")
    assert any("stands where 2 should" in p for p in grammar_problems([events[0], events[2]]))


def test_what_the_journal_says_is_what_happened():
    state = replay(journal("opened", "intent:x", "accepted:x", "outcome:x:failed", "intent:x", "stopped"))
    assert state.state == "stopped"
    assert state.step("x").attempts == 2
    assert state.step("x").open
    assert not state.step("y").open
