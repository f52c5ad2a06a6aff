"""What is read on the way is kept, unless something later is known already."""

from __future__ import annotations

from datetime import timedelta
from types import SimpleNamespace

from gallant.core.records import replace
from gallant.operations.ground.heard import keep_readings
from gallant.store.readings import ReadingStore

from ..builders import both
from ..store.test_store import NOW


def test_an_older_reading_that_is_kept_late_does_not_hide_a_newer_one(tmp_path):
    store = ReadingStore(tmp_path)
    place = SimpleNamespace(readings=store, clock=SimpleNamespace(now=lambda: NOW))
    first = replace(both()["a"], taken=NOW, version="2.8.5")
    newer = replace(first, taken=NOW + timedelta(minutes=5), version="2.11.3")
    keep_readings(place, [first])
    keep_readings(place, [newer])
    keep_readings(place, [replace(first, taken=NOW + timedelta(minutes=1))])
    keep_readings(place, [])
    assert store.newest()[first.name].reading.version == "2.11.3"
    keep_readings(place, [replace(first, taken=NOW + timedelta(minutes=9), version="3.2.4")])
    assert store.newest()[first.name].reading.version == "3.2.4"
    assert len(store.surveys()) == 3
