"""A collector's figures as rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, View
from gallant.views.ground.tables import table_of
from gallant.views.ground.words import plain

if TYPE_CHECKING:
    from gallant.operations.after.metrics import CollectorSample


def metrics_view(samples: Sequence[CollectorSample]) -> View:
    rows = [{"name": s.name, **{f"label_{k}": v for k, v in s.labels.items()}, "value": s.value} for s in samples]

    def text() -> Drawn:
        if rows:
            yield table_of([{key: plain(value) for key, value in row.items()} for row in rows])

    return View("metrics", rows, text)
