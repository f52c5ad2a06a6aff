"""A publisher's claim about a release, held against what was seen of
it: the minutes that it gives, and that no restart is needed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from gallant.core.catalog.products import Product, Release
from gallant.core.records import Record
from gallant.core.steps.kinds import KINDS, STEADY
from gallant.core.work.plan import Step

INSTALL, RESTART, SYNC, NO_RESTART = "install", "restart", "sync", "no restart"
# Which of the publisher's figures a kind of step is held against.
_ABOUT = {
    "install": INSTALL,
    "install_part": INSTALL,
    "apply_part": INSTALL,
    "renew_part": INSTALL,
    "restart": RESTART,
    STEADY: SYNC,
}
# A figure is off where it is so many times too short, or too long,
# and by so many seconds: below that nobody plans otherwise.
TOO_SHORT, TOO_LONG, LEAST_S = 1.5, 2.0, 300.0


class Fact(Record):
    """A step that was done: when, and the number of the start that its node was in before it (None: not told). Not
    `timed`: for a while of it nobody looked, so how long it took is not known."""

    step: Step
    began: datetime
    ended: datetime
    boot: str | None = None
    timed: bool = True

    @property
    def seconds(self) -> float:
        """How long it took, in seconds."""
        return (self.ended - self.began).total_seconds()


class Claim(Record):
    """What the publisher says of a release, and what was seen: the longest of `nodes` nodes of one system, in
    seconds."""

    product: str
    release: str
    system: str
    about: str
    said_s: float
    took_s: float
    nodes: int


def held_against(
    facts: Sequence[Fact], products: Mapping[str, Product], steady_s: float, least_s: float = LEAST_S
) -> tuple[Claim, ...]:
    """The claims that what was seen does not bear out, of steps in the order in which they
    were done. `steady_s` is for how long a system was looked at after it was whole again,
    which no publisher counts; less than `least_s` between two figures says nothing."""
    took: dict[tuple[str, str, str, str], list[float]] = {}
    said: dict[tuple[str, str, str, str], float] = {}
    for fact in facts:
        release, about = _release(fact.step, products), _ABOUT.get(fact.step.kind)
        if release is None or about is None or not fact.timed or (about == SYNC and not fact.step.ends_node):
            continue
        key = (fact.step.product, release.version, fact.step.system, about)
        said[key] = getattr(release.minutes, about) * 60
        took.setdefault(key, []).append(fact.seconds - (steady_s if about == SYNC else 0))
    found = [
        Claim(
            product=p,
            release=r,
            system=s,
            about=about,
            said_s=said[p, r, s, about],
            took_s=max(times),
            nodes=len(times),
        )
        for (p, r, s, about), times in took.items()
        if _is_off(said[p, r, s, about], max(times), least_s)
    ]
    return (*found, *_unasked_restarts(facts, products))


def _release(step: Step, products: Mapping[str, Product]) -> Release | None:
    product = products.get(step.product)
    return product.resolve(step.to) if product is not None else None


def _is_off(said_s: float, took_s: float, least_s: float) -> bool:
    if not said_s or abs(took_s - said_s) < least_s:
        return False  # nothing was said, or nobody would plan otherwise
    return took_s > said_s * TOO_SHORT or took_s * TOO_LONG < said_s


def _unasked_restarts(facts: Sequence[Fact], products: Mapping[str, Product]) -> Iterator[Claim]:
    """Nodes that started anew between a step that needs no restart and the next one on them."""
    seen: dict[tuple[str, str, str], set[str]] = {}
    for place, fact in enumerate(facts):
        release = _release(fact.step, products)
        if release is None or release.restart != "none" or not KINDS[fact.step.kind].alters or fact.boot is None:
            continue
        after = next(
            (f for f in facts[place + 1 :] if f.step.subject == fact.step.subject and f.boot is not None), None
        )
        if after is not None and after.boot != fact.boot and not KINDS[fact.step.kind].away:
            seen.setdefault((fact.step.product, release.version, fact.step.system), set()).add(fact.step.node)
    for (product, version, system), nodes in seen.items():
        yield Claim(
            product=product, release=version, system=system, about=NO_RESTART, said_s=0, took_s=0, nodes=len(nodes)
        )
