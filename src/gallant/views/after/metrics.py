"""A collector's figures as rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import table_of

if TYPE_CHECKING:
    from gallant.operations.after.metrics import CollectorSample

SAMPLES: Listed[CollectorSample] = Listed("metrics", "metrics")


def metrics_view(samples: Sequence[CollectorSample]) -> View:
    rows = [{"name": s.name, **s.labels, "value": s.value} for s in samples]

    def text() -> Drawn:
        if rows:
            yield table_of(rows)

    return SAMPLES.view(samples, text)
