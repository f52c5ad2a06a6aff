"""Orders to devices: each word that a profile may know is sent by something, and whatever is sent is such a word."""

from __future__ import annotations

from pathlib import Path

import pytest

import gallant
from gallant.core.steps.kinds import KINDS
from gallant.core.steps.verbs import BESIDE_STEPS, VERBS
from gallant.drivers.profile_reading import load_profile
from gallant.drivers.shelf import OWN_ACTS
from gallant.twins.effects import EFFECTS

SOURCE = Path(gallant.__file__).parent
PROFILES = sorted(path.stem for path in (SOURCE / "drivers" / "profiles").glob("*.yaml"))
SENDERS = "\n".join(path.read_text() for room in ("engine", "operations") for path in (SOURCE / room).rglob("*.py"))


def test_every_step_that_a_device_is_given_has_its_word():
    assert {row.order for row in KINDS.values() if row.driven} == VERBS.keys() - BESIDE_STEPS.keys()


@pytest.mark.parametrize("verb", BESIDE_STEPS)
def test_a_word_that_is_no_step_is_sent_by_an_operation_or_the_engine(verb: str):
    assert f'"{verb}"' in SENDERS or f"{verb.upper()}" in SENDERS


@pytest.mark.parametrize("profile", PROFILES)
def test_a_profile_knows_no_order_that_nobody_sends(profile: str):
    assert load_profile(profile, SOURCE).acts.keys() <= VERBS.keys()


def test_what_twins_and_drivers_do_by_themselves_is_sent_too():
    assert EFFECTS.keys() <= VERBS.keys()
    assert OWN_ACTS.keys() <= VERBS.keys()
