"""What people and first sights wrote down beside the stores: notes, and which
machine each node is. Read whole or refused, and kept twice like the stores."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Generic, TypeVar

import msgspec

from gallant.core.errors import GallantError
from gallant.core.estate.pins import Pin, parse_pins
from gallant.core.estate.systems import Note
from gallant.core.records import clean
from gallant.disk import make_folder, put_whole
from gallant.store.copies import FOLDER, made_at

T = TypeVar("T", covariant=True)
NOTES = "notes.json"
KNOWN_NODES = "known_nodes"


@dataclass(frozen=True)
class Written(Generic[T]):
    """A file: its name, the folder of it in the estate's, how it is
    read, and why it is not taken for nothing where it cannot be."""

    name: str
    folder: str
    read: Callable[[bytes], T]
    why: str

    def path(self, estate_folder: Path) -> Path:
        return estate_folder / self.folder / self.name

    def copy(self, estate_folder: Path) -> Path:
        return estate_folder / "state" / FOLDER / self.name


def _read_pins(raw: bytes) -> dict[str, Pin]:
    return parse_pins(raw.decode("utf-8"))


NOTES_FILE = Written(
    NOTES,
    "state",
    msgspec.json.Decoder(list[Note]).decode,
    "What was noted is asked for by plans and checks, and is not taken for nothing.",
)
NODES_FILE = Written(
    KNOWN_NODES, "", _read_pins, "It says which machine each node is; nobody is believed anew for want of it."
)
FILES: tuple[Written[object], ...] = (NOTES_FILE, NODES_FILE)


def read(file: Written[T], estate_folder: Path) -> T | None:
    """What is written there; None where there never was such a file. Raises
    `GallantError` where it cannot be read, or is gone and has a copy."""
    path = file.path(estate_folder)
    try:
        return file.read(path.read_bytes())
    except (FileNotFoundError, NotADirectoryError):  # a file in the folder's place is told by what needs the folder
        if copy_made(file, estate_folder) is None:
            return None
        raise GallantError(f"{path} is gone.", file.why, _way_back(file, estate_folder)) from None
    except (OSError, msgspec.MsgspecError, ValueError) as error:
        raise GallantError(
            f"{path} cannot be read: {clean(getattr(error, 'strerror', None) or str(error), 120)}.",
            file.why,
            _way_back(file, estate_folder),
        ) from None


def _way_back(file: Written[object], estate_folder: Path) -> str:
    path, told = file.path(estate_folder), copy_made(file, estate_folder)
    if told is not None:
        return (
            f"gallant doctor --mend brings back its copy of {told:%Y-%m-%d %H:%M}Z, and keeps the damaged file next"
            " to it."
        )
    return f"Put it back from a backup; or keep it beside, and begin anew: mv {path} {path}.damaged"


def copy_made(file: Written[object], estate_folder: Path) -> datetime | None:
    """When the copy of a file was made; None where there is none that can be read."""
    copy = file.copy(estate_folder)
    try:
        file.read(copy.read_bytes())
    except (OSError, msgspec.MsgspecError, ValueError):
        return None
    return made_at(copy)


def keep_copy(file: Written[object], estate_folder: Path) -> None:
    """Keep a file twice as it is now, which can be read. Raises `GallantError`."""
    copy = file.copy(estate_folder)
    try:
        raw = file.path(estate_folder).read_bytes()
        file.read(raw)
        make_folder(copy.parent)
        put_whole(copy, raw)
    except (OSError, msgspec.MsgspecError, ValueError) as error:
        raise GallantError(
            f"No copy of {file.name} could be made: {clean(getattr(error, 'strerror', None) or str(error), 120)}.",
            next="Look at the free space and at the rights of state/copies; then: gallant doctor",
        ) from None


def bring_back(file: Written[object], estate_folder: Path) -> Path:
    """Put a file's copy in its place; gives where the damaged one is kept. Raises OSError."""
    path = file.path(estate_folder)
    aside = path.with_name(f"{path.name}.damaged-{datetime.now(UTC):%Y%m%d-%H%M%S}")
    raw = file.copy(estate_folder).read_bytes()
    with contextlib.suppress(FileNotFoundError):
        os.replace(path, aside)
    put_whole(path, raw)
    return aside
