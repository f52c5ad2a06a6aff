"""How often numbers that stand still are said to move, and real leaks
are seen: on noise that follows from one sample to the next."""

from __future__ import annotations

import numpy as np
import pytest

from gallant.core.after.settling import Series, judge_all

MINUTES, NUMBERS, SYSTEMS = 30, 20, 25


def sampled(random, follows: float, about: str, leak: float = 0.0, noise: float = 0.01) -> Series:
    """A number around 4 GB, each minute for half an hour; `leak` in percent an hour, `noise` as a share."""
    shocks, drift = random.normal(0, 1, MINUTES + 100), np.zeros(MINUTES + 100)
    for n in range(1, len(drift)):
        drift[n] = follows * drift[n - 1] + shocks[n]
    at = np.arange(MINUTES) * 60.0
    values = 4e9 * (1 + noise * drift[100:] * np.sqrt(1 - follows**2) - leak / 100 * at / 3600)
    return Series(
        system="s", node="a", about=about, unit="B", points=tuple(zip(at.tolist(), values.tolist(), strict=True))
    )


@pytest.mark.parametrize(("follows", "most"), [(0.0, 0.04), (0.5, 0.08), (0.9, 0.24)])
def test_of_systems_that_stand_still_few_are_said_to_move_however_noise_follows_itself(follows, most):
    random, wrong = np.random.default_rng([int(follows * 10)]), 0
    for _ in range(SYSTEMS):
        names = [f"memory available {n}" for n in range(NUMBERS)]
        before, after = ([sampled(random, follows, name) for name in names] for _ in range(2))
        wrong += any(one.state in ("running out", "creeping") for one in judge_all(before, after))
    assert wrong / SYSTEMS <= most


@pytest.mark.parametrize("follows", [0.0, 0.5, 0.9])
def test_a_leak_of_ten_percent_an_hour_is_seen_in_half_an_hour_of_samples(follows):
    random, seen = np.random.default_rng([7, int(follows * 10)]), 0
    for _ in range(20):
        others = [f"cpu {n}" for n in range(NUMBERS - 1)]
        before = [sampled(random, follows, name, noise=0.001) for name in ("memory available", *others)]
        after = [sampled(random, follows, "memory available", leak=10, noise=0.001)]
        after += [sampled(random, follows, name, noise=0.001) for name in others]
        found = {one.about: one.state for one in judge_all(before, after)}
        seen += found["memory available"] in ("running out", "creeping")
    assert seen >= 19


def test_a_saw_tooth_of_ten_minutes_is_no_leak():
    """A collector that frees every ten minutes."""
    at = [60.0 * n for n in range(MINUTES)]
    teeth = tuple((t, 3e9 - 1e8 * ((t / 600) % 1) + 1e5 * (n % 3)) for n, t in enumerate(at))
    one = Series(system="s", node="a", about="memory available", unit="B", points=teeth)
    (found,) = judge_all([one], [one])
    assert found.state == "settled"
