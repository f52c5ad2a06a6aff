"""Plans: made from fresh readings, written to a file named by its content, and found again by name."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from gallant.core.assess.recalls import FINISH
from gallant.core.checks.facts import Finding
from gallant.core.decide.consents import Needed, consents_needed, roll_command
from gallant.core.decide.notices import Bar, Notice
from gallant.core.documents import suggestion
from gallant.core.errors import GallantError, Refused, Unreached, WrongUse, worst_exit
from gallant.core.estate.stacks import systems_above
from gallant.core.estate.systems import System
from gallant.core.length.patience import with_patience
from gallant.core.length.spread import with_spread
from gallant.core.plan.errands import make_errand
from gallant.core.plan.ground import Ground, PartGoal
from gallant.core.plan.planning import make_plan
from gallant.core.plan.returning import with_ways_back
from gallant.core.plan.sifting import Barred, barred_by, sift
from gallant.core.plan.targets import needed_with
from gallant.core.ports import Driver
from gallant.core.readings import IMAGE, Reading
from gallant.core.records import Record, clean, replace
from gallant.core.work.knows import Knows
from gallant.core.work.plan import NothingToDo, Plan
from gallant.operations.assess.plannable import open_roll
from gallant.operations.checks.check import check_with
from gallant.operations.decide.approving import approval_of
from gallant.operations.decide.claims import Borne, seen_before
from gallant.operations.decide.notices import bars, left_out, record_despite
from gallant.operations.ground.keepers import can_snapshot, drivers_of
from gallant.operations.ground.last import last_readings, product_of, ways_out_of
from gallant.operations.ground.survey import Survey, survey_with
from gallant.operations.ground.workplace import Workplace, knows_of
from gallant.operations.keep.components import not_in_stock
from gallant.operations.length.durations import learned
from gallant.operations.plan.loading import load_plan, written
from gallant.operations.plan.windows import Fit, fits, opens_at


class PartChoice(Record):
    """What of the selected systems a plan is to move: `only` these components, or all
    `without` some; a person's `order` of nodes; with the systems that are `needed` first.
    `of` has by system what alone is to be moved of it, where that was decided."""

    only: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    needed: bool = False
    of: dict[str, tuple[str, ...]] = {}

    def takes(self, component: str, system: str) -> bool:
        """Whether a component of a system was asked for."""
        wanted = self.of.get(system, self.only)
        return (not wanted or component in wanted) and component not in self.without


class Left(Record):
    """A component that is behind and not in the plan, and why (empty: it was not chosen)."""

    notice: Notice
    why: str = ""


class Planned(Record):
    """The plan, where it was written, and the findings that would stand in a roll's way today.

    `left` is what `gaps` lists of these systems and the plan does not cover; `some` are the nodes that were chosen, of
    systems that have more; `along` those that no one named and that have to come along; `bars` decisions that a roll
    would go against; `to_fetch` packages of components that are not in stock; `approvals` how many others have to
    approve it before it is begun; `borne` what earlier rolls saw of its releases that their publishers do not say;
    `barred` systems that were selected among others and that cannot be planned now; `roll` is the command of somebody
    who accepts all that it `needs`; `fits` are the windows that its lanes take, `opens` when the first of them does,
    where none is open now; `roll_id` is the roll that carried it out, or does so still (`under_way`).
    """

    plan: Plan
    path: str
    findings: tuple[Finding, ...]
    left: tuple[Left, ...] = ()
    some: dict[str, tuple[str, ...]] = {}
    along: tuple[str, ...] = ()
    bars: tuple[Bar, ...] = ()
    to_fetch: tuple[str, ...] = ()
    approvals: int = 0
    borne: tuple[Borne, ...] = ()
    barred: tuple[Barred, ...] = ()
    roll: str
    needs: tuple[Needed, ...] = ()
    fits: tuple[Fit, ...] = ()
    opens: datetime | None = None
    roll_id: str | None = None
    under_way: bool = False

    @property
    def exit_code(self) -> int:
        """Of the whole: what is planned is planned, and some of many were not reached, or are to be looked at."""
        return worst_exit([Unreached.exit_code if b.exit_code == Unreached.exit_code else 1 for b in self.barred])


MOST_TOLD = 5  # systems in one message
TOLD = ("site-notes", "known-issues")  # checks whose notes stand in a plan


class NothingPlanned(NothingToDo):
    """Nothing is left that could be planned, and something is behind all the same."""

    exit_code = 1


@dataclass(frozen=True)
class SystemsLook:
    """What was read just now for a plan: its systems with their
    checks, those that stand on them, and what their drivers know."""

    findings: list[Finding]
    survey: Survey
    above: list[System]
    stacked: Survey
    knows: dict[str, Knows]

    @property
    def exports(self) -> list[str]:
        """The systems whose configuration can be saved."""
        return [name for name, knows in self.knows.items() if "export" in knows.capabilities]

    def unread(self, systems: Collection[str]) -> GallantError | None:
        """What to say of the first node of these that was not read: what is not known is not planned."""
        nodes = [n for n in (*self.survey.nodes, *self.stacked.nodes) if n.reading is None and n.system in systems]
        if not nodes:
            return None
        kind = Unreached if worst_exit([n.exit_code for n in nodes]) == Unreached.exit_code else Refused
        what = nodes[0].error or f"{nodes[0].system}/{nodes[0].node} was not read."
        return kind(what, "What is not known is not planned.", nodes[0].next)

    def ground(self, place: Workplace, systems: Sequence[System]) -> Ground:
        """What a plan of some systems is made from."""
        return replace(ground_of(place, systems, self.survey, self.stacked), knows=self.knows)


Also = Callable[[Mapping[str, Driver]], Awaitable[None]]


async def look_at(
    place: Workplace,
    systems: Sequence[System],
    entering: bool = True,
    own_roll: str | None = None,
    also: Also | None = None,
    partly: bool = False,
    still: Collection[str] = (),
) -> SystemsLook:
    """Check and read systems, and read what stands on them; `also` is done with their drivers meanwhile. Raises for the
    first node that was not read, but for `partly`. The images of those that stay `still` are not to be moved."""
    above = above_of(place, systems)
    for system in systems:
        if unknown := [n for n, node in system.nodes.items() if not node.serial]:
            raise Refused(
                f"{system.name}/{unknown[0]} was never surveyed, so which machine it is is not known.",
                "What is done to a machine is done to that one alone.",
                f"gallant survey {system.name}",
            )
    async with drivers_of(place, [*systems, *above]) as drivers:
        findings, survey = await check_with(place, systems, drivers, own_roll=own_roll, entering=entering, still=still)
        stacked = await survey_with(place, [(s, tuple(s.nodes)) for s in above], drivers)
        knows = {s.name: drivers[s.name].knows() for s in (*systems, *above)}
        looked = SystemsLook(findings, survey, above, stacked, knows)
        if not partly and (unread := looked.unread([s.name for s in (*systems, *above)])) is not None:
            raise unread
        if also is not None:
            await also(drivers)
    return looked


async def plan(
    place: Workplace,
    terms: Sequence[str],
    despite: str | None = None,
    reason: str = "",
    choice: PartChoice | None = None,
    partly: bool = False,
) -> Planned:
    """Read the systems, make the plan that takes them and their components to their aims, and write it to plans/.

    `despite` is a recalled release that some nodes of the one selected system run already
    and that the others are to run too; `Refused` unless its recall is shown to concern
    none of them. `partly`: what cannot be planned is left out, even if it is named.
    """
    choice = choice or PartChoice()
    selected = _selected(place, terms)
    chosen = [system for system, _ in selected]
    along = _needed(place, chosen) if choice.needed else ()
    named = set() if partly else {term.partition("/")[0] for term in terms if ":" not in term}
    systems, barred = _without_open_rolls(place, [*chosen, *along], named, partly)
    still = [s.name for s in systems if not choice.takes(IMAGE, s.name)]
    looked = await look_at(place, systems, partly=not named, still=still)
    behind = left_out(place, [s.name for s in systems])
    _known_components(choice, looked.survey)
    some = _some(selected)
    ground = replace(
        looked.ground(place, systems),
        despite=_despite(place, systems, looked.survey.readings(), despite) if despite is not None else {},
        wishes=_wishes(chosen, choice.order),
        parts=_goals(behind, choice),
        still=frozenset([*still, *(s.name for s in systems if _parts_alone(place, s, behind))]),
        chosen=some,
        learned=learned(place),
    )
    profiles = place.profile_digests([*systems, *looked.above])
    if not named:
        systems, more = _sifted(looked, ground, systems)
        barred += more
    made = _laid_out(
        ground, _made(behind, barred, lambda: make_plan(ground, systems, profiles, place.user, place.identity))
    )
    for system, release in ground.despite.items():
        record_despite(place, system, release, reason)
    return replace(
        _told_of(place, made, looked),
        left=tuple(_left(_not_barred(behind, barred), made)),
        some=some,
        along=tuple(system.name for system in along),
        barred=tuple(barred),
    )


def _not_barred(behind: Sequence[Notice], barred: Sequence[Barred]) -> list[Notice]:
    names = {bar.system for bar in barred}
    return [notice for notice in behind if notice.system not in names]


def _told_of(place: Workplace, made: Plan, looked: SystemsLook) -> Planned:
    """What is to be said of a plan whose systems were just looked at; it is written when this returns."""
    return Planned(
        plan=made,
        path=written(place, made),
        findings=_findings_on(looked, made.systems),
        bars=tuple(bars(place, made)),
        to_fetch=tuple(not_in_stock(place, made)),
        approvals=approval_of(place, made).missing,
        borne=tuple(seen_before(place, made)),
        roll=roll_command(made, looked.exports),
        needs=tuple(consents_needed(made, looked.exports)),
        fits=tuple(fits(place, made)),
        opens=opens_at(place, made),
    )


def _without_open_rolls(
    place: Workplace, systems: Sequence[System], named: Collection[str], partly: bool
) -> tuple[list[System], list[Barred]]:
    """The systems that no roll works on, and what bars the others; raises that where one was named, or is the only
    one."""
    open_now = {s.name: error for s in systems if (error := open_roll(place, s)) is not None}
    alone = len(systems) == 1 and not partly
    if bar := next((error for name, error in open_now.items() if alone or name in named), None):
        raise bar
    return [s for s in systems if s.name not in open_now], [barred_by(n, error) for n, error in open_now.items()]


def _findings_on(looked: SystemsLook, systems: Sequence[str]) -> tuple[Finding, ...]:
    """What a plan shows of the checks: what stops or warns, and what is always told."""
    told = (f for f in looked.findings if f.level in ("stop", "warn") or f.check in TOLD)
    return tuple(finding for finding in told if finding.system in systems)


def _laid_out(ground: Ground, made: Plan) -> Plan:
    """With its ways back, its deadlines and its spread."""
    made = with_ways_back(made, ground)
    return with_spread(with_patience(made, ground.learned), ground.learned)


def foreseen(
    place: Workplace, of: Mapping[str, tuple[str, ...]], partly: bool = False
) -> tuple[Plan, tuple[Needed, ...]]:
    """The plan of some components of some systems by what was read last, and what a named person has to accept for it;
    nothing is contacted or written. Raises what `plan` would; `partly`: what cannot be planned is left out."""
    from gallant.drivers.profile_reading import load_profile

    choice, systems = PartChoice(of=dict(of)), [place.estate.systems[name] for name in of]
    above = above_of(place, systems)
    behind = left_out(place, list(of))
    knows = {s.name: knows_of(load_profile(s.profile, place.folder)) for s in (*systems, *above)}
    ground = replace(
        ground_of(place, systems),
        knows=knows,
        parts=_goals(behind, choice),
        still=frozenset(s.name for s in systems if not choice.takes(IMAGE, s.name) or _parts_alone(place, s, behind)),
        learned=learned(place),
    )
    if partly:
        systems = list(sift(ground, systems)[0])
    profiles = place.profile_digests([*systems, *above])
    made = _laid_out(ground, make_plan(ground, systems, profiles, place.user, place.identity))
    exports = [name for name, knows_it in knows.items() if "export" in knows_it.capabilities]
    return made, tuple(consents_needed(made, exports))


def shown(place: Workplace, name: str | None) -> Planned:
    """A plan that was made before, as it stands today; nothing is
    contacted, so its checks stand as when they were last run."""
    made = load_plan(place, name)
    path, command = f"plans/{made.id}.json", roll_command(made)
    rolled = next((row for row in place.journal.rolls(made.systems)[0] if row.plan.id == made.id), None)
    if rolled is not None:
        return Planned(
            plan=made, path=path, findings=(), roll=command, roll_id=rolled.id, under_way=rolled.ended is None
        )
    return Planned(
        plan=made,
        path=path,
        findings=tuple(f for lane in made.lanes for f in _stood(place, lane.system)),
        bars=tuple(bars(place, made)),
        to_fetch=tuple(not_in_stock(place, made)),
        approvals=approval_of(place, made).missing,
        borne=tuple(seen_before(place, made)),
        roll=command,
        fits=tuple(fits(place, made)),
        opens=opens_at(place, made),
    )


def _stood(place: Workplace, system: str) -> Iterator[Finding]:
    found = place.readings.findings_before(system, place.clock.now())
    yield from (f for f in (found[1] if found is not None else ()) if f.level in ("stop", "warn") or f.check in TOLD)


def _sifted(looked: SystemsLook, ground: Ground, systems: Sequence[System]) -> tuple[list[System], list[Barred]]:
    """Of systems that nobody named: those that can be planned now, and what bars each of the others."""
    barred = [
        barred_by(s.name, error)
        for s in systems
        if (error := looked.unread([s.name, *(systems_above(ground.estate, s) if s.in_service else ())])) is not None
    ]
    kept, more = sift(ground, [s for s in systems if s.name not in {b.system for b in barred}])
    return list(kept), [*barred, *more]


def _selected(place: Workplace, terms: Sequence[str]) -> list[tuple[System, tuple[str, ...]]]:
    selected = place.select(terms)
    if not selected:
        raise WrongUse("Nothing is selected, so there is nothing to plan.", next="gallant inventory lists the systems.")
    return selected


def _some(selected: Sequence[tuple[System, tuple[str, ...]]]) -> dict[str, tuple[str, ...]]:
    """The nodes that were chosen, of systems that have more."""
    return {system.name: nodes for system, nodes in selected if len(nodes) < len(system.nodes)}


async def errand(
    place: Workplace, terms: Sequence[str], reason: str, by_hand: str = "", order: tuple[str, ...] = ()
) -> Planned:
    """Read the systems, make the plan that restarts their nodes as they
    are, or has a person do `by_hand` at each, and write it."""
    selected = _selected(place, terms) if terms else []
    if not selected:
        raise WrongUse(
            "Name the systems; nobody restarts all of an estate in passing.", next="gallant inventory lists them."
        )
    systems = [system for system, _ in selected]
    if bar := next((error for s in systems if (error := open_roll(place, s)) is not None), None):
        raise bar
    looked = await look_at(place, systems, entering=False)
    some = _some(selected)
    ground = replace(looked.ground(place, systems), wishes=_wishes(systems, order), chosen=some, learned=learned(place))
    profiles = place.profile_digests([*systems, *looked.above])
    made = make_errand(ground, systems, profiles, place.user, clean(reason, 200), clean(by_hand, 200), place.identity)
    made = with_spread(with_patience(made, ground.learned), ground.learned)
    return Planned(
        plan=made,
        path=written(place, made),
        findings=tuple(f for f in looked.findings if f.level in ("stop", "warn")),
        some=some,
        approvals=approval_of(place, made).missing,
        roll=roll_command(made, looked.exports),
        fits=tuple(fits(place, made)),
        opens=opens_at(place, made),
    )


def _parts_alone(place: Workplace, system: System, behind: Sequence[Notice]) -> bool:
    """A host of which no catalog lists the image, and which has packages that are behind all the same."""
    return system.product not in place.products and any(notice.system == system.name for notice in behind)


def _known_components(choice: PartChoice, survey: Survey) -> None:
    """Raises `WrongUse` for a component that no selected node has."""
    known = {IMAGE, *(part.name for reading in survey.readings().values() for part in reading.components)}
    for name in (*choice.only, *choice.without):
        if name not in known:
            raise WrongUse(
                f"No selected node has a component {clean(name, 60)!r}{suggestion(name, sorted(known))}.",
                next="gallant inventory lists them.",
            )


def _goals(behind: Sequence[Notice], choice: PartChoice) -> dict[str, tuple[PartGoal, ...]]:
    """The components that go along, by system: what `gaps` lists, no decision leaves out, and was chosen."""
    goals: dict[str, list[PartGoal]] = {}
    for notice in behind:
        if notice.target is not None and choice.takes(notice.component, notice.system):
            goals.setdefault(notice.system, []).append(PartGoal(component=notice.component, target=notice.target))
    return {system: tuple(found) for system, found in goals.items()}


def _left(behind: Sequence[Notice], plan: Plan) -> Iterator[Left]:
    """What is behind and not in the plan, each with the reason."""
    covered = {(lane.system, part.component) for lane in plan.lanes for hop in lane.hops for part in hop.parts}
    why = {(lane.system, component): reason for lane in plan.lanes for component, reason in lane.left.items()}
    for notice in behind:
        key = (notice.system, notice.component)
        if key in why or key not in covered:
            yield Left(notice=notice, why=why.get(key, ""))


def _wishes(named: Sequence[System], order: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """A person's order, which is of one system's nodes; raises `WrongUse` for a name that is not one of them."""
    if not order:
        return {}
    if len(named) != 1:
        raise WrongUse("An order is of the nodes of one system.", next="gallant plan SYSTEM --order NODE,NODE")
    system = named[0]
    nodes = tuple(name.removeprefix(f"{system.name}/") for name in order)
    strange = next((name for name in nodes if name not in system.nodes or nodes.count(name) > 1), None)
    if strange is not None:
        twice = "stands twice in the order" if strange in system.nodes else f"is not one of {', '.join(system.nodes)}"
        raise WrongUse(
            f"{clean(strange, 60)} {twice}.", next=f"gallant plan {system.name} --order {','.join(system.nodes)}"
        )
    return {system.name: nodes}


def _needed(place: Workplace, systems: Sequence[System]) -> tuple[System, ...]:
    """The systems that have to come along, by what every system ran when it was last read."""
    return needed_with(ground_of(place, systems), systems)


def above_of(place: Workplace, systems: Sequence[System]) -> list[System]:
    """The systems that stand on these and are none of them."""
    names = dict.fromkeys(n for s in systems if s.in_service for n in systems_above(place.estate, s))
    return [place.estate.systems[n] for n in names if n not in {s.name for s in systems}]


def ground_of(
    place: Workplace, systems: Sequence[System], survey: Survey | None = None, stacked: Survey | None = None
) -> Ground:
    """What a plan rests on: what was read just now, and of the rest of the estate,
    for the requirements between products, what it ran when it was last read."""
    now = {**(survey.readings() if survey is not None else {}), **(stacked.readings() if stacked is not None else {})}
    rest = [name for name in place.estate.systems if survey is None or name not in {s.name for s in systems}]
    return Ground(
        estate=place.estate,
        readings={**(last_readings(place, rest)[0] if rest else {}), **now},
        products=place.products,
        now=place.clock.now(),
        bundles=tuple(place.bundles),
        snapshotted=frozenset(s.name for s in systems if can_snapshot(place, s)),
    )


def _made(behind: Sequence[Notice], barred: Sequence[Barred], make: Callable[[], Plan]) -> Plan:
    """The plan; where none can be made of what is behind, that is named, and why."""
    try:
        return make()
    except NothingToDo as error:
        if barred:
            raise _all_barred(barred) from None
        if not behind:
            raise
        why = {(s, component): reason for s, parts in error.left.items() for component, reason in parts.items()}
        names = ", ".join(_by_hand(n, why.get((n.system, n.component), "")) for n in behind[:5])
        more_of_them = f" and {len(behind) - 5} more" if len(behind) > 5 else ""
        systems = " ".join(dict.fromkeys(n.system for n in behind))
        raise NothingPlanned(
            f"{', '.join(error.systems)}: nothing that can be planned is left.",
            f"By hand: {names}{more_of_them}.",
            f"gallant gaps {systems}",
            error.systems,
        ) from None


def _all_barred(barred: Sequence[Barred]) -> GallantError:
    """What to say where of all that was selected nothing can be planned."""
    first = barred[0]
    kind = Unreached if all(b.exit_code == Unreached.exit_code for b in barred) else Refused
    if len(barred) == 1:
        return kind(first.what, first.why, first.next)
    told = " ".join(b.what for b in barred[:MOST_TOLD])
    more = f" And {len(barred) - MOST_TOLD} more." if len(barred) > MOST_TOLD else ""
    return kind(f"None of {len(barred)} systems that are behind can be planned now.", f"{told}{more}", first.next)


def _by_hand(notice: Notice, why: str) -> str:
    return f"{notice.name} {'/'.join(notice.installed)} → {notice.target}{f' ({why})' if why else ''}"


def _despite(
    place: Workplace, systems: Sequence[System], readings: Mapping[str, Reading], despite: str
) -> dict[str, str]:
    if len(systems) != 1:
        raise WrongUse(
            "A recall is set aside for one system at a time.", next="gallant plan SYSTEM --despite-recall VERSION"
        )
    system = systems[0]
    product = product_of(place, system)
    finish = next((w for w in ways_out_of(place, system, product, readings.values(), None) if w.way == FINISH), None)
    recalled = product.resolve(despite)
    running = {r.version for reading in readings.values() if (r := product.resolve(reading.version)) is not None}
    if recalled is None or finish is None or recalled.version not in running:
        raise Refused(
            f"{system.name}: no node runs {clean(despite, 60)} as a recalled release, so there is nothing of it to"
            " finish.",
            "A recalled release is entered by nobody who does not run it already.",
            f"gallant route {system.name}",
        )
    if not finish.open:
        raise Refused(
            f"{system.name}: {recalled.version} is not finished: {finish.why}.", next=f"gallant route {system.name}"
        )
    return {system.name: recalled.version}
