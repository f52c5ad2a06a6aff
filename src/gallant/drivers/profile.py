"""Profiles: a YAML file that teaches a driver one kind of device, in a closed language.

A capability is a list of calls; a field is taken from an answer by JMESPath; words go through tables. There are no
loops, no arithmetic, and no templates beyond `{field}`. Everything is checked when the profile is read: a wrong
expression is an error with its place in the file, never a surprise in the night.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Annotated, Any

import jmespath
import msgspec
import regex

from gallant.core.documents import Document, suggestion
from gallant.core.errors import WrongUse
from gallant.core.estate import DRIVERS
from gallant.core.records import Record, digest

MEANINGS = ("passing", "refused", "already", "auth", "fatal")
READS = ("about", "sync", "packages", "jobs", "parts", "facets", "gauges", "updates", "channels")
ACTS = ("preload", "unload", "install", "activate", "restart", "handover", "failback", "cancel", "suspend", "rejoin")
TABLES = ("role", "state", "sync", "job", "job_kind", "facet")
NEEDED_IN_ABOUT = ("serial", "version", "boot")
READING_FIELDS = (
    "serial",
    "model",
    "version",
    "build",
    "next_version",
    "boot",
    "role",
    "state",
    "clock",
    "network",
    "components",
    "sync",
    "sync_remaining_s",
    "gauges",
    "facets",
    "packages",
    "jobs",
    "offers",
    "channels",
)
JOB_FIELDS = ("id", "kind", "state", "percent", "message", "release", "remaining_s")
ACT_FIELDS = ("handle", "message", "sha256")
TEMPLATE_FIELDS = ("user", "secret", "token", "package", "release", "sha256", "bytes", "handle", "reason", "node")
_TEMPLATE = re.compile(r"\{([a-z_0-9]*)\}")
# A pattern gets this long on one device message; a hostile message must not hold a roll.
PATTERN_SECONDS = 0.2


class Call(Record):
    """One request: exactly one of the methods with its path, what is sent, and what is taken from the answer."""

    get: str | None = None
    post: str | None = None
    put: str | None = None
    delete: str | None = None
    send: dict[str, Any] | None = None
    upload: str | None = None
    take: dict[str, str] = {}
    timeout_s: float | None = None

    def __post_init__(self) -> None:
        if sum(m is not None for m in (self.get, self.post, self.put, self.delete)) != 1:
            raise ValueError("a call has exactly one of get, post, put and delete")
        if self.upload not in (None, "package"):
            raise ValueError("upload: only package")

    @property
    def method_and_path(self) -> tuple[str, str]:
        return next((m.upper(), p) for m in ("get", "post", "put", "delete") if (p := getattr(self, m)) is not None)


class Login(Record):
    """How a session is got, carried and renewed."""

    call: Call
    header: str
    value: str
    renew_on: tuple[int, ...] = (401,)
    logout: Call | None = None


class ErrorRule(Record):
    """What an answer with one of these statuses (empty: any) and a text that the pattern finds means."""

    means: str
    status: tuple[int, ...] = ()
    pattern: str | None = None

    def __post_init__(self) -> None:
        if self.means not in MEANINGS:
            raise ValueError(f"means: one of {', '.join(MEANINGS)}")
        if self.pattern is not None:
            try:
                regex.compile(self.pattern)
            except regex.error as error:
                raise ValueError(f"pattern: {error}") from None

    def applies(self, status: int, text: str) -> bool:
        if self.status and status not in self.status:
            return False
        if self.pattern is None:
            return True
        try:
            return regex.search(self.pattern, text, timeout=PATTERN_SECONDS) is not None
        except TimeoutError:
            return False


class ActCalls(Record):
    """An act's calls; `lands_within_s` is how long after its time-out a request may still take effect."""

    calls: tuple[Call, ...]
    repeat: str = "if_absent"
    lands_within_s: float = 30.0

    def __post_init__(self) -> None:
        if self.repeat not in ("safe", "if_absent", "never"):
            raise ValueError("repeat: safe, if_absent or never")


class Export(Record):
    """One of the exports that together are the system's backup."""

    name: str
    call: Call

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[a-z0-9][a-z0-9._-]{0,63}", self.name):
            raise ValueError("name: a plain file name in small letters")


class Profile(Record):
    """One kind of device."""

    gallant: str
    name: str
    product: str
    driver: str
    login: Login
    reads: dict[str, tuple[Call, ...]]
    timeout_s: Annotated[float, msgspec.Meta(gt=0, le=600)] = 10.0
    states: dict[str, dict[str, str]] = {}
    errors: tuple[ErrorRule, ...] = ()
    job: tuple[Call, ...] = ()
    acts: dict[str, ActCalls] = {}
    exports: tuple[Export, ...] = ()

    def word(self, table: str, device_word: object) -> str:
        """Our word for the device's; `unknown` for one that the table does not have."""
        return self.states.get(table, {}).get(str(device_word), "unknown")

    def meaning(self, status: int, text: str) -> str:
        return next((rule.means for rule in self.errors if rule.applies(status, text)), "refused")

    @property
    def digest(self) -> str:
        return digest(self)


@lru_cache(maxsize=512)
def expression(text: str) -> Any:
    return jmespath.compile(text)


def parse_profile(name: str, text: str | bytes) -> Profile:
    """The profile that `text` holds; raises `Invalid` with every problem of the file `name`."""
    document = Document(name, text)
    profile = document.convert(Profile)
    if profile is not None:
        _look(document, profile)
    document.finish()
    assert profile is not None
    return profile


def _calls(profile: Profile) -> Iterator[tuple[tuple[str | int, ...], Call, tuple[str, ...]]]:
    """Every call with its path in the file and the fields it may give."""
    yield ("login", "call"), profile.login.call, ("token", "lasts_s")
    if profile.login.logout:
        yield ("login", "logout"), profile.login.logout, ()
    for read, calls in profile.reads.items():
        for index, call in enumerate(calls):
            yield ("reads", read, index), call, READING_FIELDS
    for index, call in enumerate(profile.job):
        yield ("job", index), call, JOB_FIELDS
    for act, calls in profile.acts.items():
        for index, call in enumerate(calls.calls):
            yield ("acts", act, "calls", index), call, ACT_FIELDS
    for index, export in enumerate(profile.exports):
        yield ("exports", index, "call"), export.call, ()


def _look(document: Document, profile: Profile) -> None:
    if profile.gallant != "profile/1":
        document.at(("gallant",), f"{profile.gallant!r} is not known here; this Gallant reads profile/1")
    if profile.driver not in DRIVERS:
        document.at(("driver",), f"unknown driver {profile.driver!r}{suggestion(profile.driver, DRIVERS)}")
    for field, found, known in (
        ("reads", profile.reads, READS),
        ("acts", profile.acts, ACTS),
        ("states", profile.states, TABLES),
    ):
        for key in found:
            if key not in known:
                document.at((field, key), f"unknown {field[:-1]} {key!r}{suggestion(key, known)}", key=True)
    for path, call, fields in _calls(profile):
        for key, text in call.take.items():
            if key not in fields:
                document.at((*path, "take", key), f"{key!r} is no field here{suggestion(key, fields)}", key=True)
            try:
                expression(text)
            except jmespath.exceptions.JMESPathError as error:
                document.at((*path, "take", key), f"no JMESPath: {str(error).splitlines()[0]}")
        for used in _fields_in([call.method_and_path[1], call.send]):
            if used not in TEMPLATE_FIELDS and used not in call.take:
                document.at(path, f"{{{used}}} is filled by nothing{suggestion(used, TEMPLATE_FIELDS)}")
    taken = {field for calls in profile.reads.get("about", ()) for field in calls.take}
    for needed in NEEDED_IN_ABOUT:
        if needed not in taken:
            document.at(
                ("reads",),
                f"reads: about gives no {needed!r}; without it a node cannot be told from another or a restart be seen",
            )


def _fields_in(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield from _TEMPLATE.findall(value)
    elif isinstance(value, dict):
        for item in value.values():
            yield from _fields_in(item)
    elif isinstance(value, list):
        for item in value:
            yield from _fields_in(item)


def fill(template: Any, fields: dict[str, str]) -> Any:
    """A copy of `template` with every `{field}` replaced; a text's value is put in as it is, never read again."""
    if isinstance(template, str):
        return _TEMPLATE.sub(lambda match: fields.get(match[1], ""), template)
    if isinstance(template, dict):
        return {key: fill(item, fields) for key, item in template.items()}
    if isinstance(template, list):
        return [fill(item, fields) for item in template]
    return template


@lru_cache(maxsize=64)
def load_profile(name: str, folder: Path) -> Profile:
    """A profile by the name of a built-in one, or by a path relative to the estate's folder."""
    if name.endswith((".yaml", ".yml")):
        path = folder / name
        try:
            return parse_profile(str(path), path.read_bytes())
        except OSError as error:
            raise WrongUse(f"Profile {path} cannot be read: {error.strerror}.") from None
    builtin = resources.files("gallant.drivers") / "profiles"
    known = sorted(p.name.removesuffix(".yaml") for p in builtin.iterdir() if p.name.endswith(".yaml"))
    if name not in known:
        raise WrongUse(
            f"No profile {name!r}{suggestion(name, known)}.",
            next=f"Built in: {', '.join(known)}; or write the path of a YAML file.",
        )
    return parse_profile(f"{name}.yaml", (builtin / f"{name}.yaml").read_bytes())
