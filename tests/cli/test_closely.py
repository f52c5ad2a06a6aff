"""What each kind of device is read closely for, before and after: a loss
of it is found with the right words, and nothing else is blamed."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

import gallant.drivers

from ..conftest import Place, starting

PROFILES = Path(gallant.drivers.__file__).parent / "profiles"


@pytest.fixture(scope="module")
def line(tmp_path_factory) -> Iterator[Place]:
    """The whole line, as it came, with how it was kept."""
    for make in starting.__wrapped__(tmp_path_factory.mktemp("closely")):
        place: Place = make(speed=2400.0, whole=True)
        assert place.run("verify", *SYSTEMS, "--keep", "base").code in (0, 1)
        yield place


SYSTEMS = ("deck-hw", "slipway", "gates", "overlook", "tickets")
# What goes wrong at a node, and what is said of it then.
LOSSES = {
    "port-1": ("deck-hw/b", "link port-1 up → down"),
    "speed-2": ("deck-hw/b", "speed of link port-2 25000 Mbit/s → 10000 Mbit/s"),
    "drive_2": ("deck-hw/c", "drive 2 ok → critical"),
    "psu-1": ("deck-hw/a", "power supply psu-1 ok → critical"),
    "fan-3": ("deck-hw/a", "fan fan-3 ok → critical"),
    "inlet": ("deck-hw/d", "temperature inlet ok → critical"),
    "event": ("deck-hw/d", "its log none → A memory module in slot 7 was left out."),
    "route": ("slipway/a", "routes 2 → 1"),
    "neighbour uplink-2": ("slipway/b", "neighbour at uplink-2 core-2 → gone"),
    "port": ("gates/a", "port 8443 listening → gone"),
    "mount": ("gates/a", "mount /srv/tickets mounted → gone"),
    "default route": ("gates/a", "default route via 10.4.0.1 dev eth0 → gone"),
    "unit": ("gates/a", "unit backup.timer none → failed"),
    "replica": ("tickets/b", "its replica whole → apart"),
    "path 1": ("tickets/a", "path 1 up → down"),
}


def lost(place: Place, system: str) -> list[str]:
    found = place.run("verify", system, "--against", "base", "--json").json["unlike"]
    return [
        f"{o['system']}/{o['node']}: {o['about']} {o['before'] or 'none'} → {o['after'] or 'gone'}"
        for o in found
        if o["means"] == "lost"
    ]


ALIKE = ("inlet", "fan-3", "psu-1", "drive_2", "unit", "path 1")  # as others that are tried each time


@pytest.mark.parametrize("what", [pytest.param(n, marks=pytest.mark.long) if n in ALIKE else n for n in LOSSES])
def test_what_a_device_loses_is_found_with_the_right_words(line, what):
    node, words = LOSSES[what]
    line.faults({"name": "unwell", "node": node, "act": what})
    try:
        found = lost(line, node.partition("/")[0])
    finally:
        line.faults()
    assert f"{node}: {words}" in found, found
    assert {one.partition(":")[0] for one in found} == {node}


@pytest.mark.parametrize("system", SYSTEMS)
def test_what_has_not_changed_is_not_blamed(line, system):
    assert lost(line, system) == []


@pytest.mark.long
def test_what_the_profile_knows_to_pass_by_itself_has_its_time_before_it_counts(line):
    own = (PROFILES / "ostrel-shoal.yaml").read_text()
    (line.folder / "own.yaml").write_text(own + '\npassing:\n  - {pattern: "a fan has failed", within_s: 86400}\n')
    estate = (line.folder / "estate.yaml").read_text()
    line.faults({"name": "alarm", "node": "tickets/b"})
    try:
        assert "tickets/b: its alarm none → a fan has failed" in lost(line, "tickets")
        (line.folder / "estate.yaml").write_text(estate.replace("profile: ostrel-shoal\n", "profile: own.yaml\n", 1))
        line.faults({"name": "alarm", "node": "tickets/b"})
        waits = line.begin("verify", "tickets", "--against", "base", "--json")
        line.wait_for(lambda: line.truth()["counts"].get("tickets/b login", 0) >= 8, waits)
        line.faults()
        said, _ = waits.communicate(timeout=60)
    finally:
        line.faults()
        (line.folder / "estate.yaml").write_text(estate)
    assert [one for one in json.loads(said)["unlike"] if one["means"] == "lost"] == []
