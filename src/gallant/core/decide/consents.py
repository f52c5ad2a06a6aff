"""What somebody has to accept by name before a plan is begun, and how they write it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import TypeAlias

from gallant.core.errors import WrongUse
from gallant.core.records import Record, clean
from gallant.core.terms import ALL, Marked, matches, parse_term
from gallant.core.work.plan import Hop, Lane, Plan

CONSENTS = ("one-way", "recalled", "no-backup", "downtime", "loses", "loses-unsaved", "channel")
OF_A_NODE = ("loses-unsaved",)


class Consent(Record):
    """A named person's acceptance of one consequence for one system, or for
    a node; written `one-way:tickets`, `loses-unsaved:tickets/b`."""

    to: str
    system: str

    @property
    def words(self) -> str:
        """As it is written on the command line: what is accepted, and of which system."""
        return f"{self.to}:{self.system}"

    @property
    def whose(self) -> str:
        """The system that it is about."""
        return self.system.partition("/")[0]

    @property
    def of_many(self) -> bool:
        """Whether it names systems by what they are (`downtime:tag:night`, `downtime:*`), and none by its name."""
        return self.system == ALL or ":" in self.system


def parse_consent(text: str) -> Consent:
    """A consent as a person writes it; raises `WrongUse`."""
    to, colon, system = text.partition(":")
    known = ", ".join(f"{one}:{'NODE' if one in OF_A_NODE else 'SYSTEM'}" for one in CONSENTS)
    if not colon or not system or to not in CONSENTS:
        raise WrongUse(
            f"--consent {clean(text, 60)!r} accepts nothing that Gallant asks for.",
            f"What can be accepted: {known}.",
            "gallant plan SYSTEM names what has to be accepted.",
        )
    return Consent(to=to, system=system)


class Needed(Record):
    """A consent that the lane of a system cannot be carried out without, and why."""

    lane: str
    consent: Consent
    what: str
    why: str | None = None


def consents_needed(plan: Plan, exports: Sequence[str]) -> list[Needed]:
    """What somebody has to accept by name before the plan is begun; `exports` are the systems that can be backed up."""
    return [
        Needed(lane=lane.system, consent=consent, what=what, why=why)
        for lane in plan.lanes
        for consent, what, why in (
            *(o for hop in lane.hops for o in _of_hop(lane.system, hop)),
            *_of_lane(lane, exports),
        )
    ]


def covered(consent: Consent, needed: Sequence[Needed], systems: Mapping[str, Marked]) -> tuple[str, ...]:
    """Of what a plan needs, each by its name, what a consent for many covers: its own kind, for the systems that are
    meant. Raises `WrongUse` for a term that is none, and for one that covers nothing: somebody believes it did."""
    try:
        term = parse_term(consent.system)
    except ValueError as error:
        raise WrongUse(f"--consent {clean(consent.words, 60)}: {error}.") from None
    own = dict.fromkeys(one.consent for one in needed if one.consent.to == consent.to)
    found = [one.words for one in own if one.whose in systems and matches(term, systems[one.whose])]
    if not found:
        asked = ", ".join(one.words for one in list(own)[:MOST_NAMED]) or f"nothing of {consent.to}"
        raise WrongUse(
            f"--consent {clean(consent.words, 60)} covers nothing that this plan needs.", next=f"It needs {asked}."
        )
    return tuple(found)


MOST_NAMED = 5  # consents of one kind in a command; of more, all of that kind are named together


def _together(words: Sequence[str]) -> list[str]:
    """Consents as a command has them: where there are many of a kind, that kind once, of all that the plan needs."""
    kinds = Counter(parse_consent(text).to for text in words)
    return list(dict.fromkeys(f"'{to}:{ALL}'" if kinds[to := parse_consent(t).to] > MOST_NAMED else t for t in words))


def roll_command(plan: Plan, exports: Sequence[str] | None = None, given: Sequence[str] = ()) -> str:
    """How somebody who accepts all that a plan needs carries it out. Where it is not
    known which systems can be backed up (`exports`), none is asked about."""
    needed = consents_needed(plan, plan.systems if exports is None else exports)
    words = dict.fromkeys([*given, *(one.consent.words for one in needed)])
    return " ".join([f"gallant roll {plan.id}", *(f"--consent {word}" for word in _together(list(words)))])


Told: TypeAlias = tuple[Consent, str, str | None]


def _of_hop(system: str, hop: Hop) -> Iterator[Told]:
    if hop.despite_recall:
        does = "goes back to" if hop.back else "finishes"
        what = f"{system}: {hop.to} was recalled by its publisher; the plan {does} it all the same."
        why = "It is what ran before." if hop.back else "The recall's condition held on no node when the plan was made."
        yield Consent(to="recalled", system=system), what, why
    for node, channels in hop.channels.items():
        what = (
            f"{system}/{node}: {' and '.join(channels)} {'is' if len(channels) == 1 else 'are'} enabled for the work,"
            " and disabled after it."
        )
        yield Consent(to="channel", system=system), what, "Whoever disabled it had a reason."
    if hop.rewinds is not None:
        what = f"{system}: it goes back to its restore point; everything since then is lost on it."
        yield Consent(to="loses", system=system), what, "That is what a restore point is."


def _of_lane(lane: Lane, exports: Sequence[str]) -> Iterator[Told]:
    carries = "Nothing of it carries on while a node is away."
    if whys := lane.one_way:
        what = f"{lane.system}: {'; '.join(whys)}."
        yield Consent(to="one-way", system=lane.system), what, None
    if lane.down_s:
        hit = f" {', '.join(lane.hit)} depend{'s' if len(lane.hit) == 1 else ''} on it." if lane.hit else ""
        what = f"{lane.system}: its service is down for about {lane.down_s / 60:.0f} min.{hit}"
        yield Consent(to="downtime", system=lane.system), what, carries
    for name, seconds in lane.falls.items():
        what = f"{name}: it stands on {lane.system}, and is down with it for about {seconds / 60:.0f} min."
        yield Consent(to="downtime", system=name), what, carries
    for name in lane.loses:
        what = f"{name}: what it runs and never saved is lost when it restarts."
        yield Consent(to="loses-unsaved", system=name), what, "Nothing of the plan can save it."
    if lane.system not in exports:
        what = f"{lane.system}: its driver cannot export a configuration, so there would be no backup."
        yield Consent(to="no-backup", system=lane.system), what, None
