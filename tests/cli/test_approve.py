"""Plans that somebody else has to approve, and stops that a person passes by name."""

from __future__ import annotations

from ..users import SOMEBODY, SOMEBODY_ELSE


def with_approval(place, count: int = 1) -> None:
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + f"approval: {{prod: {count}}}\n")


def test_a_plan_is_not_begun_before_somebody_else_approved_it(place):
    with_approval(place)
    plan = place.make_ready()
    refused = place.run("roll", plan)
    assert (refused.code, "nobody has approved it" in refused.err) == (5, True)
    assert f"gallant approve {plan}" in refused.err
    own = place.run("approve", plan)
    assert (own.code, "nobody approves their own plan" in own.err) == (5, True)
    shown = place.run("plan", "tickets")
    assert "1 other than" in shown.out
    assert "to approve it" in shown.out
    place.let_in()
    given = place.run_as(SOMEBODY, "approve", plan, "--reason", "order and length are right")
    assert (given.code, f"is approved by uid {SOMEBODY}" in given.out) == (0, True), given.err
    assert "order and length are right" in place.run("ledger").out
    assert place.run("roll", plan, "--hold-after", "step").code == 4
    assert place.run("resume", "roll-0001", "--hold-after", "node").code == 4
    back = place.run("backout", "roll-0001", "--json")  # the way back waits for nobody
    assert place.run("roll", back.json["id"]).code == 0, back.err


def test_two_approvals_are_of_two_people(place):
    with_approval(place, 2)
    plan = place.make_ready()
    place.let_in()
    for _ in range(2):
        given = place.run_as(SOMEBODY, "approve", plan)
        assert (given.code, "1 other still has to" in given.out) == (0, True)
    assert place.run("roll", plan).code == 5
    assert place.run_as(SOMEBODY_ELSE, "approve", plan).code == 0
    assert place.run("roll", plan, "--hold-after", "step").code == 4


def test_a_stop_is_passed_by_its_name_with_a_reason_and_never_one_that_is_a_promise(place):
    plan = place.make_ready()
    for package in place.folder.glob("stock/*/shoal-3.2.4.pkg"):
        package.unlink()
    refused = place.run("roll", plan)
    assert refused.code == 5
    assert place.run("roll", plan, "--despite", "stock").code == 2  # no reason
    wrong = place.run("roll", plan, "--despite", "stok", "--reason", "x")
    assert (wrong.code, "did you mean stock" in wrong.err) == (2, True)
    for firm in ("no-job", "recalled", "open-roll", "reachable", "distinct", "terms"):
        never = place.run("roll", plan, "--despite", firm, "--reason", "x")
        assert (never.code, f"--despite cannot override {firm}" in never.err) == (5, True)
    why = "the second hop is for another night"
    begun = place.run("roll", plan, "--despite", "stock", "--reason", why, "--hold-after", "step")
    assert begun.code == 4, begun.err
    assert "this goes on all the same" in begun.err
    assert why in place.run("ledger").out


def test_an_approval_for_a_tag_that_nobody_has_is_an_error_of_the_file(place):
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + "approval: {produktion: 1}\n")
    done = place.run("validate", "estate.yaml")
    assert (done.code, "no system has tag:produktion" in done.err + done.out) == (2, True)


def test_a_round_of_what_is_not_there_is_an_error_of_the_file(place):
    path = place.folder / "estate.yaml"
    path.write_text(path.read_text() + 'rounds: [{name: few, of: ["site:harbor"]}, {name: rest, of: ["*"]}]\n')
    done = place.run("validate", "estate.yaml")
    assert (done.code, "harbour" in done.err + done.out) == (2, True), done.err + done.out
