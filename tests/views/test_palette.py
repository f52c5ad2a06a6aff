"""The palette: text can be read on either ground, and roles stay apart for every kind of colour vision."""

from __future__ import annotations

import itertools
import math

import pytest

from gallant.views.ground.palette import COLOURS, ONE, PAPER, TERMINAL, TWO, paler, variables

# Machado, Oliveira, Fernandes 2009, severity 1.0, on linear light.
VISION = {
    "every colour": ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    "no red": ((0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998)),
    "no green": ((0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881)),
    "no blue": ((1.255528, -0.076749, -0.178779), (-0.078411, 0.930809, 0.147602), (0.004733, 0.691367, 0.303900)),
}
APART = 0.08  # in OKLab; 0.02 is the least that is seen side by side
WORDS = ("text", "muted", "good", "warn", "bad", "accent")


def linear(colour):
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    return [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]


def contrast(one, other):
    lights = [0.2126 * r + 0.7152 * g + 0.0722 * b for r, g, b in map(linear, (one, other))]
    return (max(lights) + 0.05) / (min(lights) + 0.05)


def seen(colour, vision):
    r, g, b = (sum(m * c for m, c in zip(row, linear(colour), strict=True)) for row in VISION[vision])
    cones = (
        0.4122214708 * r + 0.5363325363 * g + 0.0514459929 * b,
        0.2119034982 * r + 0.6806995451 * g + 0.1073969566 * b,
        0.0883024619 * r + 0.2817188376 * g + 0.6299787005 * b,
    )
    x, y, z = (math.copysign(abs(c) ** (1 / 3), c) for c in cones)
    return (
        0.2104542553 * x + 0.7936177850 * y - 0.0040720468 * z,
        1.9779984951 * x - 2.4285922050 * y + 0.4505937099 * z,
        0.0259040371 * x + 0.7827717662 * y - 0.8086757660 * z,
    )


@pytest.mark.parametrize("ground", [0, 1], ids=["light", "dark"])
@pytest.mark.parametrize("role", WORDS)
def test_words_can_be_read_on_paper_and_on_bands(role, ground):
    for below in ("paper", "band"):
        assert contrast(COLOURS[role][ground], COLOURS[below][ground]) >= 4.5


@pytest.mark.parametrize("vision", VISION)
@pytest.mark.parametrize("ground", [0, 1], ids=["light", "dark"])
def test_roles_stay_apart_whatever_colours_somebody_sees(vision, ground):
    shown = [COLOURS[role][ground] for role in ("good", "warn", "bad", "accent")] + [ONE, TWO] * (ground == 0)
    for one, other in itertools.combinations(shown, 2):
        assert math.dist(seen(one, vision), seen(other, vision)) >= APART, (one, other)


def test_areas_are_paler_and_a_page_has_every_role():
    assert paler("#000000", 0.5) == "#808080"
    assert paler(ONE, 1.0) == PAPER
    assert contrast(paler(ONE, 0.6), PAPER) < contrast(ONE, PAPER)
    assert all(f"--{role}: {pair[1]};" in variables(dark=True) for role, pair in COLOURS.items())
    assert {"good", "warn", "bad", "accent", "muted"} <= TERMINAL.keys()
