"""Orders that land late: nothing is given again before the request's own time and the device's are both over."""

from __future__ import annotations

import pytest

from gallant.standin.world import Fault

from .night import Night

ONE_HOP = {"2.8.5": None, "2.11.3": "vers:dotted/>=2.8.0"}


# A request takes up to 10 real seconds, which are 200 of the estate's; what was taken is begun within 20 of those.
@pytest.mark.parametrize("late_s", [25.0, 100.0, 150.0, 215.0])
@pytest.mark.parametrize("act", ["install", "restart"])
def test_an_order_that_lands_within_the_requests_own_time_is_not_given_twice(act, late_s):
    night = Night(versions=ONE_HOP, faults=[Fault(name="acts_late", node="tickets/b", act=act, nth=1, value=late_s)])
    assert night.finish(night.plan()).state == "finished"
    assert night.all_well() == []
    assert [kind for node, kind, _ in night.acts if node == "b"].count(act) == 1
