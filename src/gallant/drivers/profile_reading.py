"""Reading a profile: parsed, and each call in it looked at before anything is sent."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

import jmespath
import regex

from gallant.core.documents import Document, document_of
from gallant.core.estate.systems import DRIVERS
from gallant.drivers.calls import EVERY_VERB, VERBS, Call, Request, RunCommand, with_verbs
from gallant.drivers.quoting import misplaced
from gallant.drivers.shelf import file_of
from gallant.drivers.xml import STANDARD, xpath_problem

if TYPE_CHECKING:
    pass
from gallant.drivers.profile import (
    ACTS,
    KNOWS_ABOUT,
    NEEDED_IN_ABOUT,
    READS,
    TABLES,
    TEMPLATE,
    TEMPLATE_FIELDS,
    TRIMMED,
    Profile,
    every_call,
    expression,
)


def parse_profile(name: str, text: str | bytes | Document) -> Profile:
    """The profile that `text` holds; raises `Invalid` with every problem of the file `name`."""
    document = document_of(name, text)
    profile = document.convert(Profile, (), with_verbs(document))
    if profile is not None:
        _look_at_profile(document, profile)
    document.finish()
    assert profile is not None
    return profile


def _look_at_profile(document: Document, profile: Profile) -> None:
    if profile.gallant != "profile/1":
        document.at(("gallant",), f"{profile.gallant!r} is not known here; this Gallant reads profile/1")
    if profile.driver not in DRIVERS:
        document.at(("driver",), f"unknown driver {profile.driver!r}{document.suggestion(profile.driver, DRIVERS)}")
    _look_at_words(document, profile)
    for path, call, fields in every_call(profile):
        _look_at_call(document, profile, path, call, fields)
    for index, check in enumerate(profile.checks):
        _look_at_expression(document, ("checks", index, "well"), check.well)
    _look_at_patterns(document, profile)
    for field, pattern in profile.trim.items():
        _look_at_trim(document, field, pattern)
    if profile.transport not in ("ssh", "local"):
        document.at(("transport",), "ssh or local")
    if profile.driver == "http" and profile.login is None:
        document.at(
            ("driver",),
            "an http profile says how we are let in: login: {call: …}, or {by: basic}, {by: header, …}, {by: nothing}",
        )
    _look_at_about(document, profile)


def _look_at_words(document: Document, profile: Profile) -> None:
    """The names of reads, acts, tables and capabilities: each is one that Gallant knows."""
    for field, found, known in (
        ("reads", profile.reads, READS),
        ("acts", profile.acts, ACTS),
        ("states", profile.states, TABLES),
    ):
        for key in (key for key in found if key not in known):
            document.at((field, key), f"unknown {field[:-1]} {key!r}{document.suggestion(key, known)}", key=True)
    able = (*READS, *ACTS)
    for name in (name for name in profile.without if name not in able):
        document.at(("without",), f"no capability {name!r}{document.suggestion(name, able)}")


def _look_at_patterns(document: Document, profile: Profile) -> None:
    """Patterns that say what is masked (by their groups), and what is written anew each time."""
    for field, patterns in (("secrets", profile.secrets), ("changing", profile.changing)):
        for index, pattern in enumerate(patterns):
            try:
                groups = regex.compile(pattern).groups
            except regex.error as error:
                document.at((field, index), f"no pattern: {error}")
                continue
            if field == "secrets" and groups < 1:
                document.at((field, index), "a pattern whose groups are what is to be masked: password (\\S+)")


def _look_at_about(document: Document, profile: Profile) -> None:
    """What a node says of itself has to have all that tells it from another, and a restart from none."""
    if profile.driver in KNOWS_ABOUT and "about" not in profile.without:
        return
    taken = {field for calls in profile.reads.get("about", ()) for field in calls.take}
    for needed in (needed for needed in NEEDED_IN_ABOUT if needed not in taken):
        document.at(
            ("reads",),
            f"reads: about gives no {needed!r}; without it a node cannot be told from another or a restart be seen",
        )


def _look_at_trim(document: Document, field: str, pattern: str) -> None:
    if field not in TRIMMED:
        document.at(
            ("trim", field),
            f"nothing of that name is trimmed{document.suggestion(field, TRIMMED)}; write one of {', '.join(TRIMMED)}",
            key=True,
        )
    try:
        if regex.compile(pattern).groups != 1:
            document.at(("trim", field), "a pattern with one group, which is what is kept: FW-(.+)")
    except regex.error as error:
        document.at(("trim", field), f"no pattern: {error}")


def _look_at_call(
    document: Document, profile: Profile, path: tuple[str | int, ...], call: Call, fields: tuple[str, ...]
) -> None:
    verbs = VERBS.get(profile.driver, EVERY_VERB)
    if call.verb not in verbs:
        document.at(path, f"the driver {profile.driver} knows no {call.verb}; it knows {', '.join(verbs)}")
    if isinstance(call, RunCommand):
        _look_at_command(document, profile, path, call)
    own = call.groups()
    for key, text in call.take.items():
        if key not in fields and not key.startswith("_"):
            document.at(
                (*path, "take", key), f"{key!r} is not a field here{document.suggestion(key, fields)}", key=True
            )
        _look_at_expression(document, (*path, "take", key), text)
    for name, wanted in call.find.items():
        paths = [wanted] if isinstance(wanted, str) else list(wanted.values())
        if not isinstance(wanted, str) and "at" not in wanted:
            document.at((*path, "find", name), "rows say where they are: at:")
        for xpath in paths:
            if problem := xpath_problem(xpath, {**STANDARD, **profile.namespaces}):
                document.at((*path, "find", name), f"no XPath: {problem}")
    pages = call.pages if isinstance(call, Request) else None
    for text in (pages.next, pages.rows) if pages else ():
        _look_at_expression(document, (*path, "pages"), text)
    before = {field for _, other, _ in every_call(profile) for field in other.take}
    for used in _fields_in(list(call.texts())):
        if used not in TEMPLATE_FIELDS and used not in before and used not in own:
            document.at(path, f"{{{used}}} is filled by nothing{document.suggestion(used, TEMPLATE_FIELDS)}")


def _look_at_command(document: Document, profile: Profile, path: tuple[str | int, ...], call: RunCommand) -> None:
    if call.detached and profile.driver != "debian":
        document.at((*path, "detached"), "only a command that the debian driver runs can be detached", key=True)
    if call.detached and "handle" not in call.take:
        document.at(path, "a detached command is found again by its handle: take: {handle: handle}")
    if call.elevated and profile.driver == "debian":
        for line in call.lines:
            if not line.startswith("/"):
                document.at(path, f"{line.split()[0]!r}: a command with more rights is named by its whole path")
    if profile.shell.prompt is None:
        for name, place in misplaced(call.run):
            document.at(
                (*path, "run"),
                f"{{{name}}} stands {place}; it is one quoted word already, and stands for itself: echo {{{name}}}",
            )


def _look_at_expression(document: Document, path: tuple[str | int, ...], text: str) -> None:
    try:
        expression(text)
    except jmespath.exceptions.JMESPathError as error:
        document.at(path, f"no JMESPath: {str(error).splitlines()[0]}")


def _fields_in(value: object) -> Iterator[str]:
    if isinstance(value, str):
        yield from TEMPLATE.findall(value)
    elif isinstance(value, dict):
        for item in value.values():
            yield from _fields_in(item)
    elif isinstance(value, list):
        for item in value:
            yield from _fields_in(item)


@lru_cache(maxsize=64)
def load_profile(name: str, folder: Path) -> Profile:
    """A profile by the name of a built-in one, or by a path relative to the estate's folder."""
    return parse_profile(*file_of(name, folder))
