"""What a reading says of its node's health."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from gallant.core.readings import Job, Reading

WELL = {"state": "in_service", "in_sync": True, "sync_word": "matched"}
JOB = Job(id="7", kind="rebuild", state="running", message="a third is done")


@pytest.mark.parametrize(
    ("fields", "why"),
    [
        ({}, ""),
        ({"in_sync": None}, ""),
        ({"state": "starting"}, "starting"),
        ({"in_sync": False, "sync_word": "catching-up"}, "its replica is catching-up"),
        ({"jobs": (JOB,)}, "busy: rebuild (a third is done)"),
        ({"state": "starting", "in_sync": False, "jobs": (JOB,)}, "starting"),
    ],
)
def test_a_node_is_healthy_or_it_is_said_why_not(fields, why):
    reading = Reading(
        system="s",
        node="a",
        taken=datetime.now(UTC),
        serial="x",
        product="p",
        version="1",
        boot="b",
        **{**WELL, **fields},
    )
    assert reading.why_unwell == why
    assert reading.healthy == (why == "")
