"""Records without names: what tells whose machines they are about is
replaced, value by value, before anything is written out."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import msgspec

from gallant.core.decide.ledger import DECISIONS
from gallant.core.estate.systems import Estate
from gallant.operations.ground.last import last_readings
from gallant.operations.ground.workplace import Workplace

LEAST = 2  # signs of a name that is replaced: one of a single letter is in every word
LEAST_REASON = 8  # signs of a reason: a shorter one is a word like others
# Kinds of the ledger's entries whose reason is what a person said.
SAID = (
    *DECISIONS,
    "prune",
    "restore",
    "waive",
    "vouch",
    "despite-booking",
    "despite-check",
    "approve",
    "outside-window",
)


def names_of(place: Workplace) -> dict[str, str]:
    """What is replaced, and by what; the longest first, so that no name is replaced within another."""
    found, counts = dict[str, str](), dict[str, int]()
    for kind, value in (*_of_estate(place.estate), *_of_people(place), *_of_readings(place)):
        if value and len(value) >= LEAST and value.casefold() not in found:
            counts[kind] = counts.get(kind, 0) + 1
            found[value.casefold()] = f"{kind}-{counts[kind]}"
    return dict(sorted(found.items(), key=lambda pair: -len(pair[0])))


def _of_estate(estate: Estate) -> Iterator[tuple[str, str | None]]:
    yield from (("site", name) for name in estate.sites)
    for system in estate.systems.values():
        yield "system", system.name
        yield from (("tag", tag) for tag in system.tags)
        for node in system.nodes.values():
            yield from (("address", value) for value in (node.address, node.host, node.console))
            yield "serial", node.serial
            yield "domain", node.domain
        for name, service in system.services.items():
            yield "service", name
            yield from (("address", value) for value in (service.address, service.address.partition(":")[0]))
            yield "command", service.run
        yield from (("account", account.user) for account in system.accounts.values())
    yield from (("account", account.user) for account in estate.accounts.values())
    yield from (("note", note.text) for note in estate.notes)
    yield from (("reason", rule.reason) for rule in (*estate.windows, *estate.blackouts))
    for to in estate.notify:
        yield from (("address", value) for value in (to.webhook, *(to.mail.to if to.mail is not None else ())))
        yield "command", to.run
    yield from (("address", event.to) for event in estate.events)
    for rule in estate.catalogs.values():
        yield from (("address", value) for value in (rule.from_, rule.proxy))
    yield "estate", estate.name


def _of_people(place: Workplace) -> Iterator[tuple[str, str | None]]:
    yield from (("person", who) for who in (place.user, place.person.sudo_user))
    yield from (("person", note.by) for note in place.estate.notes)
    for kept in place.ledger.readable()[0]:  # a bundle is asked for where something is damaged, too
        yield from (("person", who) for who in (kept.entry.by, kept.entry.sudo_user, kept.entry.person))
        yield "host", kept.entry.host
        if kept.entry.kind in SAID and len(kept.entry.reason) >= LEAST_REASON:
            yield "reason", kept.entry.reason
    for row in place.journal.rolls()[0]:
        yield "person", row.plan.by


def _of_readings(place: Workplace) -> Iterator[tuple[str, str | None]]:
    for reading in last_readings(place, [])[0].values() if place.estate.systems else ():
        yield "serial", reading.serial
        yield from (("serial", part.serial) for part in reading.components)
        yield from (("address", value) for value in (reading.network, *(reading.answers_for or ())))


class Nameless:
    """Replaces names in texts, and in every text of records, keys too, before they
    are written as JSON: there a line's end is no letter before a name."""

    def __init__(self, names: Mapping[str, str]) -> None:
        self._names = names
        words = "|".join(rf"(?<![A-Za-z0-9]){re.escape(name)}(?![A-Za-z0-9])" for name in names)
        self._pattern = re.compile(words, re.IGNORECASE) if names else None

    def text(self, text: str) -> str:
        if self._pattern is None:
            return text
        return self._pattern.sub(lambda found: self._names[found[0].casefold()], text)

    def value(self, value: object) -> object:
        """Plain data of a record."""
        return self._plain(msgspec.to_builtins(value, str_keys=True))

    def _plain(self, value: object) -> object:
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, dict):
            return {self.text(key): self._plain(one) for key, one in value.items()}
        return [self._plain(one) for one in value] if isinstance(value, list | tuple) else value
