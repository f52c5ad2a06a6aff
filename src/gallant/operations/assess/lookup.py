"""What is known of a message: in catalogs, in the estate's own
notes and in earlier rolls; and a note of what was learned."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress

import msgspec

from gallant.core.assess.lookup import Known, Match, find_any
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import Note
from gallant.core.records import clean
from gallant.core.work.events import ANSWERED, RESUMED, STOPPED, Entry
from gallant.disk import locked, put_whole, why_not
from gallant.operations.ground.workplace import Workplace
from gallant.operations.ground.written import NOTES, NOTES_FILE, keep_copy
from gallant.store.database import state_folder

LONGEST = 2000
MOST_ROLLS = 200


def look_up(place: Workplace, text: str, most: int = 5, but: str | None = None) -> list[Match]:
    """What is most like a text, best first. `but` is a roll that is not looked at: its own."""
    if not text.strip():
        raise WrongUse("Write the words of the message.", next='gallant catalog find "the replica never gets whole"')
    names = [*place.estate.systems, *(f"{s.name}/{n}" for s in place.estate.systems.values() for n in s.nodes)]
    known = [*_published(place), *_noted(place), *_rolled(place, but)]
    return find_any([clean(line, LONGEST) for line in text.splitlines()], known, names, most)


def _published(place: Workplace) -> Iterator[Known]:
    for product in place.products.values():
        for release in product.releases:
            about = f"{product.name} {release.version}"
            for issue in release.issues:
                yield Known(source="known issue", about=about, text=issue.text)
            if release.recall is not None:
                yield Known(source="recall", about=about, text=release.recall.words)


def _noted(place: Workplace) -> Iterator[Known]:
    for note in place.estate.notes:
        yield Known(
            source="note",
            about=note.about,
            text=note.text,
            by=f"{note.by}{f', {note.date:%Y-%m-%d}' if note.date else ''}",
        )


def _rolled(place: Workplace, but: str | None) -> Iterator[Known]:
    """Each stop of an earlier roll, and how it went on."""
    for row in place.journal.rolls(most=MOST_ROLLS)[0]:
        if row.id == but:
            continue
        with suppress(GallantError):
            events = [event.entry for event in place.journal.events(row.id)]
            for number, entry in enumerate(events):
                if entry.kind == STOPPED:
                    helped = _what_helped(events[number + 1 :])
                    yield Known(source="roll", about=row.id, text=entry.message, helped=helped)


def _what_helped(after: Sequence[Entry]) -> str:
    """What a person said of a stop, else who had the roll go on."""
    said = next((entry.message for entry in after if entry.kind == ANSWERED), "")
    resumed = next((entry for entry in after if entry.kind == RESUMED), None)
    return said or (f"resumed by {resumed.by} on {resumed.at:%Y-%m-%d %H:%M}" if resumed else "")


def add_note(place: Workplace, about: str, text: str) -> Note:
    """Keep what was learned of a product, a hop or a system, with
    who and when. Raises `WrongUse` for what nobody knows."""
    product = about.partition(" ")[0]
    if product not in place.products and about not in place.estate.systems:
        raise WrongUse(
            f"{clean(about, 80)!r} is about no product that a catalog lists, and no system.",
            next='gallant note add "ostrel/shoal 2.8.5 > 2.11.3" TEXT, or a system\'s name',
        )
    if not text.strip():
        raise WrongUse("A note has words.", next=f'gallant note add "{clean(about, 80)}" TEXT')
    note = Note(about=about, text=clean(text, LONGEST), by=place.user, date=place.clock.now())
    path = state_folder(place.folder) / NOTES
    try:
        with locked(path.with_suffix(".lock")):
            put_whole(path, msgspec.json.encode([*place.notes_now(), note]))
            with suppress(GallantError):  # the note is kept; gallant doctor tells of the copy
                keep_copy(NOTES_FILE, place.folder)
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    return note
