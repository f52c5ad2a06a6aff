"""Aims: which release a system should run, as a rule over its product's releases.

An aim never chooses a recalled release; what it passes over it can name, each with the reason.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from gallant.core.records import Record

if TYPE_CHECKING:
    from gallant.core.catalog import Product, Release

_SETTLED = re.compile(r"settled (\d{1,4})d", re.ASCII)
_PIN = re.compile(r"pin (\S.*)")


class ParsedAim(Record):
    """`kind` is `newest`, `settled` (with `days`) or `pin` (with `version`)."""

    kind: str
    days: int = 0
    version: str = ""


class Choice(Record):
    """What an aim comes to: the release (None: nothing fits), and what was passed over with the reason."""

    release: Release | None
    passed_over: tuple[tuple[str, str], ...]


def parse_aim(text: str) -> ParsedAim:
    """Raises ValueError for a text that is no aim."""
    words = " ".join(text.split())
    if words == "newest":
        return ParsedAim(kind="newest")
    if match := _SETTLED.fullmatch(words):
        return ParsedAim(kind="settled", days=int(match[1]))
    if match := _PIN.fullmatch(words):
        return ParsedAim(kind="pin", version=match[1])
    raise ValueError(f"aim: {text!r} is no aim; write newest, settled 30d or pin 3.2.4")


def _newest(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None


def _settled(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    age = now - release.released
    if age >= timedelta(days=aim.days):
        return None
    return f"newer than the aim allows: released {max(age.days, 0)} d ago, the aim is settled {aim.days}d"


def _pin(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None if product.resolve(aim.version) == release else f"the aim is pinned to {aim.version}"


# Each says why a release is passed over, or None when it may be chosen.
RULES: dict[str, Callable[[ParsedAim, Release, Product, datetime], str | None]] = {
    "newest": _newest,
    "settled": _settled,
    "pin": _pin,
}


def choose(aim: ParsedAim, product: Product, now: datetime) -> Choice:
    """The newest release that the aim allows, and every newer one with the reason it was passed over."""
    passed: list[tuple[str, str]] = []
    for release in sorted(product.releases, key=product.key, reverse=True):
        why = release.recall.words if release.recall else RULES[aim.kind](aim, release, product, now)
        if why is None:
            return Choice(release=release, passed_over=tuple(passed))
        passed.append((release.version, why))
    return Choice(release=None, passed_over=tuple(passed))
