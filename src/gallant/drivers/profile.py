"""Profiles: a YAML file that teaches a driver one kind of device, in a closed language.

A capability is a list of calls; a field is taken from an answer by JMESPath, XPath or named groups; words go through
tables. There are no
loops, no arithmetic, and no templates beyond `{field}`. Everything is checked when the profile is read: a wrong
expression is an error with its place in the file, never a surprise in the night.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated, TypeVar, cast, get_args, get_origin

import jmespath
import msgspec

from gallant.core.readings import COMPONENT_KINDS, Job, Reading
from gallant.core.records import Record, digest, kinds_of
from gallant.core.steps.verbs import VERBS
from gallant.core.work.knows import GUESTS, STAY, Migration, Returns
from gallant.drivers.calls import Call, OneCall, checked_pattern
from gallant.drivers.patterns import searched

if TYPE_CHECKING:
    from jmespath.parser import ParsedResult

T = TypeVar("T")

MEANINGS = ("passing", "refused", "already", "auth", "fatal")
ACTS = tuple(VERBS)
LOGINS = ("session", "basic", "header", "nothing")
TABLES = ("role", "state", "sync", "job", "job_kind", "facet", "kind", "level", "reach")
NEEDED_IN_ABOUT = ("serial", "version", "boot")
# What a reading has that no device says in these words: what Gallant knows itself, and what it makes of another field.
OWN_FIELDS = ("system", "node", "taken", "product", "oddities", "closely")
MADE_OF = {"in_sync": "sync", "sync_word": "sync", "clock_offset_s": "clock", "clock_uncertainty_s": "clock"}
READING_FIELDS = tuple(dict.fromkeys(MADE_OF.get(name, name) for name in kinds_of(Reading) if name not in OWN_FIELDS))
# Fields that several calls may each give some rows of: a reading's lists, and what a device's own test finds.
LISTS = (
    *(name for name, kind in kinds_of(Reading).items() if any(get_origin(k) is tuple for k in (kind, *get_args(kind)))),
    "findings",
    "log",
)
# The reads: of what tells who a node is, of its place among others, and of each list that is asked for by itself.
ASKED_AS = {"components": "parts", "offers": "updates", "expiries": "accounts"}
CLOSELY = "closely"  # the read of what is only compared
CLOSELY_FIELDS = ("facets", "gauges", "log")
READS = (
    *("about", "members", "sync", "sessions", CLOSELY),
    *(ASKED_AS.get(name, name) for name in LISTS if name in READING_FIELDS and name != "answers_for"),
)
JOB_FIELDS = tuple(kinds_of(Job))
ACT_FIELDS = ("handle", "message", "sha256")
TEST_FIELDS = ("findings", "minutes", "message")
TEMPLATE_FIELDS = (
    "user",
    "secret",
    "token",
    "package",
    "release",
    "sha256",
    "bytes",
    "handle",
    "reason",
    "node",
    "url",
    "name",
    "component",
)
# What a device writes something around: its versions (of the image;
# `component`: of all others), its build, serial and model.
TRIMMED = ("version", "component", "build", "serial", "model")
# Drivers whose protocol says by itself who a node is.
KNOWS_ABOUT = ("redfish", "debian", "netconf", "manual")
TEMPLATE = re.compile(r"\{([a-z_0-9]*)\}")


@lru_cache(maxsize=4096)
def rule_for(rules: tuple[PartRule, ...], name: str) -> PartRule | None:
    """Thousands of machines of one kind have the same few names of components."""
    return next((rule for rule in rules if searched(rule.pattern, name) is not None), None)


class Login(Record):
    """How we are let in. By a `session`: how it is got (`call`), carried (a token in a `header`, or the `cookies` that
    the device sets) and renewed. By `basic`: the account with every request (RFC 7617). By `header`: the account's
    secret in a header of every request. By `nothing`: anybody is let in."""

    by: str = "session"
    call: OneCall | None = None
    header: str | None = None
    value: str | None = None
    cookies: bool = False
    renew_on: tuple[int, ...] = (401,)
    logout: OneCall | None = None

    def __post_init__(self) -> None:
        if self.by not in LOGINS:
            raise ValueError(f"by: one of {', '.join(LOGINS)}")
        if self.by == "session" and self.call is None:
            raise ValueError("by session: the call that gets one; else write by: basic, header or nothing")
        if self.by == "session" and (self.header is None) == (not self.cookies):
            raise ValueError("a session is carried by one of header and cookies")
        if self.by == "header" and (self.header is None or "{secret}" not in self.carries):
            raise ValueError("by header: its name, and a value with {secret} in it")
        if self.by != "session" and (self.call or self.logout or self.cookies or (self.header and self.by != "header")):
            raise ValueError(f"by {self.by}: no call, logout or cookies, and a header by header alone")

    @property
    def carries(self) -> str:
        """What the header says."""
        return self.value or ("{token}" if self.by == "session" else "{secret}")


class Shell(Record):
    """How a command line is spoken to. Without `prompt` each command is run on its own, and its exit status counts.

    `prompt` and `more` are patterns of the device's prompt and of its pager; `first` are commands said once after the
    login; `elevate` is what gives more rights, answered with the secret of the account `elevate`.
    """

    prompt: str | None = None
    more: str | None = None
    first: tuple[str, ...] = ()
    elevate: str | None = None
    password_prompt: str = "[Pp]assword.*:"

    def __post_init__(self) -> None:
        for pattern in (self.prompt, self.more, self.password_prompt):
            if pattern is not None:
                checked_pattern(pattern)


class Unit(Record):
    """A device's unit in ours: the number `times` this."""

    unit: str
    times: float = 1


class PartRule(Record, cache_hash=True):
    """What a component is, by a pattern that its own name matches; `name` and `product` may use the named groups."""

    pattern: str
    kind: str
    product: str | None = None
    name: str | None = None
    image: bool = False

    def __post_init__(self) -> None:
        checked_pattern(self.pattern)
        if self.kind not in COMPONENT_KINDS:
            raise ValueError(f"kind: one of {', '.join(COMPONENT_KINDS)}")


class OwnCheck(Record):
    """A check of the device kind's own: a JMESPath over the reading's fields that yields true when all is well."""

    id: str
    well: str
    level: str
    message: str
    next: str = ""

    def __post_init__(self) -> None:
        if self.level not in ("note", "warn", "stop"):
            raise ValueError("level: note, warn or stop")


class ErrorRule(Record):
    """What an answer with one of these statuses (empty: any) and a text that the pattern finds means."""

    means: str
    status: tuple[int, ...] = ()
    pattern: str | None = None

    def __post_init__(self) -> None:
        if self.means not in MEANINGS:
            raise ValueError(f"means: one of {', '.join(MEANINGS)}")
        if self.pattern is not None:
            checked_pattern(self.pattern)

    def applies(self, status: int, text: str) -> bool:
        return _fits(self.status, self.pattern, status, text)


def _fits(statuses: tuple[int, ...], pattern: str | None, status: int, text: str) -> bool:
    return (not statuses or status in statuses) and (pattern is None or searched(pattern, text) is not None)


class PassingRule(Record):
    """An error that a node is known to give after a restart, for
    `within_s` seconds of estate time: it is not a refusal yet."""

    within_s: Annotated[float, msgspec.Meta(gt=0, le=86400)]
    status: tuple[int, ...] = ()
    pattern: str | None = None

    def __post_init__(self) -> None:
        if not self.status and self.pattern is None:
            raise ValueError("says which error it is: status or pattern")
        if self.pattern is not None:
            checked_pattern(self.pattern)

    def knows(self, text: str) -> bool:
        """Whether it is about what a device says, whatever its status."""
        return self.pattern is not None and searched(self.pattern, text) is not None


class ActCalls(Record):
    """An act's calls; `lands_within_s` is how long after its time-out a request may still take effect.

    `repeat`: it may be given again whenever its end is not known (`safe`), when nothing of it is seen (`if_absent`), or
    only when a person says that it did not take effect (`never`). Of what brings a component: with `older` the same
    calls bring older releases too; `migrates` is what they do to other components by themselves.
    """

    calls: tuple[OneCall, ...]
    repeat: str = "if_absent"
    lands_within_s: float = 30.0
    older: bool = False
    migrates: tuple[Migration, ...] = ()

    def __post_init__(self) -> None:
        if self.repeat not in ("safe", "if_absent", "never"):
            raise ValueError("repeat: safe, if_absent or never")


class Export(Record):
    """One of the exports that together are the system's backup.

    `each`: every node has its own; where it is not said, that is so for every shape but a pair, which shares one.
    """

    name: str
    call: OneCall
    each: bool | None = None

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[a-z0-9][a-z0-9._-]{0,63}", self.name):
            raise ValueError("name: a plain file name in small letters")


class Profile(Record):
    """One kind of device."""

    gallant: str
    name: str
    product: str
    driver: str
    login: Login | None = None
    reads: dict[str, tuple[OneCall, ...]] = {}
    without: tuple[str, ...] = ()
    shell: Shell = Shell()
    namespaces: dict[str, str] = {}
    transport: str = "ssh"
    parts: tuple[PartRule, ...] = ()
    units: dict[str, Unit] = {}
    checks: tuple[OwnCheck, ...] = ()
    self_test: tuple[OneCall, ...] = ()
    timeout_s: Annotated[float, msgspec.Meta(gt=0, le=600)] = 10.0
    returns: Returns = Returns()
    slots: Annotated[int, msgspec.Meta(ge=1, le=16)] = 1
    guests: str = STAY
    states: dict[str, dict[str, str]] = {}
    errors: tuple[ErrorRule, ...] = ()
    passing: tuple[PassingRule, ...] = ()
    job: tuple[OneCall, ...] = ()
    acts: dict[str, ActCalls] = {}
    brings: dict[str, ActCalls] = {}
    exports: tuple[Export, ...] = ()
    secrets: tuple[str, ...] = ()
    changing: tuple[str, ...] = ()
    trim: dict[str, str] = {}

    def __post_init__(self) -> None:
        if self.guests not in GUESTS:
            raise ValueError(f"guests: one of {', '.join(GUESTS)}")

    def trimmed(self, field: str, text: str | None) -> str | None:
        """A text without what a device writes around it: the part that the
        one group of the field's pattern matches, where it does."""
        pattern = self.trim.get(field)
        found = searched(pattern, text) if pattern is not None and text else None
        return (found[1] or text) if found is not None else text

    def bringing(self, component: str) -> ActCalls | None:
        """How a component is brought to another release: by its name, or by the start of it with a `*`."""
        if component in self.brings:
            return self.brings[component]
        return next(
            (c for word, c in self.brings.items() if word[-1:] == "*" and component.startswith(word[:-1])), None
        )

    def word(self, table: str, device_word: object) -> str:
        """Our word for the device's; `unknown` for one that the table does not have."""
        return self.states.get(table, {}).get(str(device_word), "unknown")

    def meaning(self, status: int, text: str, restarted_s: float) -> str:
        """What an error means; `restarted_s` is how long ago the node may have been told to restart."""
        for rule in self.passing:
            if restarted_s <= rule.within_s and _fits(rule.status, rule.pattern, status, text):
                return "passing"
        return next((rule.means for rule in self.errors if rule.applies(status, text)), "refused")

    def complains(self, status: int, text: str) -> bool:
        """Whether an answer is an error by what it says, however good
        its status is: a rule with a pattern finds it there."""
        return any(rule.pattern is not None and rule.applies(status, text) for rule in self.errors)

    @property
    def digest(self) -> str:
        return digest(self)


@lru_cache(maxsize=512)
def expression(text: str) -> ParsedResult:
    return jmespath.compile(text)


def every_call(profile: Profile) -> Iterator[tuple[tuple[str | int, ...], Call, tuple[str, ...]]]:
    """Every call with its path in the file and the fields it may give."""
    if profile.login is not None and profile.login.call is not None:
        yield ("login", "call"), profile.login.call, ("token", "lasts_s")
        if profile.login.logout:
            yield ("login", "logout"), profile.login.logout, ()
    for read, calls in profile.reads.items():
        for index, call in enumerate(calls):
            yield ("reads", read, index), call, CLOSELY_FIELDS if read == CLOSELY else READING_FIELDS
    for index, call in enumerate(profile.job):
        yield ("job", index), call, JOB_FIELDS
    for act, ordered in profile.acts.items():
        for index, call in enumerate(ordered.calls):
            yield ("acts", act, "calls", index), call, ACT_FIELDS
    for component, ordered in profile.brings.items():
        for index, call in enumerate(ordered.calls):
            yield ("brings", component, "calls", index), call, ACT_FIELDS
    for index, call in enumerate(profile.self_test):
        yield ("self_test", index), call, TEST_FIELDS
    for index, export in enumerate(profile.exports):
        yield ("exports", index, "call"), export.call, ()


def _left(match: re.Match[str]) -> str:
    return "" if match[1] in TEMPLATE_FIELDS else match[0]


def fill(template: T, fields: Mapping[str, str]) -> T:
    """A copy of `template` with every `{field}` replaced; a text's value is put in as it is, never read again."""
    return cast(T, _filled(template, fields))


def _filled(template: object, fields: Mapping[str, str]) -> object:
    if isinstance(template, str):
        # A brace that stands around no field is the protocol's own.
        return TEMPLATE.sub(lambda match: fields[match[1]] if match[1] in fields else _left(match), template)
    if isinstance(template, dict):
        return {key: _filled(item, fields) for key, item in template.items()}
    if isinstance(template, list):
        return [_filled(item, fields) for item in template]
    return template
