"""A bill of materials of an estate: CycloneDX 1.6 (ECMA-424), devices as components, what runs on them nested within.

A plain dictionary in the standard's own shape; the same readings give the same document, save its serial number.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from gallant.core.readings import IMAGE, Component, Reading
from gallant.core.records import digest, rfc3339

# A component's kind → CycloneDX's component type (1.6, components[].type).
TYPES = {
    "system image": "operating-system",
    "BIOS": "firmware",
    "management controller": "firmware",
    "NIC": "firmware",
    "disk": "firmware",
    "enclosure module": "firmware",
    "OS package": "application",
    "add-on module": "application",
    "container image": "container",
    "reference data": "data",
    "on-disk format": "data",
}


def bill(
    name: str,
    nodes: Sequence[tuple[str, str, Reading]],
    made: datetime,
    version: str,
    serial: str,
    hashes: Mapping[tuple[str, str], str],
    runs_on: Mapping[str, str],
) -> dict[str, object]:
    """The document. `nodes` are (system, node, reading); `hashes` gives SHA-256 of a product's version where a catalog
    knows its package; `runs_on` leads from a node to the node that it lives on; `serial` is a UUID."""
    components, depends = [], []
    known = {reading.name for _, _, reading in nodes}
    for _, _, reading in nodes:
        components.append(_device(reading, hashes))
        below = runs_on.get(reading.name)
        depends.append({"ref": _ref(reading.name), "dependsOn": [_ref(below)] if below in known and below else []})
    return {
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": f"urn:uuid:{serial}",
        "version": 1,
        "metadata": {
            "timestamp": rfc3339(made),
            "tools": {"components": [{"type": "application", "name": "gallant", "version": version}]},
            "component": {"type": "platform", "name": name, "bom-ref": "estate"},
        },
        "components": components,
        "dependencies": depends,
    }


def _device(reading: Reading, hashes: Mapping[tuple[str, str], str]) -> dict[str, object]:
    properties = {
        "gallant:system": reading.system,
        "gallant:node": reading.node,
        "gallant:serial": reading.serial,
        "gallant:part-number": reading.part_number,
        "gallant:build": reading.build,
        "gallant:read": rfc3339(reading.taken),
    }
    publisher, _, product = reading.product.partition("/")
    return {
        "type": "device",
        "bom-ref": _ref(reading.name),
        "name": reading.name,
        "manufacturer": {"name": publisher},
        "description": reading.model or product,
        "version": reading.version,
        "properties": [{"name": key, "value": value} for key, value in properties.items() if value],
        "components": [_part(reading, part, hashes) for part in reading.components],
    }


def _part(reading: Reading, part: Component, hashes: Mapping[tuple[str, str], str]) -> dict[str, object]:
    publisher, _, product = part.product.partition("/")
    found: dict[str, object] = {
        "type": TYPES.get(part.kind, "firmware"),
        "bom-ref": _ref(f"{reading.name}:{part.name}"),
        "name": product or part.name if part.name == IMAGE else part.name,
        "manufacturer": {"name": publisher},
        "version": part.version,
    }
    if publisher == "deb":
        found["purl"] = f"pkg:deb/debian/{_quoted(product)}@{_quoted(part.version)}"
    if (sha256 := hashes.get((part.product, part.version))) is not None:
        found["hashes"] = [{"alg": "SHA-256", "content": sha256}]
    more = {
        "gallant:product": part.product,
        "gallant:kind": part.kind,
        "gallant:build": part.build,
        "gallant:next": part.next_version,
        "gallant:serial": part.serial,
        "gallant:part-number": part.part_number,
        "gallant:model": part.model,
    }
    found["properties"] = [{"name": key, "value": value} for key, value in more.items() if value]
    return found


def _quoted(text: str) -> str:
    """Percent-encoded as package URLs want it (purl specification, 5.6)."""
    return "".join(c if c.isalnum() or c in ".-_~" else "".join(f"%{b:02X}" for b in c.encode()) for c in text)


def _ref(name: str) -> str:
    return f"node-{digest(name.encode())[:24]}"
