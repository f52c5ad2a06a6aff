"""Writing to the disk, for every room that writes: for the owner alone, or for
the group whose folder it is; never through a link, whole or not at all."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import glob
import os
import secrets
import stat
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, NamedTuple

from gallant.core.errors import Refused

FULL = (errno.ENOSPC, errno.EDQUOT)
PARTIAL = ".part"
RACES = 5  # as often somebody else may take a file away at the very moment that it is opened
LEFT_AFTER_S = 3600.0  # nobody writes one file for longer
_WRITE = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC


class Rights(NamedTuple):
    """Of what is made in a folder, and what others may have of it at most."""

    file: int
    folder: int
    others: int


OWN, OF_GROUP = Rights(0o600, 0o700, 0o077), Rights(0o660, 0o2770, 0o007)


def is_of_group(folder: Path) -> bool:
    """Whether a group works in a folder: all that is made there is the
    group's (setgid), whose members may do what its owner may."""
    try:
        mode = folder.stat().st_mode
    except OSError:
        return False
    return bool(mode & stat.S_ISGID) and mode & stat.S_IRWXG == stat.S_IRWXG


def rights_in(folder: Path) -> Rights:
    """What rights files and folders have that are made in a folder."""
    return OF_GROUP if is_of_group(folder) else OWN


def shut_to_others(path: Path) -> None:
    """Take away what others have of a file or folder beyond what those have who work beside it; what is another's is
    left as it is, and told by who looks at rights. Raises OSError."""
    found = path.stat()
    more = stat.S_IMODE(found.st_mode) & (rights_in(path if path.is_dir() else path.parent).others)
    if more and os.geteuid() in (0, found.st_uid):
        path.chmod(stat.S_IMODE(found.st_mode) & ~more)


def opened(path: Path, flags: int) -> int:
    """A file's handle, made for its owner alone or for the group whose folder it is made in; what root makes is its
    folder's owner's. Raises `Refused` where a link stands in its place, else OSError."""
    flags |= os.O_NOFOLLOW | os.O_CLOEXEC
    try:
        return _made(path, flags) if flags & os.O_CREAT else os.open(path, flags)
    except OSError as error:
        if error.errno == errno.ELOOP and path.is_symlink():
            raise _link(path) from None
        raise


def _made(path: Path, flags: int) -> int:
    """A new file's handle; or, but for O_EXCL, that of the file that is there, which keeps its rights and its owner."""
    for _ in range(RACES):
        try:
            handle = os.open(path, flags | os.O_EXCL, OWN.file)
        except FileExistsError:
            if flags & os.O_EXCL:
                raise
            with contextlib.suppress(FileNotFoundError):  # taken away just now
                return os.open(path, flags & ~os.O_CREAT)
        else:
            _settled(path.parent, handle, rights_in(path.parent).file)
            return handle
    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(path))


def _settled(folder: Path, made: int | Path, mode: int) -> None:
    """Rights as in its folder, whatever the umask says; and a look that
    root had once leaves nothing that the estate's owner cannot read."""
    with contextlib.suppress(OSError):  # a medium that knows no rights
        os.chmod(made, mode)
        owner = folder.stat()
        if os.geteuid() == 0 and owner.st_uid != 0:
            os.chown(made, owner.st_uid, owner.st_gid)


def make_file(path: Path) -> None:
    """An empty file where there is none, for somebody else who opens it by its name."""
    os.close(opened(path, os.O_WRONLY | os.O_CREAT))


def refuse_link(path: Path) -> None:
    """Raise `Refused` where a link stands in the place of a file that somebody else opens by its name."""
    if path.is_symlink():
        raise _link(path)


def _link(path: Path) -> Refused:
    return Refused(
        f"{path} is a link; nothing is written through it.",
        "Anyone who laid it there could have any file of yours overwritten.",
        f"Look at where it leads, and take it away: rm {path}",
    )


def writing(path: Path) -> IO[bytes]:
    """A file to be written anew."""
    return os.fdopen(opened(path, _WRITE | os.O_TRUNC), "wb")


def appending(path: Path) -> IO[bytes]:
    """A file to be added to."""
    return os.fdopen(opened(path, _WRITE | os.O_APPEND), "ab")


def make_folder(path: Path) -> None:
    """A folder, with those above it, for its owner alone or for the group whose folder it is made in; one that is there
    stays as it is. Raises OSError, also where a file stands in its place."""
    missing = [p for p in (path, *path.parents) if not p.exists()]
    for folder in reversed(missing):
        folder.mkdir(mode=OWN.folder, exist_ok=True)
        _settled(folder.parent, folder, rights_in(folder.parent).folder)
    if not path.is_dir():
        raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(path))


def put_whole(path: Path, raw: bytes) -> None:
    """A file, whole under its name or not there at all, on the disk when this returns. A link there is replaced
    itself."""
    with replacing(path) as file:
        file.write(raw)


@contextlib.contextmanager
def replacing(path: Path, check: Callable[[Path], None] = lambda partial: None) -> Iterator[IO[bytes]]:
    """A new file under a name that nobody could have laid there, which takes the place of
    another once it is whole and on the disk, and `check` has nothing against it. Where
    that fails, on a full disk too, nothing of it is left and what was there stays."""
    _clear(path)
    partial = path.with_name(f".{path.name[:200]}.{secrets.token_hex(8)}{PARTIAL}")
    try:
        with os.fdopen(opened(partial, _WRITE | os.O_EXCL), "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        check(partial)
        os.replace(partial, path)
    except BaseException:
        with contextlib.suppress(OSError):
            partial.unlink()
        raise
    sync_folder(path.parent)


def _clear(path: Path) -> None:
    """What processes that were killed left of the same file."""
    for left in path.parent.glob(f".{glob.escape(path.name[:200])}.*{PARTIAL}"):
        with contextlib.suppress(OSError):
            if time.time() - left.lstat().st_mtime > LEFT_AFTER_S:
                left.unlink()


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """While this lasts no other process has the lock of that file; it is waited for."""
    handle = opened(path, os.O_RDWR | os.O_CREAT)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def why_not(error: OSError, path: Path) -> str:
    """Why a file could not be written, in words for a person: of a disk that is full or read-only, which one, since the
    system's words for that (no space left on device) are of no device that anybody looks after."""
    if error.errno in FULL:
        return f"the disk at {mounted_at(path)} is full"
    if error.errno == errno.EROFS:
        return f"the disk at {mounted_at(path)} is mounted read-only"
    return error.strerror or str(error)


def mounted_at(path: Path) -> Path:
    """Where the disk is mounted that a file lies on, or would."""
    there = next((p for p in (path.absolute(), *path.absolute().parents) if p.exists()), Path("/"))
    return next((p for p in (there, *there.parents) if p.is_mount()), Path("/"))


def sync_folder(folder: Path) -> None:
    """What was renamed or linked in a folder is on the disk when this returns."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
