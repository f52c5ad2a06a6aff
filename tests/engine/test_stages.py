"""What is left of a stage's time, in words."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from gallant.core.steps.seen import Look
from gallant.core.work.knows import ANSWERS, LINKS, SERVES, Returns
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


def test_each_stage_has_its_time_from_when_it_was_seen_and_all_without_one_share_that_of_the_step():
    stages = Stages(NOW, timedelta(hours=1), Returns(answers_within_s=600, links_within_s=1800), 0.0)
    looks = {stage: Look(state="going", stage=stage) for stage in (ANSWERS, LINKS, SERVES, "")}
    late = [
        (stage, at, stages.late(looks[stage], NOW + timedelta(seconds=at)))
        for stage, at in [
            (ANSWERS, 0), (ANSWERS, 600), (LINKS, 700), (LINKS, 2500), (LINKS, 2501),
            (SERVES, 3000), ("", 6600), (SERVES, 6601), (ANSWERS, 7000), (ANSWERS, 7601),
        ]
    ]  # fmt: skip
    assert [(stage, at, limit.total_seconds()) for stage, at, limit in late if limit is not None] == [
        (LINKS, 2501, 1800),
        (SERVES, 6601, 3600),
        (ANSWERS, 7601, 600),
    ]
