"""Who else can change or read what Gallant goes by: the estate's file, profiles, keys, stores, plans, backups."""

from __future__ import annotations

import contextlib
import os
import pwd
import stat
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path

from gallant.core.errors import GallantError

MOST = 20_000  # files looked at
OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH
OTHERS_AT_ALL = stat.S_IRWXG | stat.S_IRWXO
PRIVATE = ("state", "backups", "secrets")  # folders that others have no business in
BULK = ("stock",)  # packages: each is verified whenever it is used


def _files(folder: Path) -> Iterator[Path]:
    """The folder and what is in it; links are not gone after, and of the packages the folder alone is looked at."""
    yield folder
    seen = 0
    for top, folders, files in os.walk(folder, followlinks=False):
        here = Path(top)
        if here == folder:
            folders[:] = [name for name in folders if not name.startswith(".git")]
        elif here.parent == folder and here.name in BULK:
            folders[:], files = [], []
        for name in (*folders, *files):
            seen += 1
            if seen > MOST:
                return
            yield here / name


def writable_by_others(folder: Path) -> tuple[Path, ...]:
    """What in the estate's folder others than its owner can write, a folder before what is in it."""
    return tuple(path for path in _files(folder) if _mode(path) & OTHERS_WRITE)


def open_to_others(folder: Path) -> tuple[Path, ...]:
    """Folders with secrets in them, or with what was exported, that others can look into."""
    return tuple(path for name in PRIVATE if _mode(path := folder / name) & OTHERS_AT_ALL)


def _mode(path: Path) -> int:
    try:
        found = path.lstat().st_mode
    except OSError:
        return 0
    return 0 if stat.S_ISLNK(found) else stat.S_IMODE(found)


def shut(path: Path) -> None:
    """Take from others what they can do with a file or a folder; with that itself, and nothing that a link in its place leads to. Raises `GallantError`."""
    try:
        handle = os.open(path, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError as error:
        raise GallantError(f"{path} cannot be shut: {error.strerror}.", next="gallant doctor looks once more") from None
    try:
        found = os.fstat(handle).st_mode
        if stat.S_ISLNK(found):
            raise GallantError(
                f"{path} is a link; what it leads to is left as it is.", next=f"Look where it leads: ls -l {path}"
            )
        os.chmod(f"/proc/self/fd/{handle}", stat.S_IMODE(found) & ~OTHERS_AT_ALL)
    except OSError as error:
        raise GallantError(f"{path} cannot be shut: {error.strerror}.", next="sudo gallant doctor --mend") from None
    finally:
        os.close(handle)


def owned_by_others(folder: Path) -> Iterator[Path]:
    """What in the estate's folder belongs to another than the folder; links are looked at themselves."""
    yield from _not_of(folder, {folder.stat().st_uid})


def _not_of(folder: Path, owners: Collection[int]) -> Iterator[Path]:
    for path in _files(folder):
        with contextlib.suppress(OSError):  # it may be gone by now
            if path.lstat().st_uid not in owners:
                yield path


def others_could_change(folder: Path, read: Iterable[Path]) -> Iterator[Path]:
    """What an estate's folder has, and what is `read` beside, that somebody else could change: it belongs to neither root, nor who runs this, nor the
    folder's owner; or others can write it; or either is so of a folder above it (but where each may only take away what is their own: sticky)."""
    trusted = {0, os.geteuid(), folder.stat().st_uid}
    yield from writable_by_others(folder)
    yield from _not_of(folder, trusted)
    for path in dict.fromkeys(above for file in (folder, *read) for above in _upwards(file)):
        if path != folder and not path.is_relative_to(folder) and _is_changeable(path, trusted):
            yield path


def _upwards(path: Path) -> Iterator[Path]:
    """A file and the folders above it, as it is called and as it is where links lead."""
    for one in (path.absolute(), path.resolve()):
        yield from (one, *one.parents)


def _is_changeable(path: Path, trusted: Collection[int]) -> bool:
    try:
        found = path.lstat()
    except OSError:
        return False
    if stat.S_ISLNK(found.st_mode):  # what it leads to is looked at too
        return found.st_uid not in trusted
    shared = bool(found.st_mode & stat.S_ISVTX) and found.st_uid == 0
    return found.st_uid not in trusted or (bool(found.st_mode & OTHERS_WRITE) and not shared)


def owner_of(path: Path) -> str:
    uid = path.lstat().st_uid
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return f"user {uid}"


def give_to(path: Path, folder: Path) -> None:
    """Have something belong to whom the folder belongs. Raises `GallantError` for anyone who may not do that."""
    owner = folder.stat()
    try:
        os.chown(path, owner.st_uid, owner.st_gid, follow_symlinks=False)
    except OSError as error:
        raise GallantError(
            f"{path} cannot be given to {owner_of(folder)}: {error.strerror}.", next="sudo gallant doctor --mend"
        ) from None
