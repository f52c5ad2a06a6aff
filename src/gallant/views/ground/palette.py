"""The colours of all that Gallant shows, each by what it says; terminal, pages and figures take them from here.

Chosen in OKLCH (Ottosson 2020) around one blue-green hue. Held by tests: text keeps the contrast of WCAG 2.2, 1.4.3
(4.5 : 1) on paper and on bands, light and dark; roles stay apart for those who do not see red, green or blue (Machado
2009). Colour never carries a meaning alone: a symbol, a word or a hatching stands beside it.
"""

from __future__ import annotations

# role: on light ground, on dark ground
COLOURS = {
    "text": ("#182a2e", "#dfeaed"),
    "muted": ("#485f65", "#9aafb5"),
    "good": ("#187969", "#88ead2"),
    "warn": ("#965d14", "#f5bc69"),
    "bad": ("#8f0a38", "#f67c8e"),
    "accent": ("#563e98", "#b3a3f7"),
    "paper": ("#ffffff", "#0d191c"),
    "band": ("#edf4f6", "#17272b"),
    "line": ("#bbcbcf", "#384b50"),
}
TEXT, MUTED, GOOD, WARN, BAD, ACCENT, PAPER, BAND, LINE = (light for light, _ in COLOURS.values())
# Two series of a figure, which is always drawn on light paper.
ONE, TWO = "#2f8cad", "#d6aa49"

# A terminal's ground and its sixteen colours are the reader's own choice, so there a role is one of those, by its name.
TERMINAL = {
    "good": "green",
    "warn": "yellow",
    "bad": "bold red",
    "accent": "cyan",
    "muted": "dim",
    "going": "bold cyan",
    "odd": "magenta",
}


def paler(colour: str, share: float) -> str:
    """A colour mixed with that share (0 to 1) of paper, for areas."""
    mixed = (round(int(colour[at : at + 2], 16) * (1 - share) + 255 * share) for at in (1, 3, 5))
    return "#" + "".join(f"{part:02x}" for part in mixed)


def variables(dark: bool = False) -> str:
    """The colours as a page's custom properties (CSS Custom Properties for Cascading Variables, Level 1)."""
    return " ".join(f"--{role}: {pair[dark]};" for role, pair in COLOURS.items())
