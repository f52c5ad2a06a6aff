"""How a note is shown wherever it belongs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gallant.views.ground.words import (
    BOLD,
    DIM,
    OFF,
    mark,
    plain,
)

if TYPE_CHECKING:
    from gallant.core.estate.systems import Note


def note_line(note: Note) -> str:
    """The site's own word, with whose it is and when."""
    when = f", {note.date:%Y-%m-%d}" if note.date else ""
    return (
        f"{mark('note')} {BOLD}your own note{OFF} on {plain(note.about)}: {plain(note.text)}"
        f" {DIM}({plain(note.by)}{when}){OFF}"
    )
