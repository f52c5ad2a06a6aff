"""What every driver does alike: carry out a profile's calls, turn what they gave into core records, know the machine.

A protocol's own driver says how one call is made (`_ask`), and which capabilities it has without a profile's help.
"""

from __future__ import annotations

import asyncio
import contextlib
import functools
import hashlib
import io
from collections.abc import AsyncIterator, Awaitable, Callable, Coroutine, Mapping, Sequence
from datetime import datetime
from typing import Any, ParamSpec, TypeVar

from gallant.core.errors import GallantError
from gallant.core.ports import (
    Accepted,
    Act,
    AnswerLost,
    DeviceRefused,
    LoginRefused,
    NotReached,
    NotSent,
    Progress,
    Tested,
    WrongMachine,
)
from gallant.core.readings import (
    IMAGE,
    Alarm,
    Closely,
    Facet,
    Gauge,
    Job,
    Logged,
    Reading,
)
from gallant.core.records import clean, replace
from gallant.core.shapes import SHAPES
from gallant.core.work.knows import Knows
from gallant.drivers.answers import (
    merge,
    number,
    texts_of,
)
from gallant.drivers.calls import Call
from gallant.drivers.profile import (
    CLOSELY,
    CLOSELY_FIELDS,
    LISTS,
    ActCalls,
    expression,
    fill,
)
from gallant.drivers.spoken import fields_of, spoken
from gallant.drivers.to_readings import ToReadings
from gallant.drivers.tools import Acts, Asked, Credential, Exports, Fields, Order, Reads
from gallant.drivers.xml import MOST_ROWS

T = TypeVar("T")
P = ParamSpec("P")
READ_TRIES = 3
MOST_LOGGED = 100  # newest entries of a node's own log
RETRY_PAUSE_S = 0.1  # real seconds; doubled with each try
LARGEST_COMPLAINT = 64 * 1024  # an error says what it is in its first lines
LARGEST_EXPORT = 64 * 1024 * 1024 * 1024


HELD_BY_SIGHT = ("when it was first seen it was", "take its lines out of known_nodes")
# The orders that bring a component to another release.
BRINGING = ("install", "raise_format")


def _names(ordered: ActCalls, field: str) -> bool:
    """Whether some call has a field in one of its texts."""
    return any(field in str(list(call.texts())) for call in ordered.calls)


def _takes_package(ordered: ActCalls) -> bool:
    """Whether the calls bring the package along, or an address to fetch it from."""
    return _names(ordered, "{url}") or any(getattr(call, "upload", None) for call in ordered.calls)


def hiding(method: Callable[P, Awaitable[T]]) -> Callable[P, Coroutine[object, object, T]]:
    """What a method of a driver raises has no secret in it that the driver has used, no matter who wrote its words."""

    @functools.wraps(method)
    async def hidden(*args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return await method(*args, **kwargs)
        except GallantError as error:
            driver: Any = args[0]  # the method's own; a ParamSpec cannot say so
            error.reword(driver.mask)
            raise

    return hidden


class ProfiledDriver(ToReadings):
    """One system's nodes, over one protocol. `own_parts` are the components that the protocol brings without a
    profile's help (by name or kind, `!` before what is none of them), `own_fetched` those of them whose package the
    node gets by itself, `image_from` those that the image has its version from."""

    # --- what a protocol's driver says

    async def _ask(self, node: str, asked: Asked) -> object:
        """Make one call once; gives its answer as data for JMESPath."""
        raise NotImplementedError

    def _is_safe(self, call: Call) -> bool:
        """Whether a read's call may be made again when its answer was lost."""
        return True

    def _own_reads(self) -> Reads:
        return {}

    def _own_acts(self) -> Acts:
        return {}

    def _own_exports(self) -> Exports:
        return {}

    async def _own_job(self, node: str, handle: str) -> Fields:
        return {}

    def _stream(self, node: str, call: Call, fields: Mapping[str, str]) -> AsyncIterator[bytes]:
        """An export's bytes."""
        raise NotImplementedError

    async def done(self, node: str) -> None:
        """Nothing more is asked of a node for now: let go of what is held for it."""

    async def close(self) -> None:
        """Log out, and take down whatever still stands."""
        for stack in self._served.values():
            await stack.aclose()
        self._served.clear()

    # --- what the driver declares

    @property
    def request_timeout_s(self) -> float:
        return self.profile.timeout_s

    def lands_within_s(self, kind: str) -> float:
        if kind in self.profile.acts:
            return self.profile.acts[kind].lands_within_s
        return 30.0 if kind in self._own_acts() else 0.0

    def capabilities(self) -> frozenset[str]:
        own = {*self._own_reads(), *self._own_acts()} - set(self.profile.without)
        exports = {"export"} if self.profile.exports or self._own_exports() else set()
        test = {"self_test"} if self.profile.self_test else set()
        return frozenset({*own, *self.profile.reads, *self.profile.acts, *exports, *test})

    def knows(self) -> Knows:
        """What a plan goes by: capabilities, how each act may be repeated, and the places for a system image."""
        said = {kind: act.repeat for kind, act in self.profile.acts.items()}
        taking = self.profile.acts.get("snapshot")
        alone = (word for word, calls in self.profile.brings.items() if not _takes_package(calls))
        return Knows(
            capabilities=self.capabilities(),
            repeat=said,
            slots=self.profile.slots,
            guests=self.profile.guests,
            returns=self.profile.returns,
            keeps_guests=taking is not None and _names(taking, "{package}"),  # a guest is named by it
            parts=(*self.own_parts, *self.profile.brings),
            fetches=(*self.own_fetched, *alone),
            goes_back=tuple(word for word, calls in self.profile.brings.items() if calls.older),
            migrates={word: calls.migrates for word, calls in self.profile.brings.items() if calls.migrates},
            image_from=self.image_from,
        )

    @property
    def acts(self) -> bool:
        """Whether it can be given any order at all."""
        return bool(self.profile.acts or set(self._own_acts()) - set(self.profile.without))

    @hiding
    async def let_in(self, node: str, purpose: str) -> None:
        """Log in for a purpose, or find that a login stands; raises `LoginRefused` or `NotReached`."""
        await self._prepare(node, purpose)

    @property
    def export_names(self) -> tuple[str, ...]:
        return (*self._own_exports(), *(e.name for e in self.profile.exports))

    def exports_each(self, name: str) -> bool:
        """Whether every node has its own of an export."""
        said = next((e.each for e in self.profile.exports if e.name == name), None)
        return not SHAPES[self.system.shape].shares_export if said is None else said

    # --- reads

    @hiding
    async def read(self, node: str, closely: bool = False) -> Reading:
        """Everything the driver and the profile read, as one reading; `closely`: with what is only read to be compared.
        Raises `WrongMachine` where another serial answers."""
        began, real = self.clock.now(), self.clock.real()
        own = {name: read for name, read in self._own_reads().items() if name not in self.profile.without}
        every = [
            *(self._timed(node, read) for read in own.values()),
            *(self._read(node, calls) for name, calls in self.profile.reads.items() if name != CLOSELY),
        ]
        fields: Fields = {}
        for answer in await self.side_by_side(every):
            merge(fields, answer)
        for name in LISTS:
            if isinstance(rows := fields.get(name), list) and len(rows) > MOST_ROWS:
                raise self._too_many(node, name)
        fields.setdefault("took", self.clock.real() - real)
        reading = self._checked(self._reading(node, self._hidden(fields), began))
        self._versions[node] = reading.version
        self._expect_serial(reading)
        return replace(reading, closely=await self._looked_closely(node)) if closely else reading

    async def _looked_closely(self, node: str) -> Closely:
        """What is only compared. Where the device does not give it, that is said and the rest of the reading stands."""
        calls = self.profile.reads.get(CLOSELY, ())
        own = [] if CLOSELY in self.profile.without else [self._own_closely(node)]
        fields: Fields = {}
        try:
            for answer in await self.side_by_side([*own, *([self._read(node, calls)] if calls else [])]):
                merge(fields, answer)
        except DeviceRefused as error:
            return Closely(error=clean(error.what, 200))
        for name in CLOSELY_FIELDS:
            if isinstance(rows := fields.get(name), list) and len(rows) > MOST_ROWS:
                raise self._too_many(node, name)
        fields = self._hidden(fields)
        return Closely(
            facets=tuple(sorted(self._records(Facet, fields.get("facets")), key=lambda facet: facet.name)),
            gauges=tuple(self._gauge(g) for g in self._records(Gauge, fields.get("gauges"))),
            log=tuple(
                replace(entry, level=self._level(entry.level))
                for entry in self._records(Logged, fields.get("log"))[:MOST_LOGGED]
            ),
        )

    async def _own_closely(self, node: str) -> Fields:
        """What the driver reads by its protocol alone to be compared; nothing where it knows of nothing."""
        return {}

    async def side_by_side(self, every: Sequence[Coroutine[object, object, T]]) -> list[T]:
        """The results of reads that do not need one another; one after the other where a node has one connection."""
        if not self.tools.one_by_one:
            return list(await asyncio.gather(*every))
        found = []
        waiting = list(every)
        try:
            while waiting:
                found.append(await waiting.pop(0))
        finally:
            for never in waiting:
                never.close()
        return found

    def _expect_serial(self, reading: Reading) -> None:
        expected = self.system.nodes[reading.node].serial or self._sighted.get(reading.node, "")
        if not self.expects_serial:
            return
        if not expected:
            if self.tools.sighted is not None:
                self.tools.sighted(reading.name, reading.serial)
            self._sighted[reading.node] = reading.serial
        elif reading.serial != expected:
            whose, where = self._says(reading.node)
            raise WrongMachine(
                f"{reading.name} answers as serial {reading.serial}; {whose} {expected}.",
                "Another machine is at this address; nothing is done to it.",
                f"If the machine was replaced, {where}; else look at the address of {reading.name}.",
                serial=reading.serial,
            )

    def _says(self, node: str) -> tuple[str, str]:
        """Whose word a node's serial is, and where it is changed."""
        known = self.system.nodes[node]
        by_file = known.serial and known.held_by == "file"
        return ("the estate says", "write its serial into estate.yaml") if by_file else HELD_BY_SIGHT

    async def _timed(self, node: str, read: Callable[[str], Awaitable[Fields]]) -> Fields:
        before = self.clock.now()
        found = await read(node)
        return self._heard(found, before)

    def _heard(self, found: Fields, before: datetime) -> Fields:
        """With the moment at which the device said its clock, known to within half the time that the answer took."""
        if "clock" in found and "clock_heard" not in found:
            half = (self.clock.now() - before) / 2
            return {**found, "clock_heard": before + half, "clock_within": half.total_seconds()}
        return found

    async def _read(self, node: str, calls: Sequence[Call]) -> Fields:
        found: Fields = {}
        for call in calls:
            if not call.applies_to(self._versions.get(node)):
                continue
            before = self.clock.now()
            taken = await self._repeated(node, Asked(call, {"node": node, **texts_of(found)}))
            merge(found, self._heard(taken, before))
        return found

    @hiding
    async def job(self, node: str, handle: str) -> Job:
        """One job of a node. Raises `DeviceRefused` where the device no longer knows it."""
        found: Fields = {"id": handle, **await self._own_job(node, handle)}
        for call in self.profile.job:
            found.update(await self._repeated(node, Asked(call, {"handle": handle, "node": node})))
        job = self._job(self._hidden(found))
        if job.state in ("done", "failed") and (served := self._served.pop(node, None)):
            await served.aclose()
        return job

    @hiding
    async def self_test(self, node: str, release: str) -> Tested:
        """The device's own readiness test; raises `DeviceRefused` where the profile knows none."""
        if not self.profile.self_test:
            raise DeviceRefused(f"{self.name_of(node)} has no readiness test of its own.", meaning="fatal")
        found: Fields = {}
        for call in self.profile.self_test:
            fields = {"node": node, "release": release, **texts_of(found)}
            merge(found, await self._repeated(node, Asked(call, fields)))
        found = self._hidden(found)
        return Tested(
            findings=tuple(
                Alarm(text=row.text, level=self._level(row.level))
                for row in self._records(Alarm, found.get("findings"))
            ),
            minutes=number(found.get("minutes")),
        )

    @hiding
    async def export(self, node: str, name: str, into: Callable[[bytes], object]) -> None:
        """Stream one of the exports into `into`, chunk by chunk."""
        own = self._own_exports().get(name)
        if own is not None:
            chunks = own(node)
        else:
            call = next(e.call for e in self.profile.exports if e.name == name)
            chunks = self._stream(node, call, {"node": node})
        size = 0
        async with contextlib.aclosing(chunks):  # type: ignore[type-var]
            async for chunk in chunks:
                size += len(chunk)
                if size > LARGEST_EXPORT:
                    raise self._said_too_much(node, LARGEST_EXPORT)
                into(chunk)

    # --- acts

    @hiding
    async def act(self, node: str, act: Act, *, send_by: float, progress: Progress | None = None) -> Accepted:
        """Send one order. `send_by` is on the real monotonic clock; past it nothing is sent (`NotSent`)."""
        plan, own = self._way_of(act)
        if plan is None and own is None:
            what = act.kind if act.component == IMAGE else f"{act.kind} of {act.component}"
            raise DeviceRefused(
                f"{self.name_of(node)}: the profile {self.profile.name} knows no {what}.", meaning="fatal"
            )
        await self._prepare(node, "act")
        if act.kind == "restart":
            self._restarted[node] = self.clock.now()
        if plan is None:
            assert own is not None
            self._in_time(node, act, send_by)
            return self._accepted(await own(node, act, progress))
        taken: Fields = {}
        fields = fields_of(node, act)
        if _names(plan, "{url}"):
            fields["url"] = await self._serve(node, act)
        calls = [call for call in plan.calls if call.applies_to(self._versions.get(node))]
        for sent, call in enumerate(calls):
            try:
                self._in_time(node, act, send_by)
                taken.update(await self._once(node, Asked(call, {**fields, **texts_of(taken)}, "act", act, progress)))
            except (NotReached, LoginRefused, NotSent) as error:
                if not sent:
                    raise
                raise AnswerLost(  # an order of several calls is not unsent because its last one is
                    f"{self.name_of(node)}: {sent} of the {len(calls)} calls of {act.kind} went out, then:"
                    f" {error.what}",
                    error.why,
                ) from None
        return self._accepted(taken)

    def orders_of(self, node: str, act: Act) -> tuple[str, ...]:
        """The calls that an order comes to, none of which is sent."""
        ordered, own = self._way_of(act)
        if ordered is not None:
            return tuple(spoken(call, fields_of(node, act)) for call in ordered.calls)
        return (self._own_spoken(node, act),) if own is not None else ()

    def asks(self) -> tuple[str, ...]:
        """The calls that read a node; what the driver reads by its protocol alone, by its name."""
        own = (name for name in self._own_reads() if name not in self.profile.without)
        return (*own, *(spoken(call, {}) for calls in self.profile.reads.values() for call in calls))

    def exports_of(self) -> tuple[str, ...]:
        """The calls of a backup, with what each becomes in it."""
        return (*self._own_exports(), *(f"{spoken(one.call, {})}   as {one.name}" for one in self.profile.exports))

    def _own_spoken(self, node: str, act: Act) -> str:
        """An order that the driver gives by its protocol alone, in words."""
        return fill(self.own_orders[act.kind], fields_of(node, act))

    def _way_of(self, act: Act) -> tuple[ActCalls | None, Order | None]:
        """The profile's calls for an order, and the driver's own way; a component is brought by its own calls."""
        own = self._own_acts().get(act.kind) if act.kind not in self.profile.without else None
        if act.component == IMAGE or act.kind not in BRINGING:
            return self.profile.acts.get(act.kind), own
        return self.profile.bringing(act.component), own if self.own_parts else None

    async def _prepare(self, node: str, purpose: str) -> None:
        """Whatever has to stand before an order can be sent, so that the order itself is one message."""

    def _in_time(self, node: str, act: Act, send_by: float) -> None:
        if self.clock.real() > send_by:
            raise NotSent(
                f"{self.name_of(node)}: the order to {act.kind} was not sent: its time was over before it could be.",
                next="gallant resume carries on.",
            )

    def _accepted(self, taken: Fields) -> Accepted:
        handle = taken.get("handle")
        return Accepted(
            handle=None if handle is None else self.said(handle, 400), message=self.said(taken.get("message") or "")
        )

    async def _package(self, node: str, act: Act) -> io.FileIO:
        """The act's package, open, its bytes verified as they are now: what a node is given is what the catalog
        says."""
        if self.tools.package_file is None:
            raise DeviceRefused(f"{self.name_of(node)}: no packages are kept here.", meaning="fatal")
        file = io.FileIO(self.tools.package_file(act.package, act.sha256))
        found = await asyncio.to_thread(lambda: hashlib.file_digest(file, "sha256").hexdigest())
        if found != act.sha256:
            file.close()
            raise NotSent(
                f"{act.package} in stock is not what the catalog says: its digest is {found[:12]}…, not"
                f" {act.sha256[:12]}….",
                f"Nothing of it was sent to {self.name_of(node)}.",
                "gallant stock verify, then gallant stock fetch brings it again",
            )
        file.seek(0)
        return file

    async def _serve(self, node: str, act: Act) -> str:
        """The address from which the node itself fetches the package; it stands until the node's job has ended."""
        if self.tools.serving is None or self.tools.package_file is None:
            raise DeviceRefused(f"{self.name_of(node)}: nothing here can serve a package to it.", meaning="fatal")
        (await self._package(node, act)).close()
        if (before := self._served.pop(node, None)) is not None:
            await before.aclose()
        stack = self._served[node] = contextlib.AsyncExitStack()
        path = self.tools.package_file(act.package, act.sha256)
        return await stack.enter_async_context(self.tools.serving(self.system.nodes[node].host, path))

    # --- calls

    async def _repeated(self, node: str, asked: Asked) -> Fields:
        """A read, tried again when the network failed it; anything else is never repeated here."""
        for attempt in range(READ_TRIES):
            try:
                return await self._once(node, asked)
            except AnswerLost:  # one that is not there at all is the caller's to wait for
                if not self._is_safe(asked.call) or attempt == READ_TRIES - 1:
                    raise
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    async def _once(self, node: str, asked: Asked) -> Fields:
        body = await self._ask(node, asked)
        taken = self._taken(node, asked.call, body)
        self._tell(node, asked, body, taken)
        return taken

    def _taken(self, node: str, call: Call, body: object) -> Fields:
        taken = {}
        for key, text in call.take.items():
            try:
                taken[key] = expression(text).search(body)
            except Exception as error:  # a function given the wrong type, by a device that answers in another form
                raise DeviceRefused(
                    f"{self.name_of(node)}: its answer does not fit the profile {self.profile.name} ({key}): "
                    f"{clean(str(error), 100)}.",
                    meaning="fatal",
                ) from None
        return taken

    # --- words

    def _said_too_much(self, node: str, limit: int) -> DeviceRefused:
        return DeviceRefused(
            f"{self.name_of(node)} answers with more than {limit // 1024 // 1024} MiB; the rest was not read.",
            meaning="fatal",
        )

    def _too_many(self, node: str, what: str) -> DeviceRefused:
        return DeviceRefused(
            f"{self.name_of(node)} answers with more than {MOST_ROWS:,} {what}; none of them is taken.",
            "No device has so many.",
            f"Look at {self.name_of(node)}, and at what the profile {self.profile.name} takes for {what}.",
            meaning="fatal",
        )

    def _refusal(self, node: str, text: str, status: int = 0, whole: str | None = None) -> GallantError:
        """A device's no, in the class that its profile's table of errors gives it;
        `whole` is all that it said, where `text` is the part of it for people."""
        judged, text = whole or text, self.said(text, 300)
        # Where another process gave the order, it was at the latest when this one first had to do with the node.
        since = self._restarted.setdefault(node, self.clock.now())
        meaning = self.profile.meaning(status, judged[:LARGEST_COMPLAINT], (self.clock.now() - since).total_seconds())
        said = f"{self.name_of(node)} refuses: {text.rstrip('.') or f'status {status}'}."
        if meaning == "auth":
            return LoginRefused(
                f"{self.name_of(node)} does not let us do this: {text or status}.",
                next=f"Look at the rights of the account for {self.system.name} in estate.yaml.",
            )
        if meaning == "passing":
            return NotReached(said, next=f"gallant survey {self.name_of(node)}")
        return DeviceRefused(said, next=f"gallant survey {self.name_of(node)}", meaning=meaning)

    async def logged_in(self, node: str, purpose: str, log_in: Callable[[], Awaitable[T]]) -> T:
        """What a login gives. One that was refused before in this run is not tried again; raises `LoginRefused`."""
        user, secret, _ = self.credential(purpose)
        address, refusals = self.system.nodes[node].address, self.tools.refusals
        refusals.recall(address, user, secret)
        try:
            return await log_in()
        except LoginRefused as error:
            refusals.remember(address, user, secret, error)
            raise

    def credential(self, purpose: str) -> Credential:
        found = Credential(*self.tools.credentials(purpose))
        if found.secret:
            self._secrets.add(found.secret)
        return found

    # --- answers to records
