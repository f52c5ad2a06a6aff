"""Where a field may stand in a shell command (POSIX.1-2017, Shell Command Language, 2.2 and 2.3).

What is filled in is one quoted word. That holds only where the shell reads words: inside
other quotes, behind a backslash, in a comment, in a here-document or where a text is
read a second time, the quotes mean something else and the value is a command.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

_FIELD = re.compile(r"\{([a-z_0-9]+)\}")
# What reads its words once more: as commands, or as an expression in which an index may be a command.
_AGAIN = re.compile(r"(?:^|[\s;&|(])(eval|let|\[\[|[a-z]*sh(?:\s+-\S+)*\s+-[a-z]*c)(?=\s)")
_PLACES = {"'": "inside quotes", '"': "inside quotes", "`": "inside backquotes"}


def misplaced(command: str) -> Iterator[tuple[str, str]]:
    """Each field that must not stand where it stands, and where that is."""
    again = _AGAIN.search(command)
    here = command.find("<<")
    for name, at, place in _places(command):
        if place is not None:
            yield name, place
        elif 0 <= here < at:
            yield name, "in a here-document"
        elif again is not None and again.end() <= at:
            yield name, f"behind {again[1].split()[0]}, which reads it a second time"


def _places(command: str) -> Iterator[tuple[str, int, str | None]]:
    """Each field, its position, and in what it stands; None where it is a word, or a part of one."""
    inside, at = "", 0
    while at < len(command):
        character = command[at]
        field = _FIELD.match(command, at)
        if field is not None:
            yield field[1], at, _PLACES.get(inside) or ("in a comment" if inside else None)
            at = field.end()
        elif character == "\\" and inside != "'":
            behind = _FIELD.match(command, at + 1)
            if behind is not None:
                yield behind[1], at + 1, "behind a backslash"
            at = at + 2 if behind is None else behind.end()
        elif inside:
            over = "\n" if inside == "#" else inside
            inside = "" if character == over else inside
            at += 1
        elif command.startswith("((", at):
            end = command.find("))", at)
            for inner in _FIELD.finditer(command, at, end if end >= 0 else len(command)):
                yield inner[1], inner.start(), "in arithmetic"
            at = end + 2 if end >= 0 else len(command)
        else:
            word_begins = at == 0 or command[at - 1] in " \t\n;&|("
            inside = character if character in _PLACES or (character == "#" and word_begins) else ""
            at += 1
