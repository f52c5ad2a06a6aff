"""What a publisher's condition may speak of: a node as it was read, and what the estate says of its system."""

from __future__ import annotations

from gallant.core.estate.systems import Site, System
from gallant.core.readings import Reading


def facts_of(reading: Reading, system: System, site: Site | None = None) -> dict[str, object]:
    """What a condition may speak of: components, facets and gauges are by name."""
    return {
        "system": reading.system,
        "node": reading.node,
        "site": system.site,
        "hands": site.hands if site else None,
        "kind": system.kind or None,
        "tags": list(system.tags),
        "shape": system.shape,
        "product": reading.product,
        "version": reading.version,
        "build": reading.build,
        "model": reading.model,
        "role": reading.role,
        "state": reading.state,
        "in_sync": reading.in_sync,
        "components": {
            c.name: {"kind": c.kind, "product": c.product, "version": c.version} for c in reading.components
        },
        "facets": {f.name: f.state for f in reading.facets},
        "gauges": {g.name: g.value for g in reading.gauges},
        "services": sorted(system.services),
    }
