"""Every call of a plan, shown by the built program before anything is sent."""

from __future__ import annotations

import asyncio

import pytest

from gallant.core.ports import Act
from gallant.operations.ground.workplace import Workplace


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    from tests.conftest import starting

    with starting(tmp_path_factory.mktemp("calls")) as make:
        yield make(whole=True)


def test_the_calls_of_a_plan_are_shown_in_its_order_and_nothing_is_sent(place):
    plan = place.make_ready()
    before = place.truth()["counts"]
    shown = place.run("roll", plan, "--show-calls")
    assert shown.code == 0, shown.err
    assert place.truth()["counts"] == before
    rows = place.run("roll", plan, "--show-calls", "--json").rows
    kinds = [row["step"].rsplit(".", 1)[-1] for row in rows]
    assert kinds[0] == "backup"
    order = list(dict.fromkeys(kinds))
    assert order.index("preload") < order.index("install") < order.index("restart")
    restart = next(row["call"] for row in rows if row["step"] == "tickets.1.b.restart")
    assert restart.startswith("POST /")
    for secret in (place.folder / "secrets").iterdir():
        assert secret.read_text().strip() not in shown.out
    assert place.run("history", "--json").rows == []


def test_a_driver_has_words_for_every_order_that_it_gives_by_its_protocol(whole):
    async def spoken() -> dict[str, list[tuple[str, ...]]]:
        estate = Workplace(whole.folder)
        systems = list(estate.estate.systems.values())
        async with estate.drivers(systems) as drivers:
            return {
                name: [
                    driver.orders_of(next(iter(driver.system.nodes)), Act(kind=kind, package="p", release="1"))
                    for kind in set(driver._own_acts()) - set(driver.profile.without)
                ]
                for name, driver in drivers.items()
            }

    for name, orders in asyncio.run(spoken()).items():
        assert all(order and all(order) for order in orders), name


def test_a_plan_that_nobody_knows_is_wrong_usage(whole):
    assert whole.run("roll", "plan-000", "--show-calls").code == 2
