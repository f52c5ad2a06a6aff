"""Which of many systems can be planned, and what bars each of the
others: a plan of all of an estate is of those that can."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from gallant.core.assess.compat import OrderedHop
from gallant.core.errors import GallantError, Refused
from gallant.core.estate.systems import System
from gallant.core.plan.components import NoOrder
from gallant.core.plan.ground import Ground
from gallant.core.plan.planning import able, lane_for
from gallant.core.plan.sharing import share_restarts
from gallant.core.plan.targets import goal_of, needed_with, order_of
from gallant.core.records import Record
from gallant.core.work.plan import Lane


class Barred(Record):
    """A system that cannot be planned: what bars it, why, and what to do about it. `needs` are systems that would have
    to come along; `exit_code` is that of a command that is asked for this system alone."""

    system: str
    what: str
    why: str | None = None
    next: str | None = None
    needs: tuple[str, ...] = ()
    exit_code: int = Refused.exit_code


def barred_by(system: str, error: GallantError, needs: Sequence[str] = ()) -> Barred:
    """What bars a system, from the error that said so."""
    return Barred(
        system=system, what=error.what, why=error.why, next=error.next, needs=tuple(needs), exit_code=error.exit_code
    )


def sift(
    ground: Ground, systems: Sequence[System], lanes: bool = True
) -> tuple[tuple[System, ...], tuple[Barred, ...]]:
    """The systems that one plan can be made of, and what bars each of the others.

    Where systems are in each other's way, one whose absence is enough is left out; all of them where none is. Without
    `lanes` only their routes and the requirements between them are looked at, which needs no driver's word.
    """
    kept, barred = list(systems), list[Barred]()
    while found := _bars(ground, kept, lanes):
        barred += found.values()
        kept = [system for system in kept if system.name not in found]
    return tuple(kept), tuple(barred)


def _bars(ground: Ground, systems: Sequence[System], lanes: bool) -> dict[str, Barred]:
    """What bars some of these: by the first of route, order and lanes that bars any."""
    moving = [system for system in systems if system.name not in ground.still]
    targets: dict[str, str] = {}
    if found := dict(_refused(moving, lambda system: targets.update({system.name: goal_of(ground, system)}))):
        return found
    try:
        ordered = order_of(ground, moving, targets)
    except NoOrder as error:
        names = _in_the_way(ground, moving, targets, error.systems)
        return {s.name: _without_order(ground, s, targets, error) for s in moving if s.name in names}
    return _lane_bars(ground, systems, ordered) if lanes else {}


def _lane_bars(ground: Ground, systems: Sequence[System], ordered: Mapping[str, list[OrderedHop]]) -> dict[str, Barred]:
    """What bars a lane of some of these, made in this order, or its drivers from carrying it out."""
    made = dict[str, Lane | None]()

    def lay(system: System) -> None:
        made[system.name] = lane_for(ground, system, ordered)[0]

    if found := dict(_refused(systems, lay)):
        return found
    lanes = [lane for lane in made.values() if lane is not None]
    shared = {lane.system: lane for lane in share_restarts(ground, lanes)}
    moved = [system for system in systems if system.name in shared]
    return dict(_refused(moved, lambda system: able(ground, shared[system.name])))


def _refused(systems: Sequence[System], look: Callable[[System], None]) -> Iterator[tuple[str, Barred]]:
    for system in systems:
        try:
            look(system)
        except Refused as error:
            yield system.name, barred_by(system.name, error)


def _in_the_way(
    ground: Ground, systems: Sequence[System], targets: Mapping[str, str], names: Sequence[str]
) -> tuple[str, ...]:
    """Of systems of which no order can be made together: one without which the others have one, else all."""
    if len(names) > 1:
        for name in names:
            others = [system for system in systems if system.name != name]
            try:
                order_of(ground, others, {n: to for n, to in targets.items() if n != name})
            except NoOrder as error:
                if set(error.systems) & set(names):
                    continue
            return (name,)
    return tuple(names)


def _without_order(ground: Ground, system: System, targets: Mapping[str, str], error: NoOrder) -> Barred:
    """What is in a system's way by itself; where nothing is, what is in its way beside the others."""
    try:
        order_of(ground, [system], {system.name: targets[system.name]})
    except NoOrder as own:
        error = own
    return barred_by(system.name, error, [other.name for other in needed_with(ground, [system])])
