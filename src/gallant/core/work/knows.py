"""What a profile says that its devices do by themselves: how they return, whom an order reaches, what becomes of
guests."""

from __future__ import annotations

from typing import Annotated

import msgspec

from gallant.core.records import Record
from gallant.core.versions import parse_range

# The stages in which a node comes back.
STAGES = ANSWERS, SERVES, LINKS, IN_SYNC = "answers", "serves", "links", "in sync"
Within = Annotated[float, msgspec.Meta(gt=0, le=86400)] | None


class Returns(Record):
    """For how long each part of a node's return may take, in seconds of estate time, by its
    profile (None: it does not say): until it `answers` after an order that takes it away, is in
    service (`serves`) after that, has the `links` up again that were, and is `in_sync`."""

    answers_within_s: Within = None
    serves_within_s: Within = None
    links_within_s: Within = None
    in_sync_within_s: Within = None

    def of(self, stage: str) -> float | None:
        known = {ANSWERS: self.answers_within_s, SERVES: self.serves_within_s, LINKS: self.links_within_s}
        return known.get(stage, self.in_sync_within_s if stage == IN_SYNC else None)

    @property
    def longest_s(self) -> float:
        return max((s for s in map(self.of, STAGES) if s is not None), default=0.0)


ONE, ALL = "one", "all"  # whom an order reaches


# What becomes of the guests of a node that is emptied: they run on elsewhere,
# are started anew elsewhere, or are down until it takes them again.
MOVE, ELSEWHERE, STAY = GUESTS = ("move", "restart", "stay")


class Migration(Record):
    """What bringing some releases (a VERS range; empty: any) of one component does to another by itself: that comes to
    a release too, and there is no way back from it but a backup."""

    component: str
    to: str
    releases: str = ""

    def __post_init__(self) -> None:
        if self.releases:
            parse_range(self.releases)


class Knows(Record):
    """What a system's driver, with its profile, knows: its capabilities, how each of its acts may be
    repeated where the profile says so (`safe`, `if_absent`, `never`), and how many places for a system image
    each node has. `keeps_guests`: its snapshots are of the guests that it carries, not of itself; `guests`
    is what becomes of those when a node is emptied (one of `GUESTS`). `parts` are the components that it can
    bring to another release, each by its name, its kind, or the start of its name with a `*` (a `!` before a
    name: not that one); `fetches` those (in the same words) whose package the device brings by itself,
    `goes_back` those of them that it brings older releases of too; `migrates` what bringing some of them
    does to others; `image_from` components from which the image has its version, as a host has it from one
    of its packages. `reach`: whether an order reaches one node or `all`, by the mode that the nodes are in."""

    capabilities: frozenset[str]
    repeat: dict[str, str] = {}
    slots: int = 1
    keeps_guests: bool = False
    guests: str = STAY
    parts: tuple[str, ...] = ()
    fetches: tuple[str, ...] = ()
    goes_back: tuple[str, ...] = ()
    migrates: dict[str, tuple[Migration, ...]] = {}
    image_from: tuple[str, ...] = ()
    reach: str | None = None
    returns: Returns = Returns()

    @property
    def updates_all(self) -> bool:
        """Whether the device brings all of its nodes to a release by one order."""
        return "update_all" in self.capabilities and self.reach != ONE

    def brings(self, component: str, kind: str) -> bool:
        return f"!{component}" not in self.parts and any(_is_meant(word, component, kind) for word in self.parts)

    def brings_older(self, component: str, kind: str) -> bool:
        return any(_is_meant(word, component, kind) for word in self.goes_back)

    def migrations(self, component: str, kind: str) -> tuple[Migration, ...]:
        """What bringing a component may do to others."""
        return tuple(one for word, ones in self.migrates.items() if _is_meant(word, component, kind) for one in ones)

    def is_fetched(self, component: str, kind: str) -> bool:
        return any(_is_meant(word, component, kind) for word in self.fetches)


def _is_meant(word: str, component: str, kind: str) -> bool:
    return word in (component, kind) or (word.endswith("*") and component.startswith(word[:-1]))
