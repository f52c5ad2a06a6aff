"""Checks as a user has them: what changed, mended, accepted, explained."""

from __future__ import annotations

import pytest


@pytest.fixture
def place(place):
    place.follow_catalog()
    return place


def levels(place, *words: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for row in place.run("check", *words, "--json").rows:
        found.setdefault(row["check"], row["level"])
    return found


def test_a_backup_that_is_missing_is_taken_by_mend_and_the_next_check_says_that_it_is_there(place):
    assert levels(place)["backup"] == "warn"
    assert "Nobody is at a terminal" in place.run("check", "--mend", "tickets").err
    done = place.run("check", "--mend", "tickets", "--yes")
    assert "is taken and sealed" in done.out
    assert "gone" in done.out
    assert levels(place)["backup"] == "pass"


def test_roles_go_back_to_their_usual_places_and_only_when_all_is_well(place):
    place.run("survey")
    import asyncio

    from gallant.core.ports import Act
    from gallant.operations.ground.workplace import Workplace

    async def yield_role():
        workplace = Workplace(place.folder)
        async with workplace.drivers([workplace.estate.systems["tickets"]]) as drivers:
            driver = drivers["tickets"]
            taken = await driver.act("a", Act(kind="handover"), send_by=driver.clock.real() + 9)
            for _ in range(200):
                if (await driver.job("a", taken.handle)).state == "done":
                    return
                await asyncio.sleep(0.05)

    asyncio.run(yield_role())
    assert levels(place)["roles"] == "warn"
    done = place.run("check", "--mend", "--only", "roles", "tickets", "--yes")
    assert "tickets/a is active again" in done.out
    assert place.truth()["systems"]["tickets"]["serving"] == "a"
    assert levels(place)["roles"] == "pass"


def test_what_was_found_is_kept_and_the_next_check_says_first_what_changed(place):
    assert place.run("check", "--json").json["drift"] == []
    place.faults({"name": "clock_off", "node": "tickets/a", "value": 900})
    said = place.run("check")
    assert "Since the check" in said.out
    assert said.out.index("new") < said.out.index("level")
    rows = place.run("check", "--since", "0s", "--json").json
    assert rows["drift"] == []
    place.faults()
    assert any(
        d["what"] == "gone" and d["finding"]["check"] == "clock" for d in place.run("check", "--json").json["drift"]
    )


def test_a_warning_can_be_accepted_by_name_until_a_day_and_a_stop_never(place):
    place.faults({"name": "clock_off", "node": "tickets/a", "value": 900})
    assert levels(place)["clock"] == "warn"
    far = place.run("waive", "clock", "tickets", "--until", "2099-01-01", "--reason", "x")
    assert far.code == 2
    now = place.run("check", "--json").json["compared_with"][:10]
    done = place.run(
        "waive", "clock", "tickets/a", "--until", now[:8] + "28", "--reason", "its battery comes on Friday"
    )
    assert done.code == 0, done.err
    assert levels(place)["clock"] == "note"
    told = [r["waived"] for r in place.run("check", "--json").rows if r["waived"]]
    assert all("its battery comes on Friday" in t for t in told)
    assert told
    assert any(e["kind"] == "waive" for e in place.run("ledger", "--json").rows)
    refused = place.run("waive", "stock", "tickets", "--until", now[:8] + "28", "--reason", "x")
    assert refused.code == 5
    assert "cannot be waived by anybody" in refused.err
    assert place.run("waive", "clok", "tickets", "--until", now, "--reason", "x").code == 2


def test_only_node_and_fail_on_narrow_what_is_said_and_what_counts(place):
    assert set(levels(place, "--only", "clock", "--only", "in-sync")) == {"clock", "in-sync"}
    assert {r["node"] for r in place.run("check", "--node", "b", "--json").rows} == {"b"}
    assert place.run("check", "--node", "z").code == 2
    assert place.run("check", "--only", "clock").code == 0
    assert place.run("check", "--only", "backup").code == 1
    assert place.run("check", "--only", "backup", "--fail-on", "stop").code == 0
    assert place.run("check", "--only", "nothing").code == 2
    assert "backup" not in levels(place, "--when", "during")


def test_every_check_is_explained_without_contacting_anything(place):
    listed = [row["id"] for row in place.run("check", "--list", "--json").rows]
    assert len(listed) > 40
    said = place.run("check", "--explain", "own-path")
    assert "because" in said.out
    assert said.code == 0
    assert place.run("check", "--explain", "nothing").code == 2
