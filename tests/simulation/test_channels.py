"""Nights in which a component comes through a channel that is disabled on a
node: opened by consent alone, after the backup, and closed again."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest

from gallant.core.errors import Refused
from gallant.core.readings import Channel
from gallant.core.records import replace
from gallant.engine.means import Orders

from .night import Killed
from .shapes import ClusterDriver, ClusterNight, Extra

NAME = "https://packages.example/ostrel stable"
YES = Orders(by="tester", consents=("channel:tickets", "downtime:tickets"))


class ChannelDriver(ClusterDriver):
    def capabilities(self):
        more = {"enable_channel", "disable_channel"} if self.night.opens else set()
        return super().capabilities() | more

    def _do(self, node, act):
        if act.kind in ("enable_channel", "disable_channel"):
            self.night.switch(node, act)
            return None
        if act.component == "seats" and not self.night.enabled[node]:
            self.night.broken.append(f"{node}: seats is brought through a channel that is closed")
        return super()._do(node, act)


@dataclass
class ChannelNight(ClusterNight):
    """`enabled` says of each node whether its channel is; `opens`: the profile knows how to switch it."""

    extras: dict[str, Extra] = field(default_factory=lambda: {"seats": Extra(kind="add-on module", restart="none")})
    enabled: dict[str, bool] = field(default_factory=lambda: {"a": False, "b": True, "c": False})
    opens: bool = True

    def __post_init__(self):
        super().__post_init__()
        seats = self.catalogs["ostrel/seats"]
        releases = tuple(replace(r, channel=NAME) for r in seats.releases)
        self.catalogs["ostrel/seats"] = replace(seats, releases=releases)
        self.switched: list[tuple[str, str]] = []

    def driver(self, system):
        return ChannelDriver(self, system)

    def switch(self, node, act):
        assert act.component == NAME
        if not self.backups:
            self.broken.append(f"I3: the channel of {node} is switched before there is a backup")
        self.enabled[node] = act.kind == "enable_channel"
        self.switched.append((node, act.kind))

    def _reading(self, system, name):
        return replace(super()._reading(system, name), channels=(Channel(name=NAME, enabled=self.enabled[name]),))


def test_a_channel_is_opened_where_it_is_closed_and_closed_again_where_it_was():
    night = ChannelNight()
    plan = night.plan()
    with pytest.raises(Refused, match=r"tickets/a: https://packages.example/ostrel stable is enabled for the work"):
        night.run(plan)
    assert night.switched == []
    assert night.run(plan, YES).state == "finished"
    assert night.whole() == []
    assert night.enabled == {"a": False, "b": True, "c": False}
    assert sorted(night.switched) == [(n, f"{what}_channel") for n in "ac" for what in ("disable", "enable")]


@pytest.mark.parametrize("when", ["before", "after"])
def test_it_is_closed_again_after_a_kill_anywhere_too(when):
    for at in range(2, 70, 6):
        night = ChannelNight()
        plan = night.plan()
        night.kill_at = (f"{when} append", at)
        try:
            night.run(plan, YES)
        except Killed:
            assert night.finish(plan).state == "finished"
        assert (night.whole(), night.enabled) == ([], {"a": False, "b": True, "c": False}), at


def test_where_nothing_opens_it_the_plan_names_the_channel():
    lane = ChannelNight(opens=False).plan().lanes[0]
    assert lane.closed == {"a": (NAME,), "c": (NAME,)}
    assert ChannelNight().plan().lanes[0].closed == {}
