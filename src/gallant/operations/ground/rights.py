"""Who else can change or read what Gallant goes by: the estate's file, profiles, keys, stores, plans, backups."""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

from gallant.core.errors import GallantError
from gallant.disk import OF_GROUP, OWN, is_of_group
from gallant.people import account_name, is_member

MOST = 20_000  # files looked at
OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH
OTHERS_AT_ALL = stat.S_IRWXG | stat.S_IRWXO
SECRETS = "secrets"
PRIVATE = ("state", "backups", SECRETS)  # folders that others have no business in
HANDS = Path("state", "hands")  # what each account noted for itself
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
    """What in the estate's folder others than its owner, or than the group
    that works on it, can write, a folder before what is in it."""
    team = team_of(folder)
    return tuple(path for path in _files(folder) if _more_than(path, OTHERS_WRITE, folder, team))


def open_to_others(folder: Path) -> tuple[Path, ...]:
    """Folders with secrets in them, or with what was exported, that others can look into."""
    team = team_of(folder)
    return tuple(path for name in PRIVATE if _more_than(path := folder / name, OTHERS_AT_ALL, folder, team))


def _more_than(path: Path, looked_for: int, folder: Path, team: int | None) -> int:
    """Which of some rights others have of a file or folder of the estate."""
    try:
        found = path.lstat()
    except OSError:
        return 0
    return (
        0 if stat.S_ISLNK(found.st_mode) else found.st_mode & looked_for & most_rights(path, found.st_gid, folder, team)
    )


def most_rights(path: Path, gid: int, folder: Path, team: int | None) -> int:
    """What nobody but its owner is to have of a file or folder of the estate, of the group `gid`: of an estate that a
    group works on, the group's members are no others; but of its secrets they are."""
    return OF_GROUP.others if team == gid and not is_secret(path, folder) else OWN.others


def is_secret(path: Path, folder: Path) -> bool:
    """Whether it lies where the estate's secrets do."""
    return path.is_relative_to(folder / SECRETS)


def team_of(folder: Path) -> int | None:
    """The number of the group that works on an estate; None where it is its owner's alone."""
    return folder.stat().st_gid if is_of_group(folder) else None


def shut(path: Path, others: int = OWN.others) -> None:
    """Take from others what they can do with a file or a folder; with that itself,
    and nothing that a link in its place leads to. Raises `GallantError`."""
    with held(path, "shut") as (here, found):
        os.chmod(here, stat.S_IMODE(found.st_mode) & ~others)


@contextlib.contextmanager
def held(path: Path, what: str) -> Iterator[tuple[str, os.stat_result]]:
    """A file or folder itself, by a name that leads to nothing else, and what is known of it. Raises `GallantError`
    where that, or what is done to it, fails, and for a link."""
    try:
        handle = os.open(path, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError as error:
        raise GallantError(
            f"{path} cannot be {what}: {error.strerror}.", next="gallant doctor looks once more"
        ) from None
    try:
        found = os.fstat(handle)
        if stat.S_ISLNK(found.st_mode):
            raise GallantError(
                f"{path} is a link; what it leads to is left as it is.", next=f"Look where it leads: ls -l {path}"
            )
        yield f"/proc/self/fd/{handle}", found
    except OSError as error:
        raise GallantError(f"{path} cannot be {what}: {error.strerror}.", next="sudo gallant doctor --mend") from None
    finally:
        os.close(handle)


def owned_by_others(folder: Path) -> Iterator[Path]:
    """What in the estate's folder belongs to another than the folder, or than a member of the group that works on it;
    links are looked at themselves. What an account noted of its own entries in the ledger is its own."""
    trusted = Trusted(folder, frozenset({folder.stat().st_uid}))
    for path in _files(folder):
        with contextlib.suppress(OSError):  # it may be gone by now
            if path.parent != folder / HANDS and path.lstat().st_uid not in trusted:
                yield path


class Trusted:
    """Accounts whose files are gone by: these, and the members of the group that works on the estate."""

    def __init__(self, folder: Path, accounts: frozenset[int]) -> None:
        self._accounts, self._team = accounts, team_of(folder)

    def __contains__(self, uid: int) -> bool:
        return uid in self._accounts or (self._team is not None and is_member(uid, self._team))


def others_could_change(folder: Path, read: Iterable[Path]) -> Iterator[Path]:
    """What an estate's folder has, and what is `read` beside, that somebody else could change: it belongs to neither
    root, nor who runs this, nor the folder's owner, nor a member of the group that works on it; or others can write it;
    or either is so of a folder above it (but where each may only take away what is their own: sticky)."""
    trusted, team = Trusted(folder, frozenset({0, os.geteuid(), folder.stat().st_uid})), team_of(folder)
    for path in _files(folder):
        with contextlib.suppress(OSError):  # it may be gone by now
            if _more_than(path, OTHERS_WRITE, folder, team) or path.lstat().st_uid not in trusted:
                yield path
    for path in dict.fromkeys(above for file in (folder, *read) for above in _upwards(file)):
        if path != folder and not path.is_relative_to(folder) and _is_changeable(path, trusted):
            yield path


def _upwards(path: Path) -> Iterator[Path]:
    """A file and the folders above it, as it is called and as it is where links lead."""
    for one in (path.absolute(), path.resolve()):
        yield from (one, *one.parents)


def _is_changeable(path: Path, trusted: Trusted) -> bool:
    try:
        found = path.lstat()
    except OSError:
        return False
    if stat.S_ISLNK(found.st_mode):  # what it leads to is looked at too
        return found.st_uid not in trusted
    shared = bool(found.st_mode & stat.S_ISVTX) and found.st_uid == 0
    return found.st_uid not in trusted or (bool(found.st_mode & OTHERS_WRITE) and not shared)


def owner_of(path: Path) -> str:
    """The account that a file belongs to."""
    return account_name(path.lstat().st_uid)


def give_to(path: Path, folder: Path) -> None:
    """Have something belong to whom the folder belongs. Raises `GallantError` for anyone who may not do that."""
    owner = folder.stat()
    try:
        os.chown(path, owner.st_uid, owner.st_gid, follow_symlinks=False)
    except OSError as error:
        raise GallantError(
            f"{path} cannot be given to {owner_of(folder)}: {error.strerror}.", next="sudo gallant doctor --mend"
        ) from None
