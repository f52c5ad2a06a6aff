"""The executor: carries a plan out, step by step, so that it can be killed at any instant and taken up again.

An act starts only after its intent is on the disk, and is repeated only when observation proves that it did not take
effect. A roll ends finished, held at a safe stop, or stopped with what to do next; a step whose end is not known stays
open in the journal, and the next `resume` observes before it does anything.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from gallant.core import events as e
from gallant.core.catalog import release_digest
from gallant.core.errors import GallantError, Refused, Stopped
from gallant.core.estate import Estate, System, node_name
from gallant.core.events import Before, Entry, Event
from gallant.core.plan import (
    OUR_OWN,
    REVERT,
    Hop,
    HopWork,
    Lane,
    Plan,
    Step,
    Wave,
    hop_todo,
    hop_waves,
    steps_of,
    touched,
)
from gallant.core.ports import (
    Act,
    AnswerLost,
    Clock,
    DeviceRefused,
    Drivers,
    Journal,
    LeaseLost,
    Listener,
    LoginRefused,
    NotReached,
    NotSent,
    Prober,
    Releases,
    RestorePoints,
    Vault,
)
from gallant.core.readings import IN_SERVICE, Reading
from gallant.core.records import Record, replace
from gallant.core.snapshots import name_begins, roll_reason
from gallant.engine.guards import Scene, reasons_against
from gallant.engine.journal import RollState, StepState, after, replay
from gallant.engine.observe import ABSENT, DONE, FAILED, GOING, UNREACHED, Look, observe
from gallant.engine.watch import Watch

# Polls back off with the expected remainder, between these two, in seconds of estate time.
SHORTEST_POLL_S, LONGEST_POLL_S = 1.0, 30.0
STEADY_SAMPLE_S = 10.0
READ_TRIES, READ_PAUSE_S = 4, 0.5
MOST_ATTEMPTS = 3
UNANSWERED_S = 600.0
# Whether a role has moved is seen on all nodes; everything else on the node itself.
LOOKS_AT_ALL = ("handover", "failback")


@dataclass(frozen=True)
class Means:
    """Everything the engine is given from outside."""

    estate: Estate
    clock: Clock
    drivers: Drivers
    vault: Vault
    restore_points: RestorePoints
    releases: Releases
    prober: Prober
    journal: Journal
    listener: Listener


class Orders(Record):
    """What the person wants of this run: `hold_after` is step, node or hop; `answers` say what open steps came to."""

    by: str
    hold_after: str | None = None
    consents: tuple[str, ...] = ()
    answers: dict[str, bool] = {}


class End(Record):
    """How this run ended: finished, held or stopped."""

    state: str
    message: str
    next: str | None = None


class Hold(Exception):
    """The lane pauses here, at a safe stop."""


class Unknown(Stopped):
    """Whether an act took effect is not known, and cannot be found out; a person has to say."""


@dataclass
class Progress:
    """What a lane knows of itself while it runs."""

    at_safe_stop: bool = True


def need_consents(plan: Plan, drivers: Drivers, given: set[str]) -> None:
    """Raise `Refused` for a step that somebody has to accept by name and nobody has; before anything is begun."""
    for lane in plan.lanes:
        for hop in lane.hops:
            if hop.one_way and f"one-way:{lane.system}" not in given:
                raise Refused(
                    f"{lane.system}: there is no way back from {hop.to}.",
                    hop.one_way_because or "The publisher gives no way back to an older release.",
                    f"Whoever accepts that says so: gallant roll {plan.id} --consent one-way:{lane.system}",
                )
            if hop.despite_recall and f"recalled:{lane.system}" not in given:
                raise Refused(
                    f"{lane.system}: {hop.to} was recalled by its publisher; the plan finishes it all the same.",
                    "The recall's condition held on no node when the plan was made.",
                    f"Whoever accepts that says so: gallant roll {plan.id} --consent recalled:{lane.system}",
                )
        if "export" not in drivers[lane.system].capabilities() and f"no-backup:{lane.system}" not in given:
            raise Refused(
                f"{lane.system}: its driver cannot export a configuration, so there would be no backup.",
                next=f"Whoever accepts that says so: gallant roll {plan.id} --consent no-backup:{lane.system}",
            )


class Roll:
    """One run of one roll."""

    def __init__(self, roll_id: str, plan: Plan, means: Means, orders: Orders) -> None:
        self.id, self.plan, self.means, self.orders = roll_id, plan, means, orders
        self.clock, self.journal, self.listener = means.clock, means.journal, means.listener
        self.state = RollState()
        self.watch = Watch(means.prober, means.journal, means.clock, means.listener)
        self._hold: str | None = None
        self._lanes = {lane.system: Progress() for lane in plan.lanes}
        self._hops: dict[str, asyncio.Future[bool]] = {}

    # --- the whole

    async def carry_out(self) -> End:
        """Run until finished, held or stopped. Raises `Refused` before anything is written where it may not start."""
        events = self.journal.events()
        self.state = replay(events)
        if self.state.state in ("finished", "ended"):
            raise Refused(
                f"{self.id} is {self.state.state}; there is nothing to carry on.", next=f"gallant history {self.id}"
            )
        need_consents(self.plan, self.means.drivers, {*self.state.consents, *self.orders.consents})
        self._note(
            Entry(
                kind=e.RESUMED if events else e.OPENED,
                at=self.clock.now(),
                wall=self.clock.wall(),
                by=self.orders.by,
                consents=self.orders.consents,
            )
        )
        self._take_answers()
        self._where_things_stand(events)
        self._hops = {
            hop.id: asyncio.get_running_loop().create_future() for lane in self.plan.lanes for hop in lane.hops
        }
        helpers = [asyncio.create_task(self.watch.run()), asyncio.create_task(self._keep_leases())]
        try:
            ends = await asyncio.gather(*(self._lane(lane) for lane in self.plan.lanes))
            await self.watch.finish()
        finally:
            for helper in helpers:
                helper.cancel()
            await asyncio.gather(*helpers, return_exceptions=True)
        return self._conclude(ends)

    def hold(self, reason: str) -> None:
        """Ask for a pause at the next safe stop; may be called at any time."""
        self._hold = self._hold or reason

    def _take_answers(self) -> None:
        """A person's word on open steps: it closes them, and is written down as what it is."""
        for step_id, did in self.orders.answers.items():
            if not self.state.step(step_id).open:
                raise Refused(
                    f"{step_id} is not waiting for an answer.", next=f"gallant history {self.id} shows which step is."
                )
            said = "it did" if did else "it did not"
            for kind, result in ((e.ANSWERED, None), (e.OUTCOME, e.DONE if did else e.NOT_STARTED)):
                self._note(
                    Entry(
                        kind=kind,
                        at=self.clock.now(),
                        wall=self.clock.wall(),
                        step=step_id,
                        result=result,
                        by=self.orders.by,
                        message=f"{self.orders.by} says: {said}",
                    )
                )

    def _where_things_stand(self, events: list[Event]) -> None:
        for step in self._known_steps():
            if self.state.step(step.id).done:
                self._lanes[step.system].at_safe_stop = step.safe_stop_s is not None

    def _known_steps(self) -> list[Step]:
        return [
            step for lane in self.plan.lanes for hop in lane.hops for step in steps_of(self.state.waves.get(hop.id, ()))
        ]

    def _conclude(self, ends: list[End]) -> End:
        """One end for the roll: stopped if a lane is, else held if one is, else finished."""
        worst = next((end for state in ("stopped", "held", "finished") for end in ends if end.state == state), None)
        assert worst is not None  # a plan has a lane
        kind = {"stopped": e.STOPPED, "held": e.HELD, "finished": e.FINISHED}[worst.state]
        with contextlib.suppress(LeaseLost):  # then the journal is another's, and this is no longer ours to say
            self._note(
                Entry(kind=kind, at=self.clock.now(), wall=self.clock.wall(), message=worst.message, next=worst.next)
            )
        return worst

    async def _keep_leases(self) -> None:
        while True:
            await self.clock.pause(self.journal.lease_s / 4)
            self.journal.renew()

    def _note(self, entry: Entry) -> Event:
        return self._seen(self.journal.append(entry))

    def _seen(self, event: Event) -> Event:
        self.state = after(self.state, event)
        self.listener.event(event)
        return event

    # --- lanes and hops

    async def _lane(self, lane: Lane) -> End:
        try:
            for hop in lane.hops:
                await self._needs(hop)
                worked = await self._hop(lane, hop)
                self._hops[hop.id].set_result(True)
                if self.orders.hold_after == "hop" and worked:
                    self.hold("as asked, after the hop")
            return await self._final(lane)
        except Hold as hold:
            return End(
                state="held", message=f"{lane.system} is held at a safe stop: {hold}.", next=f"gallant resume {self.id}"
            )
        except Unknown as error:
            return End(state="held", message=error.what, next=error.next)
        except GallantError as error:
            told = [error.what, error.why, await self._who_serves(lane.system)]
            return End(state="stopped", message="\n".join(t for t in told if t), next=self._after_failure(error))
        finally:
            for hop in lane.hops:
                if not self._hops[hop.id].done():
                    self._hops[hop.id].set_result(False)

    def _after_failure(self, error: GallantError) -> str:
        carry_on = f"gallant resume {self.id}"
        if error.next is None:
            return f"Look at it, then: {carry_on}"
        return error.next if carry_on in error.next else f"{error.next.rstrip('.')}; then: {carry_on}"

    async def _needs(self, hop: Hop) -> None:
        for need in hop.needs:
            if not await self._hops[need]:
                raise Stopped(
                    f"{hop.system}: {hop.from_} → {hop.to} was not started: it needs {need}, which did not finish."
                )

    async def _hop(self, lane: Lane, hop: Hop) -> bool:
        """Everything of the hop that is not done; False when nothing was left to do."""
        waves = self.state.waves.get(hop.id)
        if waves is None:
            self._may_hold(lane.system)
            waves = await self._derive(lane, hop)
        left = [wave for wave in waves if any(not self.state.step(step.id).done for step in steps_of((wave,)))]
        for wave in left:
            await self._wave(wave)
        return bool(left)

    async def _derive(self, lane: Lane, hop: Hop) -> tuple[Wave, ...]:
        """The hop's waves from the roles as they are now, within what the plan approved."""
        system = self._system(lane.system)
        readings = await self._read_all(system)
        product, release = (
            self.means.releases.product(system.product),
            self.means.releases.current(system.product, hop.to),
        )
        if product is None or release is None or (release.recall is not None and not hop.despite_recall):
            raise Refused(
                f"{lane.system}: {hop.to} "
                + (
                    "is no longer in the catalog."
                    if release is None
                    else f"was {release.recall.words}."
                    if release.recall
                    else ""
                ),
                next=f"gallant plan {lane.system} finds another way",
            )
        todo = hop_todo(product, {n: r.version for n, r in readings.items()}, release)
        self._approved(hop, readings, todo)
        waiting = [n for n in todo if self._same(system, readings[n].next_version, hop.to)]
        site = self.means.estate.sites[system.site]
        work = HopWork(
            hop_id=hop.id,
            release=release,
            package=hop.package,
            mbit_per_s=site.sends_mbit_per_s,
            steady_s=self.means.estate.limits.steady_s,
            despite_recall=hop.despite_recall,
            preloads="preload" in self.means.drivers[lane.system].capabilities(),
            restore_point=hop.restore_point,
        )
        waves = hop_waves(system, work, {n: r.role for n, r in readings.items()}, todo, waiting)
        planned = [step.id for step in steps_of(hop.waves)]
        derived = [step.id for step in steps_of(waves)]
        message = (
            "as planned"
            if planned == derived
            else "derived anew from the roles as they are: " + ", ".join(w.why for w in waves)
        )
        now = self.clock.now()
        self._note(Entry(kind=e.DERIVED, at=now, wall=self.clock.wall(), hop=hop.id, waves=waves, message=message))
        return waves

    def _approved(self, hop: Hop, readings: Mapping[str, Reading], todo: Sequence[str]) -> None:
        """Nothing is disturbed that the plan leaves alone, whatever it runs by now."""
        if strange := sorted(set(todo) - touched(hop.waves)):
            told = ", ".join(f"{readings[node].name} runs {readings[node].version}" for node in strange)
            raise Refused(
                f"{hop.system}: {hop.from_} → {hop.to} was not started: {told}, and the plan has no step on it.",
                "What was not approved is not disturbed.",
                f"gallant plan {hop.system} makes a plan from what runs now",
            )

    async def _wave(self, wave: Wave) -> None:
        """All tracks side by side; the first failure is the wave's, after every track has come to rest."""
        results = await asyncio.gather(*(self._track(track.steps) for track in wave.tracks), return_exceptions=True)
        raised = [result for result in results if isinstance(result, BaseException)]
        raised.sort(
            key=lambda error: isinstance(error, Hold)
        )  # a hold of one track does not hide the failure of another
        if raised:
            raise raised[0]

    async def _track(self, steps: tuple[Step, ...]) -> None:
        for step in steps:
            await self._step(step)

    def _may_hold(self, system: str) -> None:
        reason = self._hold or self.journal.hold_wanted()
        if reason is not None and self._lanes[system].at_safe_stop:
            self.hold(reason)
            raise Hold(reason)

    async def _final(self, lane: Lane) -> End:
        """`finished` means: every node at its target, roles in their usual places, in sync, services answering."""
        system, target = self._system(lane.system), lane.hops[-1].to
        readings = await self._read_all(system)
        wrong = [f"{r.name} runs {r.version}" for r in readings.values() if not self._same(system, r.version, target)]
        if system.in_service:
            wrong += [f"{r.name} is not in service and in sync" for r in readings.values() if not r.healthy]
            wrong += [
                f"{system.name}/{n} is {readings[n].role}, its usual place is {role}"
                for role, n in system.usual.items()
                if readings[n].role != role
            ]
        self.watch.look()
        wrong += [f"the service {name} does not answer" for name in self.watch.unanswered()]
        if wrong:
            raise Stopped(
                f"{system.name} is not as it should be after the last step: {'; '.join(wrong)}.",
                next=f"gallant verify {system.name}",
            )
        return End(
            state="finished",
            message=f"{system.name} runs {target} on every node.",
            next=f"gallant verify {system.name}",
        )

    async def _who_serves(self, system_name: str) -> str:
        """For whoever reads the message in the night: who carries the load now."""
        system = self._system(system_name)
        if not system.in_service:
            return f"{system_name} is not in service, so nobody waits for it. Nothing else was started."
        serving, silent = [], []
        for node in system.nodes:
            try:
                reading = await self.means.drivers[system_name].read(node)
            except GallantError:
                silent.append(node_name(system, node))
            else:
                if reading.role == "active":
                    serving.append(reading.name)
        if not serving:
            return f"No node of {system_name} says that it serves; look at once. Nothing else was started."
        return f"{serving[0]} serves{' alone' if silent else ''}; nothing else was started."

    # --- one step

    async def _step(self, step: Step) -> None:
        known = self.state.step(step.id)
        if known.done:
            return
        lane = self._lanes[step.system]
        if not known.open:
            self._may_hold(step.system)
        if not (known.open and await self._reconcile(step, known)):
            while not await self._attempt(step):
                if self.state.step(step.id).attempts >= MOST_ATTEMPTS:
                    raise Stopped(f"{step.subject}: {step.kind} was tried {MOST_ATTEMPTS} times and never began.")
        lane.at_safe_stop = step.safe_stop_s is not None
        if self.orders.hold_after == "step" or (self.orders.hold_after == "node" and step.ends_node):
            self.hold(f"as asked, after the {self.orders.hold_after}")

    async def _attempt(self, step: Step) -> bool:
        """One attempt, guards and all. False when the act provably did not begin and may be tried again."""
        system = self._system(step.system)
        readings = await self._read_all(system, (step.node,) if step.alone else ())
        self._guard(step, system, readings, await self._restore_point(step, system))
        own = readings[step.node]
        before = Before(
            boot=own.boot,
            version=own.version,
            next_version=own.next_version,
            role=own.role,
            jobs=tuple(j.id for j in own.jobs),
        )
        if step.kind in OUR_OWN:
            self._intend(step, before)
            await {"backup": self._backup, "snapshot": self._snapshot, "steady": self._steady}[step.kind](step, system)
            return True
        already = observe(step, dict(readings), before, None, lambda a, b: self._same(system, a, b))
        mark = self._intend(step, before)
        if already.state == DONE:
            self._outcome(step, e.DONE, f"it was so already: {already.message}")
            return True
        return await self._send(step, before, mark)

    async def _send(self, step: Step, before: Before, mark: float) -> bool:
        """Send the act and see it through. Nothing is sent later than a third of the lease after the intent."""
        act = Act(
            kind=step.kind,
            release=step.to,
            package=step.package or "",
            sha256=step.sha256 or "",
            bytes=step.bytes,
            reason=f"{self.id} {step.id}",
        )
        try:
            send_by = mark + self.journal.lease_s / 3
            if self.clock.real() > send_by:
                raise NotSent(
                    f"{step.subject}: the order to {step.kind} was not sent: writing the journal took too long.",
                    next="Look at the disk under state/",
                )
            accepted = await self.means.drivers[step.system].act(
                step.node,
                act,
                send_by=send_by,
                progress=lambda percent, text: self.listener.progress(step.id, percent, text),
            )
        except (NotReached, LoginRefused, NotSent) as error:
            self._outcome(step, e.NOT_SENT, error.what)
            raise
        except DeviceRefused as error:
            if error.meaning != "already":
                self._outcome(step, e.FAILED, error.what)
                raise Stopped(
                    f"{step.subject}: {step.kind} to {step.to} was refused. {error.what}", error.why
                ) from None
            accepted = None
        except AnswerLost:
            return await self._reconcile(step, self.state.step(step.id))
        if accepted is not None:
            self._note(
                Entry(
                    kind=e.ACCEPTED,
                    at=self.clock.now(),
                    wall=self.clock.wall(),
                    step=step.id,
                    handle=accepted.handle,
                    message=accepted.message,
                )
            )
        await self._wait(step, before, accepted.handle if accepted else None)
        return True

    async def _restore_point(self, step: Step, system: System) -> str | None:
        if "restore_point_there" not in step.guards:
            return None
        return await self.means.restore_points.there(system, roll=self.id, before=step.to)

    def _guard(self, step: Step, system: System, readings: Mapping[str, Reading], restore_point: str | None) -> None:
        release = self.means.releases.current(system.product, step.to)
        planned = self.plan.basis.releases.get(f"{system.product} {step.to}")
        scene = Scene(
            step=step,
            system=system,
            readings=dict(readings),
            expected=self._expected(system),
            release=release,
            release_as_planned=release is not None and release_digest(release) == planned,
            backups=tuple(self.means.vault.backups(system.name)),
            now=self.clock.now(),
            backup_limit=timedelta(hours=self.means.estate.limits.backup_age_hours),
            hop_backups=self._hop_backups(step),
            restore_point=restore_point,
        )
        reasons = reasons_against(scene, lambda a, b: self._same(system, a, b))
        if f"no-backup:{system.name}" in {*self.state.consents, *self.orders.consents}:
            reasons = [r for r in reasons if "no sealed backup" not in r]
        if reasons:
            raise Stopped(
                f"{step.subject}: {step.kind} was not begun: {'; '.join(reasons)}.", next=f"gallant check {system.name}"
            )

    def _hop_backups(self, step: Step) -> tuple[str, ...]:
        """The backups that the hop of a step began with, as the journal has them: no clock is asked which came first."""
        own = (s for s in self._known_steps() if s.kind == "backup" and s.hop == step.hop)
        ends = (self.state.step(s.id).outcome for s in own)
        return tuple(end.entry.handle for end in ends if end is not None and end.entry.handle is not None)

    def _expected(self, system: System) -> dict[str, str]:
        """The version of each node as the journal left it: the plan's basis, and every restart since."""
        expected = {n: self.plan.basis.versions[node_name(system, n)] for n in system.nodes}
        for step in self._known_steps():
            if step.system == system.name and step.kind == "restart" and self.state.step(step.id).done:
                expected[step.node] = step.to
        return expected

    def _intend(self, step: Step, before: Before) -> float:
        """Write the intent; gives the real time at which it was begun to be written."""
        mark = self.clock.real()
        self._seen(
            self.journal.intend(
                Entry(
                    kind=e.INTENT,
                    at=self.clock.now(),
                    wall=self.clock.wall(),
                    step=step.id,
                    before=before,
                    attempt=self.state.step(step.id).attempts + 1,
                ),
                step.system,
            )
        )
        return mark

    def _outcome(self, step: Step, result: str, message: str, handle: str | None = None) -> None:
        self._note(
            Entry(
                kind=e.OUTCOME,
                at=self.clock.now(),
                wall=self.clock.wall(),
                step=step.id,
                result=result,
                message=message,
                handle=handle,
            )
        )

    # --- waiting

    async def _wait(self, step: Step, before: Before, handle: str | None) -> None:
        """Until the act is seen to be done. Past its deadline the step stays open: the next resume observes first."""
        began = self.clock.now()
        patience = timedelta(seconds=max(step.deadline_s, self.clock.floor_s))
        while True:
            look = await self._look(step, before, handle)
            handle = handle or look.handle
            if look.state == DONE:
                self._outcome(step, e.DONE, look.message)
                return
            if look.state == FAILED:
                self._outcome(step, e.FAILED, look.message)
                raise Stopped(
                    f"{step.subject}: {step.kind} to {step.to} failed: {look.message}.", next=self._advice(step)
                )
            elapsed = self.clock.now() - began
            if elapsed > patience:
                raise Stopped(self._overdue(step, patience), next=self._advice(step))
            self._show(step, look, elapsed)
            await self._sleep(step, self._poll_after(step, look, elapsed))

    def _show(self, step: Step, look: Look, elapsed: timedelta) -> None:
        guessed = min(99.0, 100.0 * elapsed.total_seconds() / step.estimate_s) if step.estimate_s else 0.0
        self.listener.progress(step.id, guessed if look.percent is None else look.percent, look.message)

    def _poll_after(self, step: Step, look: Look, elapsed: timedelta) -> float:
        """A quarter of what is expected to be left; of what it is over, once it is longer than was expected."""
        left = look.remaining_s if look.remaining_s is not None else abs(step.estimate_s - elapsed.total_seconds())
        return min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))

    def _overdue(self, step: Step, patience: timedelta) -> str:
        minutes = f"{patience.total_seconds() / 60:.0f} min"
        return {
            "restart": f"{step.subject} did not come back within {minutes} of its restart (installing {step.to}).",
            "steady": f"{step.subject}: the system was not steady within {minutes}: {step.expects} was not seen.",
        }.get(step.kind, f"{step.subject}: {step.kind} to {step.to} was not done within {minutes}.")

    def _advice(self, step: Step) -> str:
        if step.undo == REVERT:
            point = name_begins(roll_reason(self.id, step.to))
            return f"Look at the console of {step.subject}; or go back: gallant snapshot revert {step.system} {point}"
        return {
            "restart": f"Look at the console of {step.subject}",
            "steady": f"gallant check {step.system} says what is not in sync",
            "preload": "Look at the network between here and the node",
        }.get(step.kind, f"gallant survey {step.system}")

    async def _look(self, step: Step, before: Before, handle: str | None) -> Look:
        """Observe; a failure only on the word of two readings.

        A reading is several answers, and what they tell may change between them: a job that has just ended beside
        versions from just before. The second reading begins after whatever the first one saw had ended.
        """
        look = await self._look_once(step, before, handle)
        return await self._look_once(step, before, handle) if look.state == FAILED else look

    async def _look_once(self, step: Step, before: Before, handle: str | None) -> Look:
        """A node that does not answer is unreached; another machine at its address ends the roll."""
        system = self._system(step.system)
        readings: dict[str, Reading | None] = {}
        for node in system.nodes if step.kind in LOOKS_AT_ALL else (step.node,):
            try:
                readings[node] = await self.means.drivers[step.system].read(node)
            except (NotReached, AnswerLost) as error:
                readings[node] = None
                self.listener.progress(
                    step.id, 0.0, error.what
                ) if node == step.node and step.kind != "restart" else None
            except LoginRefused:
                if step.kind != "restart":  # a node that is starting may not know its accounts yet
                    raise
                readings[node] = None
        own = readings[step.node]
        if handle is not None and own is not None and all(job.id != handle for job in own.jobs):
            with contextlib.suppress(GallantError):  # a device that lists only its newest jobs may still know this one
                readings[step.node] = replace(
                    own, jobs=(*own.jobs, await self.means.drivers[step.system].job(step.node, handle))
                )
        return observe(step, readings, before, handle, lambda a, b: self._same(system, a, b))

    async def _sleep(self, step: Step, seconds: float) -> None:
        began = self.clock.now()
        await self.clock.sleep(seconds)
        self.listener.waiting(began, self.clock.now(), step.id)

    async def _steady(self, step: Step, system: System) -> None:
        """Every node healthy and at its version, in every sample for as long as the estate says."""
        began = self.clock.now()
        patience = timedelta(seconds=max(step.deadline_s, self.clock.floor_s))
        needed = timedelta(seconds=self.means.estate.limits.steady_s)
        since: datetime | None = None
        while True:
            now = self.clock.now()
            look = await self._settled(system)
            if look.state == DONE:
                since = since or now
                if now - since >= needed:
                    self._outcome(
                        step, e.DONE, f"in service and in sync in every sample for {needed.total_seconds():.0f} s"
                    )
                    return
                pause = min(STEADY_SAMPLE_S, max(SHORTEST_POLL_S, (needed - (now - since)).total_seconds()))
            else:
                since = None
                if now - began > patience:
                    raise Stopped(
                        f"{step.subject}: not steady within {patience.total_seconds() / 60:.0f} min: {look.message}.",
                        next=self._advice(step),
                    )
                left = look.remaining_s if look.remaining_s is not None else step.estimate_s
                pause = min(LONGEST_POLL_S, max(SHORTEST_POLL_S, left / 4))
            self._show(step, look, now - began)
            await self._sleep(step, pause)

    async def _settled(self, system: System) -> Look:
        expected = self._expected(system)
        for node in system.nodes:
            try:
                reading = await self.means.drivers[system.name].read(node)
            except (NotReached, AnswerLost) as error:
                return Look(state=GOING, message=error.what.rstrip("."))
            if not self._same(system, reading.version, expected[node]):
                raise Stopped(f"{reading.name} runs {reading.version}; by the journal it should run {expected[node]}.")
            if not (reading.healthy if system.in_service else reading.state == IN_SERVICE):
                told = f"{reading.name}: {reading.why_unwell}"
                return Look(state=GOING, message=told, remaining_s=reading.sync_remaining_s)
        return Look(state=DONE, message="every node in service and in sync")

    async def _backup(self, step: Step, system: System) -> None:
        if "export" not in self.means.drivers[system.name].capabilities():  # then a consent was given, or nothing began
            self._outcome(step, e.DONE, "none is taken: nothing can be exported, and somebody accepted that by name")
            return
        try:
            backup = await self.means.vault.take(
                system,
                by=self.orders.by,
                comment=f"before {step.to}, {self.id}",
                progress=lambda percent, text: self.listener.progress(step.id, percent, text),
            )
        except GallantError as error:
            self._outcome(step, e.FAILED, error.what)
            raise Stopped(error.what, "Nothing goes on without a backup.", error.next) from None
        told = f"{backup.id}: {len(backup.items)} items, {backup.bytes / 1000:.0f} kB, sealed"
        self._outcome(step, e.DONE, told, backup.id)

    async def _snapshot(self, step: Step, system: System) -> None:
        """The restore point of the hop. Whoever keeps it is asked first whether it is there: one is not taken twice."""
        try:
            name = await self.means.restore_points.take(system, by=self.orders.by, roll=self.id, before=step.to)
        except GallantError as error:
            self._outcome(step, e.FAILED, error.what)
            raise Stopped(
                error.what, "Nothing goes on without the restore point that the plan asks for.", error.next
            ) from None
        self._outcome(step, e.DONE, f"{name}, seen to be there")

    # --- after a crash, or an answer that was lost

    async def _reconcile(self, step: Step, known: StepState) -> bool:
        """Find out what became of an open step: True when it is done now, False when it provably never began."""
        assert known.intent is not None
        intent = known.intent.entry
        if step.kind in OUR_OWN:  # these change nothing on a node, so they are simply done again
            self._outcome(step, e.NOT_STARTED, "cut off by the end of the run; it is done again")
            return False
        assert intent.before is not None
        handle = known.accepted.entry.handle if known.accepted else None
        began = self.clock.now()
        patience = timedelta(
            seconds=max(step.deadline_s if step.kind == "restart" else UNANSWERED_S, self.clock.floor_s)
        )
        while True:
            look = await self._look(step, intent.before, handle)
            if look.state == DONE:
                self._outcome(step, e.DONE, f"observed: {look.message}")
                return True
            if look.state == FAILED:
                self._outcome(step, e.FAILED, look.message)
                raise Stopped(
                    f"{step.subject}: {step.kind} to {step.to} failed: {look.message}.", next=self._advice(step)
                )
            if look.state == GOING and (look.handle or known.accepted):
                self.listener.progress(step.id, look.percent or 0.0, f"taken up again: {look.message}")
                await self._wait(step, intent.before, handle or look.handle)
                return True
            if look.state == ABSENT and not known.accepted and self._cannot_have_begun(step, intent):
                self._outcome(step, e.NOT_STARTED, "observed: nothing of it on the node, and its time to land is over")
                return False
            if self.clock.now() - began > patience and self._cannot_have_begun(step, intent):
                if look.state == GOING:  # a node that is away, and may be on its way back
                    raise Stopped(self._overdue(step, patience), next=self._advice(step))
                raise self._not_known(step, look)
            self.listener.progress(step.id, 0.0, "looking what became of it")
            await self._sleep(step, SHORTEST_POLL_S)

    def _cannot_have_begun(self, step: Step, intent: Entry) -> bool:
        """Whether the order, if it was never seen to begin, cannot begin any more: time-out and time to land are over."""
        if step.repeat == "safe":
            return True
        driver = self.means.drivers[step.system]
        waited = max(0.0, self.clock.wall() - intent.wall)  # estate time may be set between two processes
        landed = self.clock.estate_s(waited)
        return waited >= driver.request_timeout_s and landed >= driver.lands_within_s(step.kind)

    def _not_known(self, step: Step, look: Look) -> Unknown:
        why = "it does not answer" if look.state == UNREACHED else "it took the order and shows nothing of it"
        return Unknown(
            f"Whether {step.subject} carried out the order to {step.kind} is not known: {why}. Nothing is repeated.",
            next=f"Look at {step.subject}, then: gallant resume {self.id} --it-did {step.id}   or   --it-did-not {step.id}",
        )

    # --- small things

    def _system(self, name: str) -> System:
        return self.means.estate.systems[name]

    def _same(self, system: System, a: str | None, b: str | None) -> bool:
        """Whether two texts name one release, by whichever of its names."""
        if a is None or b is None:
            return False
        if a == b:
            return True
        one, other = self.means.releases.current(system.product, a), self.means.releases.current(system.product, b)
        return one is not None and one == other

    async def _read_all(self, system: System, nodes: tuple[str, ...] = ()) -> dict[str, Reading]:
        """Fresh readings of every node, or of `nodes` alone, trying again for a little while."""
        readings: dict[str, Reading] = {}
        for node in nodes or system.nodes:
            for attempt in range(READ_TRIES):
                try:
                    readings[node] = await self.means.drivers[system.name].read(node)
                    break
                except (NotReached, AnswerLost):
                    if attempt == READ_TRIES - 1:
                        raise
                    await self.clock.pause(READ_PAUSE_S)
        return readings
