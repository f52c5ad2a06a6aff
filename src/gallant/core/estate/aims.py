"""Aims: which release a system should run, as a rule over its product's releases.

An aim never chooses a recalled release; what it passes over it can name, each with the reason.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from functools import lru_cache
from typing import TYPE_CHECKING

from gallant.core.records import Record

if TYPE_CHECKING:
    from gallant.core.catalog.products import Bundle, Product, Release

# Names of releases mean something for one product alone; an aim with one does not bind a node's other products.
NAMES_A_RELEASE = ("pin", "train")


class ParsedAim(Record):
    """`kind` is a key of `RULES`; `number` are the days of settled,
    the releases of behind and of after; `name` the rest."""

    kind: str
    number: int = 0
    name: str = ""


# How each aim is written, and what of it is its number and its name.
_FORMS: dict[str, re.Pattern[str]] = {
    "newest": re.compile(r"newest"),
    "settled": re.compile(r"settled (?P<number>\d{1,4})d", re.ASCII),
    "behind": re.compile(r"behind (?P<number>\d{1,2})", re.ASCII),
    "train": re.compile(r"train (?P<name>\S.*)"),
    "after": re.compile(r"after (?P<number>\d{1,2}) in train", re.ASCII),
    "security": re.compile(r"security"),
    "pin": re.compile(r"pin (?P<name>\S.*)"),
    "bundle": re.compile(r"bundle (?P<name>\S.*)"),
}


class Choice(Record):
    """What an aim comes to: the release (None: nothing fits), and what was passed over with the reason.

    `refused` says why the aim cannot be kept although a release fits it.
    """

    release: Release | None
    passed_over: tuple[tuple[str, str], ...]
    refused: str | None = None


@lru_cache(maxsize=4096)
def parse_aim(text: str) -> ParsedAim:
    """Raises ValueError for a text that is not an aim."""
    words = " ".join(text.split())
    for kind, form in _FORMS.items():
        if match := form.fullmatch(words):
            found = match.groupdict()
            return ParsedAim(kind=kind, number=int(found.get("number") or 0), name=found.get("name") or "")
    raise ValueError(
        f"aim: {text!r} is not an aim; write newest, settled 30d, behind 1, train 5.1, after 3 in train, security, pin"
        " 3.2.4 or bundle NAME"
    )


def _newest(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None


def _settled(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    age = now - release.released
    if age >= timedelta(days=aim.number):
        return None
    return f"newer than the aim allows: released {max(age.days, 0)} d ago, the aim is settled {aim.number}d"


def _behind(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    newer = sum(product.key(r) > product.key(release) for r in product.releases if r.recall is None)
    return (
        None
        if newer >= aim.number
        else f"the aim stays {aim.number} behind, and {newer or 'none'} newer {'is' if newer < 2 else 'are'} out"
    )


def _train(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return (
        None
        if release.train == aim.name
        else f"it belongs to the train {release.train or '(none)'}, the aim is {aim.name}"
    )


def _after(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    """A train is taken once so many of its releases are out before this one."""
    older = sum(
        r.train == release.train and product.key(r) < product.key(release) for r in product.releases if r.recall is None
    )
    return None if older >= aim.number else f"only {older} of its train came before it, the aim waits for {aim.number}"


def _security(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None if release.security else "it closes no hole, and the aim moves for security alone"


def _pin(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None if product.resolve(aim.name) == release else f"the aim is pinned to {aim.name}"


def _bundle(aim: ParsedAim, release: Release, product: Product, now: datetime) -> str | None:
    return None if product.resolve(aim.name) == release else f"the bundle has {aim.name or 'no release of it'}"


def find_bundle(name: str, bundles: Sequence[Bundle]) -> Bundle | None:
    """The bundle of that name; `newest` is the one released last that is not recalled."""
    if name == "newest":
        good = [b for b in bundles if b.recall is None]
        return max(good, key=lambda b: (b.released, b.name), default=None)
    return next((b for b in bundles if b.name == name), None)


def binds(aim: str, product: str, own: bool, bundles: Sequence[Bundle]) -> bool:
    """Whether an aim says anything of a product; `own` is whether it is what the system itself runs.

    An aim that binds nothing leaves the word to the next less specific one.
    """
    parsed = parse_aim(aim)
    if parsed.kind == "bundle":
        found = find_bundle(parsed.name, bundles)
        return own if found is None else found.version_of(product) is not None
    return own or parsed.kind not in NAMES_A_RELEASE


# Each says why a release is passed over, or None when it may be chosen.
RULES: dict[str, Callable[[ParsedAim, Release, Product, datetime], str | None]] = {
    "newest": _newest,
    "settled": _settled,
    "behind": _behind,
    "train": _train,
    "after": _after,
    "security": _security,
    "pin": _pin,
    "bundle": _bundle,
}


@lru_cache(maxsize=65536)
def subject_of(text: str) -> str:
    """What an aim is for, as it is compared: as terms are, without regard to case."""
    return text.casefold()


def choose(aim: ParsedAim, product: Product, now: datetime, bundles: Sequence[Bundle] = ()) -> Choice:
    """The newest release that the aim allows, and every newer one with the reason it was passed over.

    Where an updater runs on past the release that the aim comes to, the aim is refused: it cannot be kept.
    """
    if aim.kind == "bundle":
        bundle = find_bundle(aim.name, bundles)
        if bundle is None:
            return Choice(release=None, passed_over=(), refused=f"no catalog here has a bundle {aim.name!r}")
        if bundle.recall is not None:
            return Choice(release=None, passed_over=(), refused=f"the bundle {bundle.name} was {bundle.recall.words}")
        aim = ParsedAim(kind="bundle", name=bundle.version_of(product.name) or "")
    passed: list[tuple[str, str]] = []
    for _, release in reversed(product.ascending):
        why = release.recall.words if release.recall else RULES[aim.kind](aim, release, product, now)
        if why is None:
            return Choice(release=release, passed_over=tuple(passed), refused=runs_on(release, product))
        passed.append((release.version, why))
    return Choice(release=None, passed_over=tuple(passed))


def runs_on(release: Release, product: Product) -> str | None:
    """Why nothing can be stopped at a release: its updater goes on to a later one. None where it stops."""
    if release.stops_here:
        return None
    later = [r.version for k, r in product.ascending if k > product.key(release) and r.stops_here and r.recall is None]
    return f"its updater does not stop there; it runs on to {later[-1] if later else 'whatever is newest then'}"
