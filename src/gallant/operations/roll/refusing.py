"""What a roll is refused for before anything starts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.catalog.products import release_digest
from gallant.core.checks.all import CHECKS, check_named
from gallant.core.checks.facts import Finding
from gallant.core.decide.consents import Consent
from gallant.core.decide.notices import Bar
from gallant.core.documents import suggestion
from gallant.core.errors import Refused, Unreached, WrongUse
from gallant.core.estate.systems import System, node_name
from gallant.core.plan.beside import broken_beside
from gallant.core.plan.undoing import beyond_undoing
from gallant.core.ports import OneRoll
from gallant.core.readings import Reading
from gallant.core.records import clean
from gallant.core.work.plan import Basis, Plan, basis_differences, shape_words
from gallant.operations.decide import notices
from gallant.operations.decide.approving import refuse_unapproved
from gallant.operations.ground.deciding import end_here
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep.components import not_in_stock


def may_begin(place: Workplace, plan: Plan, despite: Mapping[str, str]) -> None:
    """Raise `Refused` where nothing has to be read to know that a plan may not begin."""
    _may_be_passed(despite)
    _refuse_beyond_undoing(place, plan)
    refuse_unapproved(place, plan)
    place.journal.refuse_open(plan, but=plan.undoes)
    _refuse_beside(place, plan)


def _refuse_beyond_undoing(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` for a plan that takes a roll back by its own word, and does something else."""
    if plan.undoes is None:
        return
    row = place.journal.roll(plan.undoes)
    if beyond := beyond_undoing(plan, row.plan, place.estate, place.products):
        raise Refused(
            f"{plan.id} does more than to take {row.id} back: {'; '.join(beyond[:3])}.",
            "A plan that takes a roll back waits for nobody, so it does nothing else.",
            f"gallant backout {row.id} makes one that does",
        )


def _refuse_beside(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` while a roll is open beside which this one could break what one system asks of another (I7)."""
    for row in (row for row in place.journal.open_rolls() if row.id != plan.undoes):
        readings = last_readings(place, list(dict.fromkeys([*plan.systems, *row.plan.systems])))[0]
        rule = broken_beside(place.estate, readings, place.products, plan, row.plan)
        if rule is not None:
            raise Refused(
                f"{row.id} is not finished, and beside it this could break a requirement: {rule.words}.",
                "Each is in order by itself; which of them is how far at which moment is not.",
                f"gallant resume {row.id} carries on; gallant hold {row.id} --for-good --reason WHY ends it where it"
                " stands.",
            )


def _may_be_passed(despite: Mapping[str, str]) -> None:
    """Raise `WrongUse` for what is no check, and `Refused` for one that is about a promise."""
    for name in despite:
        check = check_named(name)
        if check is None:
            raise WrongUse(
                f"No check {clean(name, 60)!r}{suggestion(name, [c.id for c, _ in CHECKS])}.",
                next="gallant check --list",
            )
        if check.firm:
            raise Refused(
                f"--despite cannot override {name}: {check.looks_at}.",
                "What is installed, given twice or done by two at once cannot be taken back.",
                f"gallant check --explain {name}",
            )


def systems_of(place: Workplace, plan: Plan) -> list[System]:
    """The systems of a plan. Raises `Refused` where one is no longer in the estate."""
    missing = [name for name in plan.every if name not in place.estate.systems]
    if missing:
        raise Refused(f"{', '.join(missing)}: no longer in the estate.", next="Make a new plan.")
    return [place.estate.systems[name] for name in plan.every]


def basis_now(place: Workplace, plan: Plan, readings: dict[str, Reading]) -> Basis:
    """What a plan rests on, as it was read just now."""
    parts = {f"{n}:{part.name}": part.version for n, r in readings.items() for part in r.components}
    planned = {key: parts.get(key, "gone") for key in plan.basis.versions if ":" in key}
    versions = {**{n: r.version for n, r in readings.items()}, **planned}
    return basis_of(place, plan, {n: r.serial for n, r in readings.items()}, versions)


def basis_of(place: Workplace, plan: Plan, serials: dict[str, str], versions: dict[str, str]) -> Basis:
    """What a plan rests on, by these serials and versions."""
    systems = systems_of(place, plan)
    releases = {}
    for key in plan.basis.releases:
        product, _, version = key.rpartition(" ")
        found = place.products[product].resolve(version) if product in place.products else None
        releases[key] = release_digest(found) if found else "not in the catalog"
    runs_on = {
        node_name(s, n): node.runs_on for s in systems for n, node in s.nodes.items() if node.runs_on is not None
    }
    return Basis(
        estate=place.identity,
        nodes=serials,
        shapes={s.name: shape_words(s) for s in systems},
        runs_on=runs_on,
        versions=versions,
        releases=releases,
        profiles=place.profile_digests(systems),
    )


def refuse_differences(plan: Plan, now: Basis) -> None:
    """Raise `Refused` where what a plan rests on has changed."""
    said = basis_differences(plan.basis, now)
    if said:
        raise Refused(
            f"{plan.id} does not fit any more: {'; '.join(said)}.",
            "What was approved is no longer what would happen.",
            f"gallant plan {' '.join(plan.systems)} makes a new one.",
        )


def known_systems(plan: Plan, given: Sequence[Consent]) -> None:
    """A consent for a system that the plan does not have accepts nothing, and somebody believes that it did."""
    for consent in given:
        if consent.whose not in plan.every:
            raise WrongUse(
                f"--consent {consent.words}: {plan.id} has no system {consent.system}"
                f"{suggestion(consent.system, plan.every)}.",
                next=f"It has {', '.join(plan.every)}.",
            )


def refuse_decided(place: Workplace, plan: Plan, despite_booking: str | None) -> list[Bar]:
    """Raise `Refused` where somebody has decided otherwise; gives the bookings that are set aside."""
    found = notices.bars(place, plan)
    against = [one for one in found if not (one.booked and despite_booking)]
    if against:
        raise Refused(
            f"{plan.id} did not start: {'; '.join(one.what for one in against)}.",
            " ".join(dict.fromkeys(one.why for one in against)),
            against[0].next,
        )
    return found


def refuse_newer(place: Workplace, plan: Plan, decided_at: int | None, journal: OneRoll | None = None) -> None:
    """Raise `Refused` where somebody decided on it since; a roll that stands in the journal already ends with that. Who
    decides after it is there hears of it (`notices`)."""
    newer = notices.decided_since(place, plan, decided_at) if decided_at is not None else None
    if newer is None:
        return
    e = newer.entry
    what = f"{e.by} decided on {e.subject} meanwhile: {e.kind}"
    if journal is not None:
        end_here(place, journal, what)
    raise Refused(f"{plan.id} did not start: {what}.", "Nothing was touched.", "gallant notice list")


def refuse_missing(place: Workplace, plan: Plan) -> None:
    """Raise `Refused` where a package is not in stock."""
    if missing := not_in_stock(place, plan):
        raise Refused(
            f"{plan.id} did not start: {', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not in stock.",
            "Nothing was touched.",
            f"gallant stock fetch --plan {plan.id}",
        )


def refuse_stops(plan: Plan, findings: list[Finding], survey_code: int) -> None:
    """Raise `Refused` where a check says stop, or a node was not read."""
    stops = [f for f in findings if f.level == "stop"]
    if stops:
        told = "; ".join(f"{f.message} ({f.evidence})" if f.evidence else f.message for f in stops)
        kind = (
            Unreached if survey_code == Unreached.exit_code else Refused
        )  # what cannot be reached is the cause of the rest
        raise kind(f"{plan.id} did not start: {told}.", "Nothing was touched.", stops[0].next)
