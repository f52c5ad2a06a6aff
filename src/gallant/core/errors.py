"""Errors written for the person who reads them: what failed, why, and what to do next.

The class of an error decides the exit code and nothing else does; a command never chooses one itself.
"""

from __future__ import annotations

from collections.abc import Callable

# Where several apply, the first of these that holds is the exit code of the whole run.
PRECEDENCE = (2, 5, 4, 3, 1, 0)


def worst_exit(codes: list[int]) -> int:
    """The one exit code that stands for several, by `PRECEDENCE`."""
    return next((code for code in PRECEDENCE if code in codes), 0)


class GallantError(Exception):
    """Something that went wrong, in words: `what` failed and where, `why`, and what to do `next`. `cause` is a few
    words that the same failure has at every node."""

    exit_code = 4
    cause = ""

    def __init__(self, what: str, why: str | None = None, next: str | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.why = why
        self.next = next

    def reword(self, words: Callable[[str], str]) -> None:
        """Put each of its texts as `words` has it."""
        self.what, self.why, self.next = (
            words(self.what),
            self.why and words(self.why),
            self.next and words(self.next),
        )
        self.args = (self.what,)

    def __str__(self) -> str:
        return "\n".join(part for part in (self.what, self.why, self.next) if part)


class WrongUse(GallantError):
    """The command line or a file is wrong."""

    exit_code = 2


class Unreached(GallantError):
    """A node or publisher could not be reached, or did not let us in."""

    exit_code = 3


class Stopped(GallantError):
    """Work was stopped or held part-way."""

    exit_code = 4


class Refused(GallantError):
    """Gallant will not do this, for safety."""

    exit_code = 5
