"""An estate that a group works on: whose members may do what its owner may, but for secrets, which stay each one's own.

All that is made in a group's folder is the group's (setgid); here that
is brought about, and what does not have those rights is found.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from gallant.core.errors import GallantError
from gallant.disk import OF_GROUP
from gallant.drivers.ssh import KNOWN_HOSTS
from gallant.operations.ground.rights import HANDS, SECRETS, held
from gallant.operations.ground.workplace import ESTATE_FILE, Workplace
from gallant.operations.ground.written import KNOWN_NODES
from gallant.people import account_name
from gallant.store.hands import READABLE

WORKED = ("state", "plans", "stock", "backups")  # folders that Gallant keeps there
READ = (ESTATE_FILE, KNOWN_NODES, KNOWN_HOSTS)
WRITTEN_BY_PEOPLE = (".yaml", ".yml", ".ics")
OWN_HANDS = OF_GROUP.folder | stat.S_ISVTX  # each takes away their own alone


def worked_with(place: Workplace) -> Iterator[Path]:
    """What the members of a group need: the estate's folder, what Gallant keeps there, and what people write and name
    there; each folder before what is in it. No secret."""
    folder = place.folder
    own = {path.resolve() for path in place.secret_files()}
    every = [folder, *_written(folder), *(path for path in place.named_files() if path.is_relative_to(folder))]
    copies = (
        copy.to for copy in place.estate.backups.copies if copy.is_folder and (folder / copy.to).is_relative_to(folder)
    )
    for name in (*WORKED, *copies):
        every += [folder / name, *sorted((folder / name).rglob("*"))]
    above = (up for path in every for up in reversed(path.parents) if up.is_relative_to(folder))
    for path in sorted({*above, *every}):
        is_own = path.resolve() in own or path.is_relative_to(folder / SECRETS)
        if not is_own and not path.is_symlink() and path.exists():
            yield path


def _written(folder: Path) -> Iterator[Path]:
    for top, folders, files in os.walk(folder, followlinks=False):
        here = Path(top)
        if here == folder:
            folders[:] = [name for name in folders if not name.startswith(".") and name not in (*WORKED, SECRETS)]
        yield from (here / name for name in files if name.endswith(WRITTEN_BY_PEOPLE) or name in READ)


def not_the_groups(place: Workplace, gid: int) -> list[Path]:
    """What a member of a group could not work with as it is."""
    return [path for path in worked_with(place) if not _is_the_groups(path, path.lstat(), gid, place.folder)]


def _is_the_groups(path: Path, found: os.stat_result, gid: int, folder: Path) -> bool:
    theirs = found.st_gid == gid or path.parent == folder / HANDS
    return theirs and stat.S_IMODE(found.st_mode) == _wanted(path, found, folder)


def _wanted(path: Path, found: os.stat_result, folder: Path) -> int:
    if path == folder / HANDS:
        return OWN_HANDS
    if path.parent == folder / HANDS:
        return READABLE
    if stat.S_ISDIR(found.st_mode):
        return OF_GROUP.folder
    return OF_GROUP.file | (stat.S_IMODE(found.st_mode) & stat.S_IXUSR)  # a command that somebody keeps there stays one


def give_to_group(place: Workplace, gid: int) -> int:
    """Make an estate a group's, or what of it is not; gives how many files and folders were changed. Raises
    `GallantError` for the first that is another's to give, having changed those before it."""
    hands = place.folder / HANDS
    if hands.parent.is_dir():
        hands.mkdir(mode=0o700, exist_ok=True)
    changed = 0
    for path in not_the_groups(place, gid):
        with held(path, "given to the group") as (here, found):
            _refuse_anothers(path, found)
            os.chown(here, -1, gid)
            os.chmod(here, _wanted(path, found, place.folder))
        changed += 1
    return changed


def _refuse_anothers(path: Path, found: os.stat_result) -> None:
    if os.geteuid() not in (0, found.st_uid):
        raise GallantError(
            f"{path} belongs to {account_name(found.st_uid)}, who alone can give it to a group.",
            "What came before it has been given.",
            "sudo gallant doctor --mend gives all of it",
        )


def begin_for_group(folder: Path, gid: int) -> None:
    """Make a folder a group's before anything is in it, with the place
    for what each account notes of its own. Raises OSError."""
    for path, mode in ((folder, OF_GROUP.folder), (folder / "state", OF_GROUP.folder), (folder / HANDS, OWN_HANDS)):
        path.mkdir(mode=0o700, parents=path == folder, exist_ok=True)
        os.chown(path, -1, gid)
        path.chmod(mode)
