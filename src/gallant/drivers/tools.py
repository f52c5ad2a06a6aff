"""What a driver is given from outside, and how it tells of a call; and the shapes of what it reads, exports and
orders."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from gallant.core.ports import (
    Act,
    Clock,
    Progress,
    Refusals,
)
from gallant.drivers.calls import Call

if TYPE_CHECKING:
    from aiohttp import ClientSession


class Credential(NamedTuple):
    """Who Gallant is on a device. `kind` is password, key (the
    secret is a private key's text) or agent (there is none)."""

    user: str
    secret: str
    kind: str = "password"


class CallTold(NamedTuple):
    """One call as it was made, for anyone who wants to see: the question, the answer, and the fields taken from it."""

    node: str
    call: str
    answer: str
    fields: dict[str, object]


class Asked(NamedTuple):
    """One call to be made: with which fields and whose account, and for an act the order that it carries out."""

    call: Call
    fields: Mapping[str, str] = {}
    purpose: str = "read"
    act: Act | None = None
    progress: Progress | None = None


class Memory(Protocol):
    """What a node said before, by call, with the tag under which the device can say that nothing changed."""

    def recall(self, node: str, call: str) -> tuple[str, dict[str, object]] | None: ...
    def remember(self, node: str, call: str, tag: str, fields: dict[str, object]) -> None: ...


Serving = Callable[[str, Path], AbstractAsyncContextManager[str]]  # node's host, file → URL for the block's length


class Throttled(Protocol):
    """Waits until so many more bytes may be sent to a site."""

    async def let(self, count: int) -> None: ...


@dataclass
class Tools:
    """What a driver is given from outside; each is used when it is first needed and not before."""

    credentials: Callable[[str], Credential]
    clock: Clock
    folder: Path = field(default_factory=Path)
    session: ClientSession | None = None
    package_file: Callable[[str, str], Path] | None = None
    throttle: Throttled | None = None
    serving: Serving | None = None
    memory: Memory | None = None
    one_by_one: bool = False
    told: Callable[[CallTold], None] | None = None
    hands: Callable[[str], str | None] | None = None  # tells a person what to do; what the person answers
    learn_key: Callable[[str, str, str], bool] | None = None  # node, kind, fingerprint → whether it is to be trusted
    refusals: Refusals = field(default_factory=Refusals)
    sighted: Callable[[str, str], None] | None = (
        None  # node, serial: seen for the first time, where the estate names none
    )


Fields = dict[str, object]


Exporter = Callable[[str], AsyncIterator[bytes]]


Exports = Mapping[str, Exporter]


Reads = Mapping[str, Callable[[str], Awaitable[Fields]]]


Order = Callable[[str, Act, Progress | None], Awaitable[Fields]]


Acts = Mapping[str, Order]
