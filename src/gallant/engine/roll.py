"""A roll: lanes side by side, each hop after hop and wave after wave, until finished, held at a safe stop, or stopped.

It can be killed at any instant and taken up again; the journal says where it was, and observation what really happened.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Collection, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial

from gallant.core.catalog.products import Release
from gallant.core.decide.consents import consents_needed, roll_command
from gallant.core.errors import GallantError, Refused, Stopped
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.systems import System
from gallant.core.length.spread import has_to_go_on, late_s, to_rest_s
from gallant.core.plan.ground import hop_work, in_their_mode
from gallant.core.plan.hops import hop_waves
from gallant.core.plan.lanes import dependents
from gallant.core.plan.todo import hop_todo, runs_of, touched, widest
from gallant.core.ports import Drivers, LeaseLost
from gallant.core.readings import IMAGE, Reading
from gallant.core.records import replace
from gallant.core.steps.kinds import KINDS
from gallant.core.steps.seen import DONE
from gallant.core.windows.rules import open_at
from gallant.core.work import events as e
from gallant.core.work.plan import (
    Hop,
    Lane,
    Plan,
    Step,
    Track,
    Wave,
    steps_of,
)
from gallant.engine.attempt import Attempts
from gallant.engine.ends import Ends
from gallant.engine.means import End, Hold, Log, Means, Orders, Shielded, Unknown, WayOn, in_words
from gallant.engine.rounds import Places, Rounds
from gallant.engine.soak import Soak
from gallant.engine.watch import Watch

HELPER_AGAIN_S = 1.0  # real seconds after which a helper that failed is started once more


def exported(plan: Plan, drivers: Drivers) -> list[str]:
    """The systems of a plan that can be backed up."""
    return [name for name in plan.systems if "export" in drivers[name].capabilities()]


def need_consents(plan: Plan, drivers: Drivers, given: set[str]) -> None:
    """Raise `Refused` for all that somebody has to accept by name and nobody has; before anything is begun."""
    missing = [one for one in consents_needed(plan, exported(plan, drivers)) if one.consent.words not in given]
    if missing:
        raise Refused(
            "\n".join(one.what for one in missing),
            " ".join(dict.fromkeys(one.why for one in missing if one.why)) or None,
            f"Anyone who accepts that says so: {roll_command(plan, exported(plan, drivers), sorted(given))}",
        )


class Roll(Ends):
    """One run of one roll."""

    def __init__(self, roll_id: str, plan: Plan, means: Means, orders: Orders) -> None:
        self.orders, self.journal, self.listener = orders, means.journal, Shielded(means.listener)
        log = Log(means.journal, means.clock, self.listener, orders.by)
        watch = Watch(means.prober, log, means.clock, self.listener)
        attempts = Attempts(roll_id, plan, means, orders, log, watch, self._hold_reason)
        super().__init__(roll_id, plan, means, log, watch, attempts)
        self._hold: str | None = None
        self._lost: set[str] = set()  # systems whose lease another has taken
        # By lane, the systems whose users it can hit.
        self._concerned = {
            lane.system: {
                name
                for own in (lane.system, *lane.also)
                for name in (own, *dependents(means.estate, means.estate.systems[own]))
            }
            for lane in plan.lanes
        }
        self.ends: dict[str, End] = {}  # by lane, how it ended, in the order in which they did
        # By lane, the nodes in the middle of something.
        self._unsafe: dict[str, set[str]] = {lane.system: set() for lane in plan.lanes}
        self._hops: dict[str, asyncio.Future[str]] = {}  # how each hop ended: as a roll ends

    # --- the whole

    async def carry_out(self) -> End:
        """Run until finished, held or stopped. Raises `Refused` before anything is written where it may not start."""
        events = self.log.read()
        if self.log.state.state in ("finished", "ended"):
            raise Refused(
                f"{self.id} is {self.log.state.state}; there is nothing to carry on.", next=f"gallant history {self.id}"
            )
        need_consents(self.plan, self.means.drivers, {*self.log.state.consents, *self.orders.consents})
        kind = e.RESUMED if events else e.OPENED
        await self.log.write(
            kind, by=self.orders.by, consents=self.orders.consents, watched=tuple(self.means.prober.watches)
        )
        await self._take_words()
        for step in self.attempts.known.steps():
            if self.log.state.step(step.id).done:
                self._came_to_rest(step)
        loop = asyncio.get_running_loop()
        self._rounds = Rounds(self.plan, self.clock, self._ended_at, self._may_hold, self._well, self._soak)
        self._places = Places(self.means.estate)
        self._hops = {hop.id: loop.create_future() for lane in self.plan.lanes for hop in lane.hops}
        return await self._conclude(await self._lanes())

    async def _lanes(self) -> list[End]:
        """Every lane to its end, the helpers as long as any lane works."""
        async with asyncio.TaskGroup() as helpers:
            running = [
                helpers.create_task(self._helper("The watch", self.watch.run)),
                helpers.create_task(self._helper("The keeping of the leases", self._keep_leases)),
            ]
            try:
                async with asyncio.TaskGroup() as lanes:
                    tasks = [lanes.create_task(self._lane(lane)) for lane in self.plan.lanes]
                ends = [task.result() for task in tasks]
                with contextlib.suppress(LeaseLost):
                    ends += await self._end_watch()
            finally:
                for helper in running:
                    helper.cancel()
        return ends

    async def _end_watch(self) -> list[End]:
        """An outage that cannot be written down is not lost in silence: then the roll is not finished."""
        try:
            await self.watch.finish()
        except LeaseLost:
            raise
        except GallantError as error:
            return [End(state="stopped", message=f"An outage could not be written down. {error.what}", next=error.next)]
        return []

    async def _helper(self, name: str, run: Callable[[], Awaitable[None]]) -> None:
        """Run a helper. Should it fail, the roll is held at its next safe stop, and the helper is started once more:
        until every lane has come to rest somebody still has to keep the leases and to watch."""
        while True:
            try:
                await run()
                return
            except Exception as error:
                self.hold(f"{name[0].lower()}{name[1:]} failed ({in_words(error)})")
            await self.clock.pause(HELPER_AGAIN_S)

    async def _keep_leases(self) -> None:
        while True:
            await self.clock.pause(self.journal.lease_s / 4)
            self._lost.update(await self.journal.renew())

    def hold(self, reason: str) -> None:
        """Ask for a pause at the next safe stop; may be called at any time."""
        self._hold = self._hold or reason

    async def _take_words(self) -> None:
        """A person's word on steps: what open ones came to, and which are to be done again."""
        for step_id, did in self.orders.answers.items():
            if did and self.log.state.step(step_id).failed:
                await self._take_mended(self._step_named(step_id))
                continue
            if not self.log.state.step(step_id).open:
                raise Refused(
                    f"{step_id} is not waiting for an answer.", next=f"gallant history {self.id} shows which step is."
                )
            step, said = self._step_named(step_id), "it did" if did else "it did not"
            await self.log.word(step, e.ANSWERED, None, f"{self.orders.by} says: {said}")
            result = e.DONE if did else e.NOT_STARTED
            await self.log.word(step, e.OUTCOME, result, f"{self.orders.by} says: {said}")
        for step_id in self.orders.again:
            step = self._step_named(step_id)
            self._refuse_again(step)
            await self.log.word(step, e.AGAIN, None, f"{self.orders.by} says: its effect is gone; it is done again")

    async def _take_mended(self, step: Step) -> None:
        """A step that failed is done by a person's word where the device shows it too."""
        look = await self.attempts.mended(step, f"{self.orders.by} says: it did")
        if look.state != DONE:
            raise Refused(
                f"{step.id} failed, and {step.subject} does not show that it did: {look.message or look.state}.",
                next=f"gallant history {self.id} shows which step is waiting; gallant survey {step.system}",
            )

    def _step_named(self, step_id: str) -> Step:
        found = next((step for step in self.attempts.known.steps() if step.id == step_id), None)
        if found is None:
            raise Refused(f"{self.id} has no step {step_id} so far.", next=f"gallant history {self.id} shows them.")
        return found

    def _refuse_again(self, step: Step) -> None:
        """Only what was done can be done again, and only while nothing that built on it was."""
        own = [s for s in self.attempts.known.steps() if (s.hop, s.node) == (step.hop, step.node)]
        later = [] if KINDS[step.kind].ours else [s for s in own[own.index(step) + 1 :] if KINDS[s.kind].alters]
        built = next((s for s in later if self.log.state.step(s.id).done), None)
        if not self.log.state.step(step.id).done:
            raise Refused(f"{step.id} was not done yet; it is carried out anyway.", next=f"gallant resume {self.id}")
        if built is not None:
            raise Refused(
                f"{step.id} is not done again: {built.id}, which built on it, was done.",
                next=f"gallant hold {self.id} --for-good --reason WHY, then: gallant plan {step.system}",
            )

    async def _conclude(self, ends: Sequence[End]) -> End:
        """One end for the roll: stopped if a lane is, else held if one is, else finished; every lane that is not,
        told."""
        state = next(state for state in ("stopped", "held", "finished") if any(end.state == state for end in ends))
        short = sorted((end for end in ends if end.state != "finished"), key=lambda end: end.state != "stopped")
        told = short or ends
        message = "\n".join(end.message for end in told)
        next_ = self._next(short) if short else f"gallant verify {' '.join(self.plan.systems)}"
        opening = [end.opens for end in short if end.opens is not None]
        waits = all(end.waits for end in short) and self._hold_asked() is None
        opens = min(opening) if opening and waits else None
        if opens is not None:
            next_ = f"From {opens:%Y-%m-%d %H:%M} UTC on: {next_}"
        kind = {"stopped": e.STOPPED, "held": e.HELD, "finished": e.FINISHED}[state]
        with contextlib.suppress(LeaseLost):  # then the journal is another's, and this is no longer ours to say
            await self.log.write(kind, message=message, next=next_, opens=opens)
        remarks = (self.listener.failed,) if self.listener.failed is not None else ()
        return End(state=state, message=message, next=next_, remarks=remarks, waits=opens is not None, opens=opens)

    def _next(self, ends: Sequence[End]) -> str:
        """What every lane that stands advises, and then the one command that carries all of them on."""
        carry_on = f"gallant resume {self.id}"
        said = {end.next.rstrip("."): end.resumes for end in ends if end.next}
        whole = [advice for advice, resumes in said.items() if resumes]
        first = [advice for advice, resumes in said.items() if not resumes]
        if not said:
            return f"Look at it, then: {carry_on}"
        if len(said) == 1 and whole:
            return whole[0]
        return f"{'; '.join(first)}; then: {' ; '.join(whole) or carry_on}" if first else " ; ".join(whole)

    # --- lanes and hops

    async def _lane(self, lane: Lane) -> End:
        end = await self._to_its_end(lane)
        self.means.hears.rest()
        self.ends[lane.system] = end
        self._rounds.ended(lane.system, end)
        if end.state == "stopped" and self.orders.stop_others:
            self.hold(f"{lane.system} stopped, and the others were to hold then")
        return end

    async def _to_its_end(self, lane: Lane) -> End:
        """The lane's end; what waits for a hop that was not finished is told how that ended."""
        state = "stopped"
        try:
            end = await self._end_of(lane)
            state = end.state
            return end
        finally:
            for hop in lane.hops:
                if not self._hops[hop.id].done():
                    self._hops[hop.id].set_result(state)

    async def _end_of(self, lane: Lane) -> End:
        try:
            return await self._hops_of(lane)
        except Hold as hold:
            where = "at a safe stop" if not hold.unsafe else f"in the middle of {' and '.join(hold.unsafe)}"
            serves = [await self._who_serves(lane.system)] if hold.unsafe else []
            return End(
                state="held",
                message="\n".join([f"{lane.system} is held {where}: {hold}.", *serves]),
                next=f"gallant resume {self.id}",
                resumes=True,
                waits=hold.waits,
                opens=hold.opens,
            )
        except Unknown as error:
            return End(state="held", message=error.what, next=error.next, resumes=True)
        except GallantError as error:
            said = (error.what, error.why, await self._who_serves(lane.system), self._way_back(lane))
            return End(
                state="stopped",
                message="\n".join(text for text in said if text),
                next=error.next,
                resumes=isinstance(error, WayOn),
            )
        except Exception as error:
            # Not foreseen, so nothing is known of where the lane stands; the others go no further than to a safe stop.
            self.hold(f"{lane.system} was stopped by an error of Gallant's own")
            told = f"{lane.system} was stopped by an error of Gallant's own: {in_words(error)}."
            return End(state="stopped", message=f"{told}\n{await self._who_serves(lane.system)}")

    async def _hops_of(self, lane: Lane) -> End:
        await self._rounds.before(lane.system)
        for hop in lane.hops:
            await self._needs(hop)
            async with self._places.of(lane.system):
                worked = await self._hop(lane, hop)
            self.means.hears.rest()
            self._hops[hop.id].set_result("finished")
            if self.orders.hold_after == "hop" and worked:
                self.hold("as asked, after the hop")
        return await self._final(lane)

    async def _needs(self, hop: Hop) -> None:
        for need in hop.needs:
            ended = await self._hops[need]
            if ended == "held":
                raise Hold(f"it needs {need}, which is held", waits=True)
            if ended != "finished":
                raise Stopped(
                    f"{hop.system}: {hop.from_} → {hop.to} was not started: it needs {need}, which did not finish."
                )

    async def _hop(self, lane: Lane, hop: Hop) -> bool:
        """Everything of the hop that is not done; False when nothing was left to do."""
        waves = self.log.state.waves.get(hop.id)
        if waves is None:
            self._may_hold(lane.system)
            waves = await self._derive(lane, hop)
        left = [wave for wave in waves if any(not self.log.state.step(step.id).done for step in steps_of((wave,)))]
        for wave in left:
            await self._wave(lane.system, wave)
            if self.orders.hold_after == "wave":
                self.hold("as asked, after the wave")
        return bool(left)

    async def _derive(self, lane: Lane, hop: Hop) -> tuple[Wave, ...]:
        """The hop's waves from the roles as they are now, within what the plan approved."""
        system = self._system(lane.system)
        readings = await self.attempts.read_as_expected(system)
        products = self._products(lane, hop)
        release = self._entered(system, hop) if hop.image else None
        knows = {name: self.means.drivers[name].knows() for name in (lane.system, *lane.also)}
        knows[lane.system] = in_their_mode(system, knows[lane.system], readings)
        above = {name: await self.attempts.read_all(self._system(name)) for name in lane.also}
        work = hop_work(self.means.estate, system, hop, release, knows, {**above, system.name: readings}, products)
        runs = {node: runs_of(reading) for node, reading in readings.items()}
        todo = hop_todo(work, products[system.product], products, runs)
        standing = standing_of(system, readings, self.means.estate.limits)
        # Never wider than was approved, and in the order that a person asked for.
        standing = replace(standing, width=min(standing.width, widest(hop.waves)), wish=hop.wish)
        waves = hop_waves(system, work, standing, todo)
        self._approved(hop, readings, waves)
        as_planned = [s.id for s in steps_of(hop.waves)] == [s.id for s in steps_of(waves)]
        anew = "derived anew from the roles as they are: " + ", ".join(w.why for w in waves)
        await self.log.write(e.DERIVED, hop=hop.id, waves=waves, message="as planned" if as_planned else anew)
        return waves

    def _entered(self, system: System, hop: Hop) -> Release:
        """The image's release, as its catalog has it now. Raises `Refused` where it may not be entered any more."""
        release = self.means.releases.current(system.product, hop.to)
        way_on = f"gallant plan {system.name} finds another way"
        if release is None:
            raise Refused(f"{system.name}: {hop.to} is no longer in the catalog.", next=way_on)
        if release.recall is not None and not hop.despite_recall:
            raise Refused(f"{system.name}: {hop.to} was {release.recall.words}.", next=way_on)
        return release

    def _approved(self, hop: Hop, readings: Mapping[str, Reading], waves: Sequence[Wave]) -> None:
        """Nothing is changed that the plan leaves alone, whatever it runs by now."""
        if strange := sorted(touched(waves) - touched(hop.waves)):
            parts = {(node, part.name): part.version for node, r in readings.items() for part in r.components}
            told = ", ".join(
                f"{readings[node].name} runs"
                f" {readings[node].version if what == IMAGE else f'{what} {parts[node, what]}'}"
                for node, what in strange
            )
            raise Refused(
                f"{hop.system}: {hop.from_} → {hop.to} was not started: {told}, and the plan has no step on it.",
                "What was not approved is not disturbed.",
                f"gallant plan {hop.system} makes a plan from what runs now",
            )

    async def _wave(self, system: str, wave: Wave) -> None:
        """The tracks side by side, as many at once as the others can carry now; the
        first failure is the wave's, after every track has come to rest."""
        left = [t for t in wave.tracks if not all(self.log.state.step(s.id).done for s in t.steps)]
        while left:
            together, left = await self._at_once(system, left)
            self.attempts.beside[system] = {track.node for track in together if _disturbs(track)}
            try:
                of_wave = {step.subject for step in steps_of((wave,))}
                tracks = (self._track(track.steps, of_wave) for track in together)
                results = await asyncio.gather(*tracks, return_exceptions=True)
            finally:
                self.attempts.beside[system] = set()
            raised = [result for result in results if isinstance(result, BaseException)]
            raised.sort(key=lambda error: isinstance(error, Hold))  # a hold of one does not hide the failure of another
            if raised:
                raise raised[0]
            if left:  # the next of them leave only once these are whole again
                await self.attempts.settle(left[0].steps[0])

    async def _at_once(self, name: str, tracks: Sequence[Track]) -> tuple[list[Track], list[Track]]:
        """Those that go on together now, and those that wait: the
        width is chosen again by fresh readings of what stays.

        Tracks that disturb nothing need no width, nor do nodes that nobody depends on, or that are out already.
        """
        system = self._system(name)
        if len(tracks) < 2 or not system.in_service or not all(map(_disturbs, tracks)):
            return list(tracks), []
        begun = [t for t in tracks if any(self.log.state.step(s.id).open for s in t.steps)]
        resting = [node for node in system.nodes if all(node != t.node for t in begun)]
        if not resting:
            return list(tracks), []  # none is left that would have to carry anything
        readings = await self.attempts.read_all(system, resting)
        standing = standing_of(system, readings, self.means.estate.limits)
        free = [t for t in tracks if t.node in standing.out and t not in begun]
        others = [t for t in tracks if t not in begun and t not in free]
        now = [*begun, *free, *others[: max(0, standing.width - len(begun))]]
        return now, [t for t in tracks if t not in now]

    async def _track(self, steps: tuple[Step, ...], of_wave: Collection[str]) -> None:
        away = [name.partition("/")[0] for step in steps for name in (*step.disturbs, *step.anew)]
        with self.watch.going(set(away)):
            await self._steps(steps, of_wave)

    async def _steps(self, steps: tuple[Step, ...], of_wave: Collection[str]) -> None:
        own = {step.subject for step in steps}
        for number, step in enumerate(steps):
            known = self.log.state.step(step.id)
            if known.done:
                continue
            unsafe = self._unsafe[self._lane_of[step.hop].system]
            may_begin = partial(self._may_begin, steps[number:], own, of_wave, step.subject in unsafe)
            if not known.open:
                may_begin()
            elif step.safe_stop_s is None:
                unsafe.add(step.subject)
            await self.attempts.carry_out(step, may_begin)
            self._came_to_rest(step)
            if self.orders.hold_after == "step" or (self.orders.hold_after == "node" and step.ends_node):
                self.hold(f"as asked, after the {self.orders.hold_after}")

    def _may_begin(self, left: Sequence[Step], own: Collection[str], of_wave: Collection[str], in_midst: bool) -> None:
        """Raise `Hold` where the first of what is left of a track is not to begin now; nothing of it has, or it would
        not be asked. `in_midst`: an earlier step has left its node in the middle of something."""
        step, lane = left[0], self._lane_of[left[0].hop]
        unsafe = self._unsafe[lane.system]
        if not in_midst:
            unsafe.discard(step.subject)
        self._may_hold(lane.system)
        if not has_to_go_on(unsafe, own=own, wave=of_wave):
            self._in_window(lane, left)
        if step.safe_stop_s is None:
            unsafe.add(step.subject)

    def _in_window(self, lane: Lane, steps: Sequence[Step]) -> None:
        """Hold before a system is disturbed outside of its windows, or so late that in
        one case of ten the work would still go on when its window ends."""
        spans = self.orders.windows.get(lane.system)
        if spans is None:
            return
        hop = next(hop for hop in lane.hops if hop.id == steps[0].hop)
        needed = timedelta(seconds=to_rest_s(hop, steps, self.log.state.waves.get(hop.id, hop.waves)))
        if not needed:
            return
        now = self.clock.now()
        here = open_at(spans, now)
        if here is not None and now + needed <= here.end:
            return
        following = next((span for span in spans if span.begin > now and span.length >= needed), None)
        then = (
            f"the next that is long enough begins at {following.begin:%Y-%m-%d %H:%M} UTC"
            if following
            else "none that is long enough is to come"
        )
        opens = following.begin if following is not None else None
        booked = lane.system in self.orders.booked
        if here is None:
            what = f"{lane.system} is not booked for now" if booked else f"no window of {lane.system} is open"
            raise Hold(f"{what}; {then}; {self._left(lane)}", waits=True, opens=opens)
        what = f"the time that {lane.system} is booked for" if booked else f"the window of {lane.system}"
        raise Hold(
            f"{what} ends at {here.end:%H:%M} UTC, and the work may last until {now + needed:%H:%M}; {then};"
            f" {self._left(lane)}",
            waits=True,
            opens=opens,
        )

    def _left(self, lane: Lane) -> str:
        """What of a lane is left to do, in words."""
        state = self.log.state
        left = [
            (hop, step)
            for hop in lane.hops
            for step in steps_of(state.waves.get(hop.id, hop.waves))
            if not state.step(step.id).done
        ]
        about, late = sum(s.estimate_s for _, s in left) / 60, sum(late_s(hop, s) for hop, s in left) / 60
        return f"{len(left)} steps are left, about {about:.0f} min, within {late:.0f}"

    def _came_to_rest(self, step: Step) -> None:
        """What a step that is done leaves its system at. One that
        looks at every node ends what was begun on any of them."""
        unsafe = self._unsafe[self._lane_of[step.hop].system]
        if step.safe_stop_s is None:
            unsafe.add(step.subject)
        elif KINDS[step.kind].ends_node:
            unsafe.clear()
        else:
            unsafe.discard(step.subject)

    def _may_hold(self, system: str) -> None:
        also = next(lane.also for lane in self.plan.lanes if lane.system == system)
        if taken := next((name for name in (system, *also) if name in self._lost), None):
            raise LeaseLost(
                f"The lease of {taken} was taken by another Gallant; nothing more is started on it here.",
                next=f"gallant history {self.id} says what is being done.",
            )
        wanted, asked = self.journal.hold_wanted(), self._hold_asked()
        reason, unsafe = self._hold_reason(system), sorted(self._unsafe[system])
        if reason is not None and (not unsafe or (wanted is not None and wanted.now)):
            if asked is not None:
                self.hold(asked)
            raise Hold(reason, unsafe)

    def _hold_asked(self) -> str | None:
        wanted = self.journal.hold_wanted()
        return self._hold or (wanted.reason if wanted is not None else None) or self._hold_time()

    def _hold_reason(self, system: str) -> str | None:
        """Why a lane is to hold where it can: somebody asked for it, or a service was out for longer than it may be."""
        return self._hold_asked() or self.watch.over_budget(self._concerned[system])

    def _hold_time(self) -> str | None:
        at = self.orders.hold_at
        return f"it was to hold at {at:%H:%M} UTC" if at is not None and self.clock.now() >= at else None

    def _ended_at(self, system: str) -> datetime | None:
        """When the last step of a lane was done."""
        lane = next(lane for lane in self.plan.lanes if lane.system == system)
        hops = {hop.id for hop in lane.hops}
        ends = (self.log.state.step(s.id).outcome for s in self.attempts.known.steps() if s.hop in hops)
        return max((end.entry.at for end in ends if end is not None), default=None)

    async def _well(self, system: str) -> None:
        await self._final(next(lane for lane in self.plan.lanes if lane.system == system))

    def _soak(self) -> Soak:
        return Soak(self.clock, self.means.before, self.means.answered, self._read_system, self.watch.answers)


def _disturbs(track: Track) -> bool:
    return any(step.disturbs for step in track.steps)
