"""One step, from its guards to its outcome: begun at most once, waited for, and found out about after a crash.

An act starts only after its intent is on the disk, and is repeated only when observation proves that it did not take
effect and can no longer do so. A step whose end is not known stays open in the journal; the next run observes first.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta

from gallant.core.catalog.products import Release, release_digest
from gallant.core.errors import GallantError, Stopped
from gallant.core.estate.snapshots import name_begins, roll_reason
from gallant.core.estate.stacks import by_system
from gallant.core.estate.systems import System
from gallant.core.ports import Accepted, AnswerLost, DeviceRefused, LoginRefused, NotReached, NotSent, act_of
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.records import replace
from gallant.core.work import events as e
from gallant.core.work.events import Before
from gallant.core.work.plan import IN_SYNC, LINKS, SERVES, Plan, Step
from gallant.core.work.steps import (
    ABSENT,
    BACKUP,
    DONE,
    FAILED,
    GOING,
    KINDS,
    NEVER,
    PAUSED,
    QUIET,
    RETURN,
    SAFE,
    SNAPSHOT,
    START_ON,
    STEADY,
    UNREACHED,
    UNTOLD,
    Look,
    Seen,
    doing,
    nodes_looked_at,
    observe,
    told,
)
from gallant.engine.guards import ADVICE, FINAL, Above, Objection, Scene, objections
from gallant.engine.journal import StepState
from gallant.engine.known import RunKnown
from gallant.engine.means import SEND_WITHIN, Hold, Log, Means, Orders, Unknown, WayOn, awake
from gallant.engine.overseer import Overseer
from gallant.engine.stages import Signs, Stages
from gallant.engine.watch import Watch

# Polls back off with the expected remainder, between these two, in seconds of estate time.
SHORTEST_POLL_S, LONGEST_POLL_S = 1.0, 30.0
MOST_OVER = 4  # times a step's deadline that a device which shows that it goes on is waited for
STEADY_SAMPLE_S = 10.0
READ_TRIES, READ_PAUSE_S = 4, 0.5
MOST_ATTEMPTS = 3
UNANSWERED_S = 600.0


class Attempts:
    """Carries out the steps of one run of a roll."""

    def __init__(
        self,
        roll_id: str,
        plan: Plan,
        means: Means,
        orders: Orders,
        log: Log,
        watch: Watch,
        wants_hold: Callable[[str], str | None],
    ) -> None:
        self.id, self.plan, self.means, self.orders, self.log = roll_id, plan, means, orders, log
        self.watch = watch
        self.overseer = Overseer(roll_id, means, log, wants_hold)
        self.clock, self.listener = means.clock, log.listener
        self._own = {
            BACKUP: self._backup,
            SNAPSHOT: self._snapshot,
            STEADY: self._steady,
            RETURN: self._return,
            START_ON: self._return,
            QUIET: self._quiet,
        }
        self.beside: dict[str, set[str]] = {}  # by system, the nodes that are worked on at this moment
        self._renewing: dict[str, asyncio.Lock] = {}  # by system, held while its backup is taken anew
        self.known = RunKnown(plan, means.estate, means.drivers, log)
        self._digests: dict[str, tuple[Release, str]] = {}  # by version
        self._over: set[str] = set()  # the steps that are waited for beyond their time
        self._returned: dict[str, float] = {}  # when an order of this process came back without an answer, by step

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

    async def mended(self, step: Step, whose: str) -> Look:
        """How the effect of a step that failed looks now. Where it is there, somebody has seen to it: the step is done,
        by the word of `whose` and by what the node shows."""
        known = self.log.state.step(step.id)
        before = known.intent.entry.before if known.intent is not None else None
        if before is None or not KINDS[step.kind].driven:
            return Look(state=UNTOLD, message="the node does not show whether it did")
        look = await self._look(step, before, None)
        if look.state != DONE:
            return look
        await self.log.intent(step, before)
        await self.log.outcome(step, e.DONE, f"{whose}: it had failed, and its effect is there now: {look.message}")
        return look

    async def _attempt(self, step: Step) -> bool:
        """One attempt, guards and all. False when the act provably did not begin and may be tried again."""
        system, kind = self._system(step.system), KINDS[step.kind]
        beside = self.beside.get(step.system, set()) - {step.node}
        staying = [node for node in system.nodes if node not in beside]
        if kind.unasked:
            await self.log.intent(step, Before(boot="", version="", role=""))
            await self._own[step.kind](step, system)
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
            await self._own[step.kind](step, system)
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

    def _kept_by(self, step: Step) -> tuple[str, str]:
        """The roll that took the restore point of a step's hop, and what it was taken before."""
        hop = next((hop for lane in self.plan.lanes for hop in lane.hops if hop.id == step.hop), None)
        if hop is not None and hop.rewinds is not None and self.plan.undoes is not None:
            return self.plan.undoes, hop.rewinds
        own = (s for s in self.known.steps() if s.hop == step.hop and s.kind == SNAPSHOT)
        return self.id, next((s.to for s in own), step.to)

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

    def _give_up(self) -> str:
        return f"gallant hold {self.id} --for-good --reason WHY ends the roll where it stands"

    def _can_export(self, system: System) -> bool:
        return "export" in self.means.drivers[system.name].capabilities()

    def _consented(self, to: str, system: System) -> bool:
        return system.name in self._accepted(to)

    def _accepted(self, to: str) -> tuple[str, ...]:
        """Of what somebody accepted that consequence."""
        given = (word.partition(":") for word in dict.fromkeys([*self.log.state.consents, *self.orders.consents]))
        return tuple(of for accepted, _, of in given if accepted == to)

    # --- waiting

    async def _wait(self, step: Step, before: Before, handle: str | None, already: Look | None = None) -> None:
        """Until the act is seen to be done. Past its deadline the step stays open: the next resume observes first.

        A failure that looks as it did `already` before the act was sent is what an earlier
        one left behind, for as long as a device may tell what was so a while ago. One that
        nothing says but what the node shows counts once it was shown for that long.
        """
        began, stages = awake(self.clock), self._stages(step)
        shown_since: datetime | None
        lands, shown_since, signs = self._lands(step), None, Signs()
        while True:
            look = await self._look(step, before, handle)
            if look.state == FAILED and look == already and awake(self.clock) - began < lands:
                look = replace(look, state=GOING)
            shown_since = (shown_since or awake(self.clock)) if look.state == FAILED and look.shown else None
            if shown_since is not None and awake(self.clock) - shown_since < lands:
                look = replace(look, state=GOING)
            handle = handle or look.handle
            if await self._ended(step, look):
                return
            soon = KINDS[step.kind].whole and await self.overseer.see(step, self._system(step.system), look, handle)
            elapsed = awake(self.clock) - began
            late = stages.late(look, awake(self.clock))
            signs.see(look, awake(self.clock))
            if late is not None and not await self._goes_on(step, look, late, stages, signs):
                raise self._late(step, look, late, stages)
            self._show(step, look, elapsed)
            await self._sleep(step, SHORTEST_POLL_S if soon else self._poll_after(step, look, elapsed))

    def _lands(self, step: Step) -> timedelta:
        """For how long a node may show what was so before an order."""
        return timedelta(seconds=self.means.drivers[step.system].lands_within_s(KINDS[step.kind].order))

    async def _ended(self, step: Step, look: Look, prefix: str = "") -> bool:
        """Write down an end that was seen: True when the step is done; raises where it failed."""
        if look.state == DONE:
            await self.log.outcome(step, e.DONE, f"{prefix}{look.message}")
            if (held := self.overseer.end_of(step, done=True)) is not None:
                raise held
            return True
        if look.state == FAILED:
            await self.log.outcome(step, e.FAILED, look.message)
            raise self.overseer.end_of(step, done=False) or self._failed(step, look)
        return False

    def _stages(self, step: Step) -> Stages:
        """How long a step may take in all, and in each stage of a node's return."""
        returns = self.means.drivers[step.system].knows().returns
        return Stages(awake(self.clock), self._patience(step.deadline_s), returns, self.clock.floor_s)

    async def _goes_on(self, step: Step, look: Look, late: timedelta, stages: Stages, signs: Signs) -> bool:
        """Whether a step whose time is over is waited for all the same, since
        its device shows that it goes on. Once it is, people are told."""
        now = awake(self.clock)
        if look.state != GOING or stages.waited(now) > MOST_OVER * late or not signs.goes_on(now, late):
            return False
        if step.id not in self._over:
            self._over.add(step.id)
            words = (
                f"is over its {late.total_seconds() / 60:.0f} min, and its device shows that it goes on:"
                f" {look.message.rstrip('.')}"
            )
            await self.log.write(e.LATE, step, message=words)
            self.means.hears.late(step, words)
        return True

    def _late(self, step: Step, look: Look, late: timedelta, stages: Stages) -> Stopped:
        if stages.limit(look) is None:
            return self._overdue(step, late, look)
        minutes = late.total_seconds() / 60
        return Stopped(
            f"{step.subject}: {look.message.rstrip('.')}, for longer than the {minutes:.0f} min that its profile gives"
            " that.",
            next=self._advice(step),
        )

    def _patience(self, seconds: float) -> timedelta:
        return timedelta(seconds=max(seconds, self.clock.floor_s))

    def _show(self, step: Step, look: Look, elapsed: timedelta) -> None:
        guessed = min(99.0, 100.0 * elapsed.total_seconds() / step.estimate_s) if step.estimate_s else 0.0
        self._tell(step, look, guessed if look.percent is None else look.percent, look.message)

    def _tell(self, step: Step, look: Look, percent: float, words: str) -> None:
        """How far a step is, for anyone who watches; or that its node does not answer."""
        if look.state == UNREACHED and look.message:
            self.listener.unanswered(step.id, look.message)
        else:
            self.listener.progress(step.id, percent, words)

    def _poll_after(self, step: Step, look: Look, elapsed: timedelta) -> float:
        """A quarter of what is expected to be left; of what it is over, once it is longer than was expected."""
        left = look.remaining_s if look.remaining_s is not None else abs(step.estimate_s - elapsed.total_seconds())
        return min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))

    def _overdue(self, step: Step, patience: timedelta, look: Look | None = None) -> Stopped:
        minutes = patience.total_seconds() / 60
        why = look.message if look is not None and look.state == UNREACHED and look.message else None
        return Stopped(told(KINDS[step.kind].overdue, step, minutes), why, self._advice(step))

    def _advice(self, step: Step) -> str:
        if step.reverts:
            point = name_begins(roll_reason(*self._kept_by(step)))
            return f"Look at the console of {step.subject}; or go back: gallant snapshot revert {step.system} {point}"
        return told(KINDS[step.kind].advice, step)

    def _failed(self, step: Step, look: Look) -> Stopped:
        """Where a node did not enter its release, what had brought the release may have to be done again."""
        what = f"{step.subject}: {doing(step)} to {step.to} failed: {look.message}."
        if not KINDS[step.kind].enters:
            return Stopped(what, next=self._advice(step))
        brought = [
            s.id
            for s in self.known.steps()
            if (s.hop, s.node) == (step.hop, step.node) and KINDS[s.kind].alters and self.log.state.step(s.id).done
        ]
        if not brought:
            return Stopped(what, next=f"{self._advice(step)}; {self._give_up()}")
        again = f"gallant resume {self.id} --again {brought[-1]} installs it once more"
        mended = f"gallant resume {self.id} goes on once {step.subject} runs {step.to}"
        return WayOn(what, next=f"{self._advice(step)}; {mended}; {again}; {self._give_up()}")

    async def _look(self, step: Step, before: Before, handle: str | None) -> Look:
        """Observe; a failure only on the word of two readings.

        A reading is several answers, and what they tell may change between them: a job that has just ended together
        with versions from just before. The second reading begins after whatever the first one saw had ended.
        """
        look = await self._look_once(step, before, handle)
        return await self._look_once(step, before, handle) if look.state == FAILED else look

    async def _look_once(self, step: Step, before: Before, handle: str | None) -> Look:
        """A node that does not answer is unreached; another machine at its address ends the roll."""
        system, away, said = self._system(step.system), KINDS[step.kind].away, dict[str, str]()

        async def look_at(node: str) -> Reading | None:
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost) as error:
                said[node] = error.what
            except LoginRefused:
                if not away:  # a node that is starting may not know its accounts yet
                    raise
            return None

        readings = await self.means.ask_all(nodes_looked_at(step, tuple(system.nodes)), look_at)
        own = readings[step.node]
        if handle is not None and own is not None and all(job.id != handle for job in own.jobs):
            with contextlib.suppress(GallantError):  # a device that lists only its newest jobs may still know this one
                readings[step.node] = replace(
                    own, jobs=(*own.jobs, await self.means.drivers[step.system].job(step.node, handle))
                )
        look = observe(self._seen(step, readings, before, handle))
        return replace(look, message=said.get(step.node, "")) if look.state == UNREACHED else look

    def _seen(self, step: Step, readings: dict[str, Reading | None], before: Before, handle: str | None) -> Seen:
        system = self._system(step.system)
        return Seen(
            step=step,
            shape=system.shape,
            readings=readings,
            before=before,
            handle=handle,
            same=self.means.same,
            taken_s=self._taken_s(step),
        )

    def _taken_s(self, step: Step) -> float | None:
        """For how long the node has had the order of a step that is open; None where it never said that it took it."""
        known = self.log.state.step(step.id)
        if not known.open or known.accepted is None:
            return None
        return (self.clock.now() - known.accepted.entry.at).total_seconds()

    async def _sleep(self, step: Step, seconds: float) -> None:
        began = self.clock.now()
        await self.clock.sleep(seconds)
        self.listener.waiting(began, self.clock.now(), step.id)

    # --- what Gallant does itself

    async def _steady(self, step: Step, system: System) -> None:
        """Every node healthy and at its version, in every sample for as long as the estate says."""
        began, stages, signs = awake(self.clock), self._stages(step), Signs()
        needed = timedelta(seconds=self.means.estate.limits.steady_s)
        since: datetime | None = None
        while True:
            now = awake(self.clock)
            look = await self._settled(system)
            if look.state == DONE:
                since = since or now
                if now - since >= needed:
                    words = f"in service and in sync in every sample for {needed.total_seconds():.0f} s"
                    await self.log.outcome(step, e.DONE, words)
                    return
                pause = min(STEADY_SAMPLE_S, max(SHORTEST_POLL_S, (needed - (now - since)).total_seconds()))
            else:
                since = None
                late = stages.late(look, now)
                signs.see(look, now)
                if late is not None and await self._goes_on(step, look, late, stages, signs):
                    late = None
                if late is not None and stages.limit(look) is not None:
                    raise self._late(step, look, late, stages)
                if late is not None:
                    raise Stopped(
                        f"{step.subject}: not steady within {late.total_seconds() / 60:.0f} min: {look.message}.",
                        next=self._advice(step),
                    )
                look = stages.with_time_left(look, now)
                left = look.remaining_s if look.remaining_s is not None else step.estimate_s
                pause = min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))
            self._show(step, look, now - began)
            await self._sleep(step, pause)

    async def _return(self, step: Step, system: System) -> None:
        """A node that went down with the one below it answers again. It may be out of service still, as it was
        before."""
        began, patience = awake(self.clock), self._patience(step.deadline_s)
        shown_since: datetime | None = None
        while True:
            try:
                reading = await self.read(system, step.node)
            except (NotReached, AnswerLost, LoginRefused) as error:
                said = error.what.rstrip(".")
            else:
                other = KINDS[step.kind].enters and not self.means.same(system.product, reading.version, step.to)
                shown_since = (shown_since or awake(self.clock)) if other else None
                if shown_since is not None and awake(self.clock) - shown_since >= self._lands(step):
                    look = Look(state=FAILED, message=f"came back on {reading.version}, not on {step.to}")
                    await self._ended(step, look)
                if reading.in_sync is not False and not other:
                    await self.log.outcome(step, e.DONE, f"answers again, on {reading.version}")
                    return
                said = f"shows {reading.version}, not {step.to}" if other else reading.why_unwell
            elapsed = awake(self.clock) - began
            if elapsed > patience:
                raise self._overdue(step, patience)
            self._show(step, Look(state=GOING, message=said), elapsed)
            await self._sleep(step, STEADY_SAMPLE_S)

    async def _quiet(self, step: Step, system: System) -> None:
        """Until no more sessions are open on the node than the estate allows, or its
        time for that is over. One that does not tell cannot be waited for."""
        rule, began = system.quiet, awake(self.clock)
        assert rule is not None  # else the step would not be there
        while True:
            open_now = (await self._read_again(system, step.node)).gauge("sessions")
            if open_now is None or open_now <= rule.sessions:
                told = "it does not tell its sessions" if open_now is None else f"{open_now:.0f} sessions open"
                await self.log.outcome(step, e.DONE, told)
                return
            elapsed = awake(self.clock) - began
            words = (
                f"{open_now:.0f} sessions are still open on {step.subject} after {elapsed.total_seconds() / 60:.0f} min"
            )
            if elapsed >= timedelta(minutes=rule.within_minutes):
                if rule.then == "go-on":
                    await self.log.outcome(step, e.DONE, f"{words}; it goes on, as the estate says")
                    return
                await self.log.outcome(step, e.FAILED, words)
                raise Hold(words)
            self._show(step, Look(state=GOING, message=f"{open_now:.0f} sessions open"), elapsed)
            await self._sleep(step, STEADY_SAMPLE_S)

    async def settle(self, before: Step) -> None:
        """Wait until every node is whole, between two parts of one wave; raises where that takes too long."""
        system, began = self._system(before.system), awake(self.clock)
        patience = self._patience(before.deadline_s)
        while (look := await self._settled(system)).state != DONE:
            if awake(self.clock) - began > patience:
                raise Stopped(
                    f"{before.subject}: {doing(before)} did not start: {look.message}.", next=self._advice(before)
                )
            self._tell(before, look, 0.0, f"waiting: {look.message}")
            await self._sleep(before, STEADY_SAMPLE_S)

    async def _settled(self, system: System) -> Look:
        expected = self.known.expected(system)

        async def heard(node: str) -> Reading | str:
            """A node that is away for a moment is not whole yet, and nothing worse."""
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost) as error:
                return error.what.rstrip(".")

        for node, reading in (await self.means.ask_all(tuple(system.nodes), heard)).items():
            if isinstance(reading, str):
                return Look(state=UNREACHED, message=reading)
            if node in expected and not self.means.same(system.product, reading.version, expected[node]):
                raise Stopped(f"{reading.name} runs {reading.version}; by the journal it should run {expected[node]}.")
            if not (reading.healthy if system.in_service else reading.state == IN_SERVICE):
                words = f"{reading.name}: {reading.why_unwell}"
                stage = IN_SYNC if reading.in_sync is False and reading.state == IN_SERVICE else SERVES
                return Look(state=GOING, message=words, remaining_s=reading.sync_remaining_s, stage=stage)
            if down := [name for name in self.known.links(system.name, node) if name not in reading.links_up]:
                words = f"{reading.name}: {', '.join(down)} not up again"
                return Look(state=GOING, message=words, stage=LINKS)
        return Look(state=DONE, message="every node in service and in sync")

    async def _backup(self, step: Step, system: System) -> None:
        if not self._can_export(system):  # then a consent was given, or nothing began
            words = "none is taken: nothing can be exported, and somebody accepted that by name"
            await self.log.outcome(step, e.DONE, words)
            return
        try:
            backup = await self.means.vault.take(
                system,
                by=self.orders.by,
                roll=self.id,
                before=step.to,
                progress=lambda percent, text: self.listener.progress(step.id, percent, text),
            )
        except GallantError as error:
            await self.log.outcome(step, e.FAILED, error.what)
            raise Stopped(error.what, "Nothing goes on without a backup.", error.next) from None
        words = f"{backup.id}: {len(backup.items)} items, {backup.bytes / 1000:.0f} kB, sealed"
        await self.log.outcome(step, e.DONE, words, backup.id)

    async def _snapshot(self, step: Step, system: System) -> None:
        """The restore point of the hop. What keeps it is asked first whether it is there: one is not taken twice."""
        try:
            name = await self.means.restore_points.take(system, by=self.orders.by, roll=self.id, before=step.to)
        except GallantError as error:
            await self.log.outcome(step, e.FAILED, error.what)
            raise Stopped(
                error.what, "Nothing goes on without the restore point that the plan asks for.", error.next
            ) from None
        await self.log.outcome(step, e.DONE, f"{name}, seen to be there")

    # --- after a crash, or an answer that was lost

    async def _reconcile(self, step: Step, known: StepState) -> bool:
        """Find out what became of an open step: True when it is done now, False when it provably never began.

        That nothing of it is seen counts only in a look that began after the order could land at the latest: one that
        was still under way then may have passed the node before the order did.
        """
        # The order of the next two lines in the loop is the promise: whether the order has
        # landed is asked before the look begins. The other way round a look that began too early
        # would count as proof, and an order that is still on its way would be given twice.
        assert known.intent is not None
        kind, before = KINDS[step.kind], known.intent.entry.before
        if kind.ours:  # these change nothing on a node, so they are simply done again
            await self.log.outcome(step, e.NOT_STARTED, "cut off by the end of the run; it is done again")
            return False
        assert before is not None
        handle = known.accepted.entry.handle if known.accepted else None
        if kind.by_person:
            if await self._ended(step, await self._look(step, before, None), "observed: "):
                return True
            raise self._by_hand(step)
        began, patience = awake(self.clock), self._patience(step.deadline_s if kind.away else UNANSWERED_S)
        while True:
            landed = self._has_landed(step, known)
            look = await self._look(step, before, handle)
            if look.state == FAILED and step.repeat == SAFE and not known.accepted:
                # What is seen may be of an attempt before this one, which may never have been sent.
                await self.log.outcome(step, e.NOT_STARTED, f"observed: {look.message}; it is done again")
                return False
            if look.state == FAILED and look.shown:
                await self._wait(step, before, handle)
                return True
            if await self._ended(step, look, "observed: "):
                return True
            if look.state == PAUSED:
                await self.overseer.go_on(step, self._system(step.system), look, handle)
            if look.state in (GOING, PAUSED) and (look.handle or known.accepted):
                self.listener.progress(step.id, look.percent or 0.0, f"taken up again: {look.message}")
                await self._wait(step, before, handle or look.handle)
                return True
            if look.state == ABSENT and not known.accepted and landed and step.repeat != NEVER:
                words = "observed: nothing of it on the node, and its time to land is over"
                await self.log.outcome(step, e.NOT_STARTED, words)
                return False
            # A node that is away may still tell once it is back; one that is there and shows nothing tells no more.
            silent = look.state == UNTOLD or (look.state == ABSENT and step.repeat == NEVER)
            if landed and (silent or awake(self.clock) - began > patience):
                raise self._not_known(step, look, patience)
            self._tell(step, look, 0.0, "looking what became of it")
            await self._sleep(step, SHORTEST_POLL_S)

    def _by_hand(self, step: Step) -> Unknown:
        """A person's turn has come: the roll waits for their word, and nobody else is worked on meanwhile."""
        return Unknown(
            f"{step.subject} is yours now: {step.task}. No other node of {step.system} is worked on meanwhile.",
            next=f"Do it, then: gallant resume {self.id} --done {step.id}",
        )

    def _has_landed(self, step: Step, known: StepState) -> bool:
        """Whether the order, if it was never seen to begin, cannot begin any more.

        From the last moment at which it can have been sent: the request's time-out, and after that the time within
        which the device carries out what it has taken.
        """
        if step.repeat == SAFE:
            return True
        assert known.intent is not None
        driver = self.means.drivers[step.system]
        sent = self._returned.get(step.id)
        if sent is None:  # by a process that came before: within its time to send, and not after it was gone
            latest = known.intent.entry.wall + self.log.journal.lease_s * SEND_WITHIN
            sent = min(latest, self.log.journal.sole_since)
        since = self.clock.real() - sent - driver.request_timeout_s
        return since >= 0 and self.clock.estate_s(since) >= driver.lands_within_s(KINDS[step.kind].order)

    def _not_known(self, step: Step, look: Look, patience: timedelta) -> Stopped:
        if look.state == GOING:  # a node that is away, and may be on its way back
            return self._overdue(step, patience)
        why = "it does not answer" if look.state == UNREACHED else "it took the order and shows nothing of it"
        if look.state == UNTOLD:
            why = "it lists nothing of its work"
        if step.repeat == NEVER and look.state == ABSENT:
            why = "nothing of it is seen, and its profile says that it is never given twice"
        return Unknown(
            f"Whether {step.subject} carried out the order to {doing(step)} is not known: {why}. Nothing is repeated.",
            next=(
                f"Look at {step.subject}, then: gallant resume {self.id} --it-did {step.id}   or   --it-did-not"
                f" {step.id}"
            ),
        )

    # --- readings

    def _system(self, name: str) -> System:
        return self.means.estate.systems[name]

    async def read(self, system: System, node: str) -> Reading:
        """A fresh reading, without jobs of ours that a person has said are none."""
        reading = await self.means.drivers[system.name].read(node)
        self.means.hears.reading(reading)
        dead = self.log.state.set_aside
        if not dead or all((system.name, node, job.id) not in dead for job in reading.jobs):
            return reading
        return replace(reading, jobs=tuple(j for j in reading.jobs if (system.name, node, j.id) not in dead))

    async def read_all(self, system: System, nodes: Sequence[str] = ()) -> dict[str, Reading]:
        """Fresh readings of every node, or of `nodes` alone, side by side; raises what the first of them raises."""
        names = tuple(nodes or system.nodes)
        return await self.means.ask_all(names, lambda node: self._read_again(system, node))

    async def read_as_expected(self, system: System) -> dict[str, Reading]:
        """The same, once every node tells what the journal left it at: right after a start one may tell for a while
        what it ran before. Where one does not come to that, what it tells; the guards of the first step then say so."""
        began, driver = awake(self.clock), self.means.drivers[system.name]
        lands = timedelta(seconds=max(driver.lands_within_s(kind) for kind in ("install", "restart")))
        while True:
            readings, expected = await self.read_all(system), self.known.expected(system)
            others = [
                n
                for n, r in readings.items()
                if n in expected and not self.means.same(system.product, r.version, expected[n])
            ]
            if not others or awake(self.clock) - began >= lands:
                return readings
            await self.clock.sleep(SHORTEST_POLL_S)

    async def _read_again(self, system: System, node: str) -> Reading:
        """One node, again for a little while where it fails; one that
        lets a request run into its time-out is not asked twice."""
        began, patience = awake(self.clock), self.means.drivers[system.name].request_timeout_s
        for attempt in range(READ_TRIES):
            try:
                return await self.read(system, node)
            except (NotReached, AnswerLost):
                if attempt == READ_TRIES - 1 or awake(self.clock) - began >= timedelta(
                    seconds=self.clock.estate_s(patience)
                ):
                    raise
                await self.clock.pause(READ_PAUSE_S)
        raise AssertionError("it was read, or raised")  # pragma: no cover


def _lacks_backup_alone(against: Sequence[Objection]) -> bool:
    return [one.guard for one in against] == ["backup_sealed"]
