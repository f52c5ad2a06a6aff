"""What may happen by itself, where each notice stands, and a ledger of which nothing can be changed."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.assess.gaps import Gap, Verdict
from gallant.core.catalog.products import RESTARTS, SEVERITIES, Product
from gallant.core.decide.ledger import FIRST, Kept, LedgerEntry, chain_problems, next_hash
from gallant.core.decide.notices import Notice, NoticeWork, notices, wanted
from gallant.core.estate.rules import ActRule, Decision, Marks, decide
from gallant.core.readings import Component, Reading
from gallant.core.records import replace

from .test_assessment import release

NOW = datetime(2026, 11, 25, 20, tzinfo=UTC)
LOUD = Marks(security=True, severity="critical", restart="none", kinds=("storage", "NIC"), tags=("prod",))

RULES = [
    ({"security": True}, LOUD, True),
    ({"security": False}, LOUD, False),
    ({"severity": "high+"}, LOUD, True),
    ({"severity": "high"}, LOUD, False),
    ({"severity": "critical"}, LOUD, True),
    ({"severity": "low+"}, replace(LOUD, severity=None), False),
    ({"severity": "medium+"}, replace(LOUD, severity="low"), False),
    ({"restart": "none"}, LOUD, True),
    ({"restart": "node"}, LOUD, False),
    ({"kind": "NIC"}, LOUD, True),
    ({"kind": "storage"}, LOUD, True),
    ({"kind": "disk"}, LOUD, False),
    ({"tag": "prod"}, LOUD, True),
    ({"tag": "test"}, LOUD, False),
    ({"security": True, "tag": "test"}, LOUD, False),
    ({}, LOUD, True),
]


@pytest.mark.parametrize(("conditions", "marks", "hit"), RULES)
def test_a_rule_holds_when_all_of_its_conditions_do(conditions, marks, hit):
    assert decide([ActRule(then="act", **conditions)], marks).then == ("act" if hit else "ask")


def test_the_first_rule_that_matches_decides_and_says_which_it_is():
    rules = [ActRule(then="leave", tag="test"), ActRule(then="act", security=True), ActRule(then="leave")]
    assert decide(rules, LOUD) == Decision(then="act", rule=2, words="security yes")
    assert decide(rules, replace(LOUD, security=False)).rule == 3
    assert decide([], LOUD) == Decision(then="ask")


def test_no_rule_acts_on_what_a_person_has_to_consent_to():
    found = decide([ActRule(then="act")], LOUD, "there is no way back from 2")
    assert (found.then, found.rule) == ("ask", 1)
    assert "no way back" in found.words
    assert decide([ActRule(then="leave")], LOUD, "there is no way back from 2").then == "leave"


@pytest.mark.parametrize(
    "wrong", [{"then": "do"}, {"then": "act", "severity": "bad"}, {"then": "act", "restart": "all"}]
)
def test_a_rule_that_is_none_is_refused(wrong):
    with pytest.raises(ValueError, match="one of"):
        ActRule(**wrong)


@given(
    st.lists(
        st.builds(
            ActRule,
            then=st.sampled_from(["act", "ask", "leave"]),
            security=st.sampled_from([None, True, False]),
            severity=st.sampled_from([None, *SEVERITIES, *(s + "+" for s in SEVERITIES)]),
            restart=st.sampled_from([None, *RESTARTS]),
        ),
        max_size=5,
    ),
    st.booleans(),
    st.sampled_from([None, *SEVERITIES]),
    st.sampled_from([None, *RESTARTS]),
)
def test_dropping_rules_after_the_one_that_decides_changes_nothing(rules, security, severity, restart):
    marks = Marks(security=security, severity=severity, restart=restart, kinds=(), tags=())
    found = decide(rules, marks)
    assert decide(rules[: found.rule], marks) == found if found.rule else found.then == "ask"


# --- notices

PRODUCT = Product(name="o/s", scheme="dotted", releases=(release("2.0", 300), release("3.0", 100), release("3.1", 10)))


def gap(node: str = "a", component: str = "image", **more) -> Gap:
    verdict = Verdict(
        **{
            "aim": "newest",
            "target": "3.0",
            "standing": "behind",
            "severity": "high",
            "hops": ("3.0",),
            "minutes": 20.0,
            "reasons": ("behind by 1 release",),
            **more,
        }
    )
    part = Component(name=component, kind="system image", product="o/s", version="2.0")
    reading = Reading(
        system="tickets", node=node, taken=NOW, serial=node, product="o/s", version="2.0", boot="1", components=(part,)
    )
    return Gap(reading=reading, part=part, verdict=verdict)


def entry(kind: str, **more) -> LedgerEntry:
    return LedgerEntry(
        **{
            "at": NOW - timedelta(hours=1),
            "by": "anna",
            "host": "h",
            "kind": kind,
            "subject": "tickets:image",
            "target": "3.0",
            **more,
        }
    )


def stands(
    *ledger: LedgerEntry, decision: str = "ask", work: NoticeWork | None = None, now: datetime = NOW, **verdict
) -> Notice:
    every = wanted(
        [
            (gap("a", **verdict), Decision(then=decision, rule=1, words="w")),
            (gap("b", **verdict), Decision(then=decision)),
        ]
    )
    found = notices(
        every, ledger, {("tickets:image", "3.0"): NOW}, {"tickets": work} if work else {}, {"o/s": PRODUCT}, now
    )
    assert len(found) == 1
    return found[0]


SKIP = {"reason": "it slows the replica"}
IN_TWO_H = NOW + timedelta(hours=2)
STANDS = [
    ((), {}, "new", "behind by"),
    ((), {"decision": "act"}, "acts by itself", "rule 1: w"),
    ((), {"decision": "leave"}, "left alone", "rule 1: w"),
    ((), {"standing": "blocked", "reasons": ("no route",)}, "blocked", "no route"),
    ((entry("accept"),), {}, "accepted", ""),
    ((entry("accept", target="2.5"),), {}, "new", "was accepted for 2.5 by anna"),
    ((entry("book", start=IN_TWO_H),), {}, "booked", ""),
    ((entry("book", start=NOW - timedelta(hours=2)),), {}, "overdue", "time has passed"),
    ((entry("book", target="2.5", start=IN_TWO_H),), {}, "new", "was booked for 2.5"),
    ((entry("book", start=IN_TWO_H), entry("cancel")), {}, "accepted", "cancelled"),
    ((entry("accept"), entry("reopen", reason="no")), {}, "new", "reopened by anna: no"),
    ((entry("skip", until="3.1", **SKIP),), {}, "skipped", "until 3.1: it slows"),
    ((entry("skip", until="3.0", **SKIP),), {}, "new", "was skipped until 3.0"),
    ((entry("skip", until="9.9", **SKIP),), {}, "skipped", "until 9.9"),
    ((entry("skip", until="2026-12-24", **SKIP),), {}, "skipped", "until 2026-12-24"),
    ((entry("skip", until="2026-11-25", **SKIP),), {}, "new", "was skipped until 2026-11-25"),
    ((entry("skip", until="9.9", **SKIP), entry("reopen")), {}, "new", "reopened"),
    ((entry("reopen"),), {"decision": "act"}, "new", "reopened"),
    ((entry("skip", until="2026-11-25", **SKIP),), {"decision": "leave"}, "new", "was skipped"),
    ((entry("accept", subject="other:image"),), {}, "new", ""),
]


@pytest.mark.parametrize(("ledger", "more", "state", "why"), STANDS)
def test_a_notice_stands_where_the_newest_decision_that_still_holds_puts_it(ledger, more, state, why):
    found = stands(*ledger, **more)
    assert found.state == state
    assert why in found.why


def test_a_notice_whose_way_was_barred_and_is_open_now_is_new_from_today_and_says_so():
    since = {("tickets:image", "3.0 blocked"): NOW - timedelta(days=40), ("tickets:image", "3.0"): NOW}
    barred = wanted([(gap(standing="blocked", reasons=("no counterpart",)), Decision(then="ask"))])
    opened = wanted([(gap(), Decision(then="ask"))])
    before, after = (notices(w, [], since, {}, {"o/s": PRODUCT}, NOW)[0] for w in (barred, opened))
    assert (before.state, before.since) == ("blocked", NOW - timedelta(days=40))
    assert (after.state, after.since) == ("new", NOW)
    assert after.why.startswith("its way is open now")


def test_a_person_stays_assigned_whatever_is_decided_and_whichever_release_is_aimed_at():
    found = stands(entry("assign", person="berta", target="2.5"), entry("accept"), entry("reopen"))
    assert (found.person, found.state) == ("berta", "new")


def test_a_booking_has_a_start_and_an_end_and_the_newest_booking_counts():
    found = stands(entry("book", start=IN_TWO_H), entry("book", start=IN_TWO_H + timedelta(days=1)))
    assert found.start == IN_TWO_H + timedelta(days=1)
    assert found.end - found.start == timedelta(minutes=40)  # 20 min on each of two nodes


def test_a_roll_that_is_open_is_where_its_notice_stands():
    work = NoticeWork(roll="roll-0007", began=NOW, end=IN_TWO_H, finished=False)
    found = stands(entry("book", start=IN_TWO_H), work=work)
    assert (found.state, found.start, found.end, found.roll) == ("under way", NOW, IN_TWO_H, "roll-0007")


def test_nodes_are_one_notice_and_components_are_several_and_what_is_current_is_none():
    every = wanted(
        [
            (gap("a"), Decision(then="ask")),
            (gap("b"), Decision(then="ask")),
            (gap("a", "expander"), Decision(then="ask")),
            (gap("b", standing="current"), Decision(then="ask")),
            (gap("b", "roots", target=None, standing="unknown"), Decision(then="ask")),
        ]
    )
    assert [(w.name, w.nodes) for w in every] == [("tickets:image", ("a", "b")), ("tickets:expander", ("a",))]


@given(
    st.lists(
        st.tuples(
            st.integers(0, 5),
            st.sampled_from([None, *SEVERITIES]),
            st.sampled_from(["new", "booked", "skipped", "done"]),
        ),
        max_size=12,
    )
)
def test_the_newest_day_and_of_a_day_the_most_severe_come_first_and_the_settled_last(rows):
    made = [
        replace(stands(), name=f"n{i:02}", since=NOW - timedelta(days=d), severity=s, state=state)
        for i, (d, s, state) in enumerate(rows)
    ]
    ordered = sorted(made, key=lambda n: n.rank)
    keys = [
        (n.state in ("skipped", "done"), (NOW - n.since).days, SEVERITIES.index(n.severity) if n.severity else 9)
        for n in ordered
    ]
    assert keys == sorted(keys)


# --- the ledger


def chain(count: int) -> list[Kept]:
    kept, before = [], FIRST
    for seq in range(1, count + 1):
        one = entry("accept", reason=f"r{seq}")
        before = next_hash(before, one)
        kept.append(Kept(seq=seq, entry=one, hash=before))
    return kept


def test_a_chain_that_nobody_touched_is_whole():
    assert chain_problems(chain(6)) == []
    assert chain_problems([]) == []


@given(st.integers(0, 5), st.sampled_from(["by", "host", "kind", "subject", "target", "reason", "at"]))
def test_no_entry_can_be_changed_without_being_found(at, field):
    kept = chain(6)
    changed = NOW if field == "at" else "other"
    kept[at] = replace(kept[at], entry=replace(kept[at].entry, **{field: changed}))
    assert chain_problems(kept)


@given(st.integers(0, 4), st.integers(0, 5))
def test_no_entry_can_be_left_out_or_moved_without_being_found(gone, to):
    kept = chain(6)
    one = kept.pop(gone)
    assert chain_problems(kept)
    kept.insert(to, one)
    if to != gone:
        assert chain_problems(kept)
    again = [replace(k, seq=n) for n, k in enumerate(kept, 1)]
    assert bool(chain_problems(again)) == (to != gone)


def test_an_entry_is_hashed_as_it_comes_back_from_its_file():
    one = entry("book", start=IN_TWO_H)
    assert next_hash(FIRST, msgspec.json.decode(msgspec.json.encode(one), type=LedgerEntry)) == next_hash(FIRST, one)
