"""What is left of a stage's time, in words."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from gallant.core.work.plan import LINKS, Returns
from gallant.core.work.steps import Look
from gallant.engine.stages import Stages

NOW = datetime(2026, 11, 27, tzinfo=UTC)


@pytest.mark.parametrize(
    ("waited", "words"),
    [(0.3, "30 min 0 s"), (0.6, "29 min 59 s"), (60.4, "29 min 0 s"), (1795, "0 min 5 s"), (4000, "0 min 0 s")],
)
def test_the_seconds_that_are_left_never_make_a_whole_minute(waited, words):
    look = Look(state="running", message="links are down", stage=LINKS)
    stages = Stages(NOW, timedelta(hours=1), Returns(links_within_s=1800), 0.0)
    stages.late(look, NOW)
    assert (
        stages.with_time_left(look, NOW + timedelta(seconds=waited)).message == f"links are down; {words} left for that"
    )
