"""Files that people write, and what they turn into: what is wrong with them, which kinds of device there are, what is
printed to be written."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.rows import ListRow
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, DIM, OFF, plain, said

if TYPE_CHECKING:
    from gallant.operations.setup.files import DeviceKind, Validated
    from gallant.operations.setup.timers import UnitFile


class FileRow(ListRow):
    """A file that was written."""

    file: str


class IdentityRow(ListRow):
    """A new identity, and what is encrypted to so that it opens it."""

    file: str
    recipient: str


class SudoersRow(ListRow):
    """Rights of an account, as they are written for sudo."""

    user: str
    text: str


PROFILES: Listed[DeviceKind] = Listed("profiles", "profiles", headings={"what it gives": "gives"})
VALIDATED: Listed[Validated] = Listed("validate", "validate")
WRITTEN: Listed[FileRow] = Listed("init", "init")
IDENTITY: Listed[IdentityRow] = Listed("init", "init --identity")
UNITS: Listed[UnitFile] = Listed("init", "init --timer")
SUDOERS: Listed[SudoersRow] = Listed("sudoers", "init --sudoers")


def profiles_view(kinds: Sequence[DeviceKind]) -> View:
    def text() -> Drawn:
        shown = table("profile", "driver", "product", "what it gives")
        for kind in kinds:
            shown.add_row(f"{BOLD}{plain(kind.profile)}{OFF}", kind.driver, plain(kind.product), ", ".join(kind.gives))
        yield shown
        yield from next_steps("gallant survey --profile NAME|FILE --address ADDRESS tries one on a device")

    return PROFILES.view(list(kinds), text)


def validated_view(rows: Sequence[Validated]) -> View:
    def text() -> Drawn:
        for r in rows:
            if r.problems:
                yield from (plain(p) for p in r.problems)
            else:
                yield f"{said('good', r.file)}  {DIM}{r.kind}{OFF}"
                if r.gives:
                    yield f"  gives {', '.join(r.gives)}"

    return VALIDATED.view(rows, text)
