"""The demo's second act as a user runs it: ten systems from behind to their aims. It takes minutes: make night."""

from __future__ import annotations

import pytest

PATIENCE_S = 600.0

pytestmark = pytest.mark.long


def test_the_night_takes_ten_systems_to_their_aims(bare):
    demo = bare.begin("demo", "--folder", "line", "--night")
    out, err = demo.communicate(timeout=PATIENCE_S)
    assert demo.returncode == 0, out[-2000:] + err[-2000:]
    for system in ("tickets", "quay", "overlook", "deck", "deck-hw", "lighthouse", "sealock", "gates", "manifest"):
        assert f"{system} runs " in out, system
    assert "roll-0001 ✓ finished" in out
