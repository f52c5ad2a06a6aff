"""Rolls: started from a plan, held, resumed, ended. This wires the ports and the signals; the engine does the work."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractAsyncContextManager
from datetime import datetime

from gallant.core.after.picture import Picture
from gallant.core.checks.facts import Finding
from gallant.core.decide.consents import Consent, consents_needed, covered, parse_consent
from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.deriving import derived
from gallant.core.ports import Driver
from gallant.core.records import Record, replace
from gallant.core.work.plan import Plan
from gallant.engine.means import Orders
from gallant.engine.roll import exported, need_consents
from gallant.operations.checks import keeping
from gallant.operations.checks.check import check_with, drifted
from gallant.operations.checks.keeping import PictureKept
from gallant.operations.decide import bookings
from gallant.operations.ground.deciding import end_roll, record
from gallant.operations.ground.keepers import drivers_of
from gallant.operations.ground.sealing import refuse_altered
from gallant.operations.ground.survey import survey_with
from gallant.operations.ground.workplace import Workplace
from gallant.operations.plan.making import ground_of
from gallant.operations.plan.recorded import refuse_replaced
from gallant.operations.plan.windows import only_booked, refuse_closed, windows_of_plan
from gallant.operations.roll.carrying import RollEnded, Show, run
from gallant.operations.roll.refusing import (
    basis_now,
    basis_of,
    known_systems,
    may_begin,
    refuse_decided,
    refuse_differences,
    refuse_missing,
    refuse_newer,
    refuse_stops,
    systems_of,
)


class HoldRules(Record):
    """How far a run goes by itself: it holds after each `hold_after` (step, node, wave,
    hop), or from `hold_at` on, at once with `stop_others` when any lane stops. `outside`
    is a person's reason for which no window counts; `unbooked`: no booking does."""

    hold_after: str | None = None
    hold_at: datetime | None = None
    stop_others: bool = False
    outside: str = ""
    unbooked: bool = False


def pace_of(
    place: Workplace, plan: Plan, hold_after: str | None, hold_at: str | None, stop_others: bool, outside: str = ""
) -> HoldRules:
    """What a person asked for; a time without a zone is that of the first system's site. Raises `WrongUse`."""
    at = bookings.moment_of(place, plan.systems[0], hold_at) if hold_at is not None else None
    if at is not None and at <= place.clock.now():
        raise WrongUse(
            f"{hold_at} is past; it is {place.clock.now():%Y-%m-%d %H:%M}Z now.", next="Name a time to come."
        )
    return HoldRules(hold_after=hold_after, hold_at=at, stop_others=stop_others, outside=outside)


def _orders(
    place: Workplace,
    plan: Plan,
    pace: HoldRules,
    consents: tuple[str, ...] = (),
    answers: dict[str, bool] | None = None,
    again: tuple[str, ...] = (),
) -> Orders:
    return Orders(
        by=place.user,
        hold_after=pace.hold_after,
        hold_at=pace.hold_at,
        stop_others=pace.stop_others,
        consents=consents,
        answers=answers or {},
        again=again,
        windows=(
            {}
            if pace.outside
            else {name: tuple(spans) for name, spans in windows_of_plan(place, plan, not pace.unbooked).items()}
        ),
        booked=only_booked(place, plan),
    )


async def roll(
    place: Workplace,
    plan: Plan,
    show: Show,
    *,
    pace: HoldRules,
    consents: Sequence[str],
    detach: bool,
    despite_booking: str | None = None,
    despite: Mapping[str, str] | None = None,
    decided_at: int | None = None,
) -> RollEnded:
    """Carry out a plan from its beginning: what must match is compared, checks are run, then the engine starts.

    `despite_booking` is a named person's reason for which bookings for another time do not
    count, `despite` has theirs for passing the stop of a check, by its name. `decided_at`
    is the ledger's entry after which nobody may have decided on what it brings.
    """
    despite = despite or {}
    may_begin(place, plan, despite)
    systems = systems_of(place, plan)
    given = [parse_consent(text) for text in consents]
    known_systems(plan, [one for one in given if not one.of_many])
    refuse_newer(place, plan, decided_at)
    set_aside = refuse_decided(place, plan, despite_booking)
    if not pace.outside:
        refuse_closed(place, plan, bookings=despite_booking is None)
    async with _drivers(place, plan, systems) as drivers:
        consents = _by_name(place, plan, drivers, given, show)
        need_consents(plan, drivers, set(consents))
        refuse_missing(place, plan)
        _have_secrets(place, systems)
        passed = await _looked_at(place, plan, systems, drivers, despite, show, set(consents))
        pace = replace(pace, unbooked=despite_booking is not None)
        orders = _orders(place, plan, pace, consents=tuple(consents))  # what is under way is not booked any more
        before = await keeping.take(place, keeping.around(place, systems), drivers)
        if plan.undoes is not None:
            _end_undone(place, plan.undoes)
        with place.journal.new_roll(plan, place.clock.now(), show.notice) as journal:
            refuse_newer(place, plan, decided_at, journal)
            for kind, words in (
                (
                    "despite-booking",
                    {one.notice: f"set aside for {journal.id}: {despite_booking}" for one in set_aside},
                ),
                ("despite-check", {f"{f.check}:{f.system}": _passed(f, journal.id, despite) for f in passed}),
                ("consent", dict.fromkeys(consents, journal.id)),
                ("roll", {journal.id: _begun(plan)}),
                ("outside-window", {journal.id: pace.outside} if pace.outside else {}),
            ):
                _write_down(place, plan, kind, words)
            known = _keep_before(place, journal.id, before, plan, show)
            return await run(place, plan, drivers, journal, show, orders, detach, known)


def _write_down(place: Workplace, plan: Plan, kind: str, reasons: Mapping[str, str]) -> None:
    """Into the ledger, by what each entry is about."""
    for subject, reason in reasons.items():
        record(place, kind, subject, target=plan.id, reason=reason)


async def _looked_at(
    place: Workplace,
    plan: Plan,
    systems: Sequence[System],
    drivers: Mapping[str, Driver],
    despite: Mapping[str, str],
    show: Show,
    consents: set[str],
) -> list[Finding]:
    """Check and read everything a plan is about; raises `Refused` where it may not begin, also for want of a consent
    that what is known now asks for, whatever the plan says of it. Gives the stops that a person passes with a
    reason."""
    own = [system for system in systems if system.name in plan.systems]
    findings, survey = await check_with(
        place, own, drivers, own_roll=plan.undoes, entering=_enters(plan), still=_still(plan)
    )
    stacked = [(s, tuple(s.nodes)) for s in systems if s not in own]
    above = await survey_with(place, stacked, drivers) if stacked else None
    passed = [f for f in findings if f.level == "stop" and f.check in despite]
    if plan.undoes is None:
        refuse_stops(plan, [f for f in findings if f not in passed], survey.exit_code)
        _say_stops(passed, show)
    else:  # what is not well may be what is taken back; before each step its guards look
        _say_stops(findings, show)
    for one in drifted(place, own, findings, plan.made):
        show.notice(f"{one.what} since the plan was made: {one.finding.level} {one.finding.message}")
    read = {**survey.readings(), **(above.readings() if above is not None else {})}
    refuse_differences(plan, basis_now(place, plan, read))
    knows = {system.name: drivers[system.name].knows() for system in systems}
    ground = replace(ground_of(place, systems, survey, above), knows=knows)
    need_consents(derived(plan, ground), drivers, consents)
    return passed


def _enters(plan: Plan) -> bool:
    return any(lane.enters for lane in plan.lanes)


def _still(plan: Plan) -> list[str]:
    """The systems whose image stays as it is, whatever moves beside it."""
    return [lane.system for lane in plan.lanes if not any(hop.image for hop in lane.hops)]


def _by_name(
    place: Workplace, plan: Plan, drivers: Mapping[str, Driver], given: Sequence[Consent], show: Show
) -> list[str]:
    """Consents, each for one system; what one for many covers is said, and written down by name."""
    found: list[str] = []
    for one in given:
        if not one.of_many:
            found.append(one.words)
            continue
        needed = consents_needed(plan, exported(plan, drivers))
        words = covered(one, needed, place.estate.systems)
        show.notice(f"--consent {one.words} covers {', '.join(words)}.")
        found += words
    return list(dict.fromkeys(found))


def _passed(finding: Finding, roll: str, despite: Mapping[str, str]) -> str:
    return f"{finding.message}, passed for {roll}: {despite[finding.check]}"


def _begun(plan: Plan) -> str:
    why = f", since {plan.reason}" if plan.reason else f", to take {plan.undoes} back" if plan.undoes else ""
    return f"begun: {', '.join(plan.systems)}{why}"


def _say_stops(findings: Sequence[Finding], show: Show) -> None:
    for one in (f for f in findings if f.level == "stop"):
        show.notice(f"{one.message}{f' ({one.evidence})' if one.evidence else ''}: this goes on all the same.")


def _end_undone(place: Workplace, roll_id: str) -> None:
    """The roll that is taken back ends here; a finished one has ended already."""
    if place.journal.roll(roll_id).ended is None:
        end_roll(place, roll_id, "it is taken back")


async def resume(
    place: Workplace,
    roll_id: str,
    show: Show,
    *,
    pace: HoldRules,
    answers: dict[str, bool],
    again: Sequence[str],
    detach: bool,
) -> RollEnded:
    """Carry on a roll that was held, stopped or cut off; the journal says where, and the nodes what really happened."""
    row = place.journal.roll(roll_id)
    if row.ended is not None:
        raise WrongUse(f"{roll_id} has ended; there is nothing to carry on.", next=f"gallant history {roll_id}")
    refuse_replaced(place, row.plan, roll_id)
    refuse_altered(place, roll_id)
    systems = systems_of(place, row.plan)
    known = {name: serial for s in systems for n in s.nodes for name, serial in [(node_name(s, n), s.nodes[n].serial)]}
    basis = basis_of(place, row.plan, known, row.plan.basis.versions)
    async with _drivers(place, row.plan, systems) as drivers:
        refuse_differences(row.plan, basis)
        _have_secrets(place, systems)
        with place.journal.take_up(roll_id, show.notice) as journal:
            record(place, "roll", roll_id, target=row.plan.id, reason="taken up again")
            _write_down(place, row.plan, "outside-window", {roll_id: pace.outside} if pace.outside else {})
            return await run(
                place,
                row.plan,
                drivers,
                journal,
                show,
                _orders(place, row.plan, pace, answers=answers, again=tuple(again)),
                detach,
                _kept_before(place, roll_id),
            )


def _keep_before(place: Workplace, roll_id: str, before: Picture, plan: Plan, show: Show) -> PictureKept | None:
    try:
        return keeping.keep(place, f"{roll_id}.{keeping.BEFORE}", before, plan)
    except GallantError as error:  # the work goes on; only the comparison is lost
        show.notice(f"How it was before is not kept: {error.what}")
        return None


def _kept_before(place: Workplace, roll_id: str) -> PictureKept | None:
    """How all was before a roll; None for one of a time when that was not kept, or where it is gone."""
    try:
        return keeping.kept(place, f"{roll_id}.{keeping.BEFORE}")
    except GallantError:
        return None


FOLLOW_S = 0.5  # real seconds between two looks at a journal that somebody else writes


def _drivers(place: Workplace, plan: Plan, systems: Sequence[System]) -> AbstractAsyncContextManager[dict[str, Driver]]:
    """Those of the hosts too, where they keep the restore points."""
    asked = any(hop.restore_point or hop.rewinds for lane in plan.lanes for hop in lane.hops)
    return drivers_of(place, systems) if asked else place.drivers(systems)


def _have_secrets(place: Workplace, systems: Sequence[System]) -> None:
    """A secret that cannot be had, or has to be typed, comes up before anything begins and before the screen is
    taken."""
    for system in systems:
        place.credentials(system, "act")
