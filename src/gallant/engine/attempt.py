"""One step, from its guards to its outcome: begun at most once, waited for, and found out about after a crash.

An act starts only after its intent is on the disk, and is repeated only when observation proves that it did not take
effect and can no longer do so. A step whose end is not known stays open in the journal; the next run observes first.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta

from gallant.core.catalog.products import Release, release_digest
from gallant.core.errors import Stopped
from gallant.core.estate.stacks import by_system
from gallant.core.estate.systems import System
from gallant.core.ports import Accepted, AnswerLost, DeviceRefused, LoginRefused, NotReached, NotSent, act_of
from gallant.core.readings import Reading
from gallant.core.steps.kinds import (
    KINDS,
    doing,
    observe,
)
from gallant.core.steps.seen import DONE, Look
from gallant.core.work import events as e
from gallant.core.work.events import Before
from gallant.core.work.plan import Step
from gallant.engine.guards import ADVICE, FINAL, Above, Objection, Scene, objections
from gallant.engine.means import SEND_WITHIN, WayOn
from gallant.engine.reconcile import Reconciling

MOST_ATTEMPTS = 3


class Attempts(Reconciling):
    """Carries out the steps of one run of a roll."""

    async def carry_out(self, step: Step, may_begin: Callable[[], None] = lambda: None) -> None:
        """Until the step is done; raises what prevents it. `may_begin` is asked
        again before an order that is given later than when it was asked first: after
        a halt, or where nothing came of one that an earlier process gave."""
        with self.watch.moving(step.system) if step.interrupts_s else contextlib.nullcontext():
            await self._to_its_end(step, may_begin)

    async def _to_its_end(self, step: Step, may_begin: Callable[[], None]) -> None:
        known = self.log.state.step(step.id)
        if known.open:
            if await self._reconcile(step, known):
                return
            may_begin()
        if known.failed and (await self.mended(step, "seen")).state == DONE:
            return
        while not await self._attempt(step):
            may_begin()
            known = self.log.state.step(step.id)
            if known.attempts >= MOST_ATTEMPTS:
                seen = known.outcome.entry.message if known.outcome is not None else None
                raise Stopped(
                    f"{step.subject}: {doing(step)} was tried {MOST_ATTEMPTS} times and never came to anything.",
                    seen,
                    self._advice(step),
                )

    async def _attempt(self, step: Step) -> bool:
        """One attempt, guards and all. False when the act provably did not begin and may be tried again."""
        system, kind = self._system(step.system), KINDS[step.kind]
        beside = self.beside.get(step.system, set()) - {step.node}
        staying = [node for node in system.nodes if node not in beside]
        if kind.unasked:
            await self.log.intent(step, Before(boot="", version="", role=""))
            await self._own(step.kind)(step, system)
            return True
        readings = await self.read_all(system, (step.node,) if step.alone else staying)
        against = await self._against(step, system, readings)
        if _lacks_backup_alone(against):
            async with self._renewing.setdefault(
                step.system, asyncio.Lock()
            ):  # of nodes side by side one does it for all
                against = await self._with_fresh_backup(step, system, readings)
        self._refuse(step, against)
        own = readings[step.node]
        before = Before(
            boot=own.boot,
            version=own.version,
            next_version=own.next_version,
            role=own.role,
            jobs=tuple(j.id for j in own.jobs),
            links=own.links_up,
        )
        if kind.ours:
            await self.log.intent(step, before)
            await self._own(step.kind)(step, system)
            return True
        already = observe(self._seen(step, dict(readings), before, None))
        mark = self.clock.real()
        await self.log.intent(step, before)
        if kind.by_person:
            raise self._by_hand(step)
        if already.state == DONE:
            await self.log.outcome(step, e.DONE, f"it was so already: {already.message}")
            return True
        return await self._send(step, before, mark + self.log.journal.lease_s * SEND_WITHIN, already)

    async def _send(self, step: Step, before: Before, send_by: float, already: Look) -> bool:
        """Send the act and see it through; past `send_by` nothing is sent. `already` is how it looked before. False
        where it was not sent because this process stood still: then all is looked at once more."""
        try:
            kept = KINDS[step.kind].keeper
            accepted = await (self._rewind(step) if kept else self._order(step, send_by))
        except (NotReached, LoginRefused, NotSent) as error:
            await self.log.outcome(step, e.NOT_SENT, error.what)
            if self.log.stood_s(step) and not isinstance(error, LoginRefused):
                return False
            raise
        except DeviceRefused as error:
            if error.meaning != "already":
                await self.log.outcome(step, e.FAILED, error.what)
                raise Stopped(
                    f"{step.subject}: {doing(step)} to {step.to} was refused. {error.what}", error.why
                ) from None
            accepted = None
        except AnswerLost:
            self._returned[step.id] = self.clock.real()
            return await self._reconcile(step, self.log.state.step(step.id))
        if accepted is not None:
            await self.log.write(e.ACCEPTED, step, handle=accepted.handle, message=accepted.message)
        await self._wait(step, before, accepted.handle if accepted else None, already)
        return True

    async def _order(self, step: Step, send_by: float) -> Accepted:
        act = act_of(step, f"{self.id} {step.id}")
        if self.clock.real() > send_by:
            raise NotSent(
                f"{step.subject}: the order to {doing(step)} was not sent: writing the journal took too long.",
                next="Look at the disk under state/",
            )
        return await self.means.drivers[step.system].act(
            step.node,
            act,
            send_by=send_by,
            progress=lambda percent, text: self.listener.progress(step.id, percent, text),
        )

    async def _rewind(self, step: Step) -> Accepted:
        """Go back to the restore point, by the system or the host that keeps it, and wait until that is done."""
        system, (roll, before) = self._system(step.system), self._kept_by(step)
        await self.means.restore_points.revert(system, by=self.orders.by, roll=roll, before=before)
        return Accepted()

    # --- guards

    async def _restore_point(self, step: Step, system: System) -> str | None:
        if "restore_point_there" not in step.guards:
            return None
        roll, before = self._kept_by(step)
        return await self.means.restore_points.there(system, roll=roll, before=before)

    async def _above(self, step: Step) -> list[Above]:
        """What stands on the nodes that a step takes away, as it is now."""
        found = []
        serves = next((hop.serves for lane in self.plan.lanes for hop in lane.hops if hop.id == step.hop), {})
        for name, nodes in by_system((*step.disturbs, *step.anew)).items():
            if name != step.system:
                system, driver = self._system(name), self.means.drivers[name]
                readings = await self.read_all(system)
                drains = "drain" in driver.capabilities()
                enters = serves.get(name)
                found.append(Above(system=system, readings=readings, going=nodes, drains=drains, enters=enters))
        return found

    async def _against(self, step: Step, system: System, readings: Mapping[str, Reading]) -> list[Objection]:
        """What the guards of a step have against it now."""
        restore_point, above = await self._restore_point(step, system), await self._above(step)
        release = self.means.releases.current(step.product, step.to)
        planned = self.plan.basis.releases.get(f"{step.product} {step.to}")
        scene = Scene(
            step=step,
            system=system,
            readings=dict(readings),
            expected=self.known.expected(system),
            release=release,
            release_as_planned=release is not None and self._digest(release) == planned,
            backups=tuple(self.means.vault.backups(system.name)),
            now=self.clock.now(),
            backup_limit=timedelta(hours=self.means.estate.limits.backup_age_hours),
            hop_backups=self.known.backups(step),
            restore_point=restore_point,
            our_jobs=self.known.jobs(system.name),
            silent=tuple(self.watch.silent(system.name)),
            flapping=self.watch.flapping(system.name),
            beside=tuple(sorted(self.beside.get(step.system, set()) - {step.node})),
            ceiling_percent=self.means.estate.limits.ceiling_percent,
            downtime_accepted=self._consented("downtime", system),
            above=tuple(above),
            falling_accepted=tuple(o.system.name for o in above if self._consented("downtime", o.system)),
            losing_accepted=self._accepted("loses-unsaved"),
            backup_waived=not self._can_export(system) and self._consented("no-backup", system),
        )
        return objections(scene, self.means.same)

    def _digest(self, release: Release) -> str:
        """Of a release as its catalog has it; of the same one it is reckoned once."""
        own, digest = self._digests.get(release.version, (None, ""))
        if own is not release:
            digest = release_digest(release)
            self._digests[release.version] = (release, digest)
        return digest

    async def _with_fresh_backup(self, step: Step, system: System, readings: Mapping[str, Reading]) -> list[Objection]:
        """What is against a step once a backup that only grew too old, in a long hold as a rule, was taken anew: that
        is Gallant's own work, and needs no word of a person."""
        against = await self._against(step, system, readings)
        stale = self._stale_backup(step, against) if _lacks_backup_alone(against) else None
        if stale is None:
            return against
        await self.log.write(e.AGAIN, stale, message="it has gone stale; it is taken anew")
        await self.carry_out(stale)
        return await self._against(step, system, readings)

    def _stale_backup(self, step: Step, against: Sequence[Objection]) -> Step | None:
        """The backup step of a hop, where what it took is there, and too old by now."""
        gone = self._gone(step, against[0])
        taken = set(self.known.backups(gone)) if gone is not None else set()
        there = {b.id for b in self.means.vault.backups(step.system) if b.sealed is not None}
        return gone if gone is not None and taken and taken <= there else None

    def _refuse(self, step: Step, against: Sequence[Objection]) -> None:
        if against:
            kind = WayOn if any(self._gone(step, one) for one in against) else Stopped
            raise kind(
                f"{step.subject}: {doing(step)} did not start: {'; '.join(one.reason for one in against)}.",
                next=self._ways_on(step, against),
            )

    def _ways_on(self, step: Step, against: Sequence[Objection]) -> str:
        """What a person can do about each guard, and how to end the roll where one of them may never be satisfied."""
        ways: dict[str, None] = {}
        final = False
        for one in against:
            gone = self._gone(step, one)
            if gone is not None:
                ways[f"gallant resume {self.id} --again {gone.id} does that once more"] = None
            else:
                advice = ADVICE.get(one.guard, "gallant check {system}")
                ways[advice.format(system=step.system, subject=step.subject)] = None
            final = final or gone is not None or one.guard in FINAL
        return "; ".join([*ways, *([self._give_up()] if final else [])])

    def _gone(self, step: Step, objection: Objection) -> Step | None:
        """The step whose effect a guard looks for, where that was done already and is not to be seen any more."""
        hops = {step.hop, *(h.id for lane in self.plan.lanes for h in lane.hops if h.lays and h.system == step.system)}
        for earlier in self.known.steps():
            kind = KINDS[earlier.kind]
            near = earlier.hop in hops and earlier.system == step.system and (kind.ours or earlier.node == step.node)
            if near and kind.proved_by == objection.guard and self.log.state.step(earlier.id).done:
                return earlier
        return None

    def _consented(self, to: str, system: System) -> bool:
        return system.name in self._accepted(to)

    def _accepted(self, to: str) -> tuple[str, ...]:
        """Of what somebody accepted that consequence."""
        given = (word.partition(":") for word in dict.fromkeys([*self.log.state.consents, *self.orders.consents]))
        return tuple(of for accepted, _, of in given if accepted == to)

    # --- waiting

    # --- what Gallant does itself

    # --- after a crash, or an answer that was lost

    # --- readings


def _lacks_backup_alone(against: Sequence[Objection]) -> bool:
    return [one.guard for one in against] == ["backup_sealed"]
