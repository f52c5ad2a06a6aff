"""Reading archives that anybody may have made: headers of a size that archives have, and what can be wrong with one."""

from __future__ import annotations

import tarfile

# POSIX.1-2017, pax: an extended header is names, sizes and times of
# one member; ours and those of tar(1) have some hundred bytes.
LARGEST_HEADER = 1024 * 1024
LARGEST_MEMBER = 64 * 1024 * 1024 * 1024  # as the largest export of a device
# A stream is read on to a member's end in pieces of this size, also where it ended long before.
STRIDE = 1024 * 1024
EXTENDED = (
    tarfile.XHDTYPE,
    tarfile.XGLTYPE,
    tarfile.SOLARIS_XHDTYPE,
    tarfile.GNUTYPE_LONGNAME,
    tarfile.GNUTYPE_LONGLINK,
)
# What the library raises for headers that are not in form: its own class, and what its parsing of numbers, names and
# chains of headers comes to.
BROKEN: tuple[type[Exception], ...] = (
    tarfile.TarError,
    EOFError,
    ValueError,
    ArithmeticError,
    LookupError,
    TypeError,
    AttributeError,
    RecursionError,
)


class Modest(tarfile.TarInfo):
    """A member of an archive that is opened with `tarinfo=Modest`:
    an extended header is read whole only where it is small."""

    def _proc_member(self, archive: tarfile.TarFile) -> tarfile.TarInfo:
        if self.type in EXTENDED and not 0 <= self.size <= LARGEST_HEADER:
            raise tarfile.ReadError(f"a header of {self.size:,} bytes")
        found: tarfile.TarInfo = super()._proc_member(archive)  # type: ignore[misc]
        return self._modest(found)

    def _modest(self, found: tarfile.TarInfo) -> tarfile.TarInfo:
        """A member whose size, which an extended header may say otherwise, is one."""
        if not 0 <= found.size <= LARGEST_MEMBER:
            raise tarfile.ReadError("a member of a size that none has")
        return found

    def _proc_builtin(self, archive: tarfile.TarFile) -> tarfile.TarInfo:
        self._modest(self)
        return super()._proc_builtin(archive)  # type: ignore[misc,no-any-return]
