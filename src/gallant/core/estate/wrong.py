"""What is wrong with an estate that could be read: names that nothing has, terms that hold for nothing, settings that
do not go together."""

from __future__ import annotations

from collections.abc import Mapping, Set
from collections.abc import Set as AbstractSet

from gallant.core.documents import Document, suggestion
from gallant.core.estate.accounts import PURPOSES, Account
from gallant.core.estate.aims import subject_of
from gallant.core.estate.places import is_loopback
from gallant.core.estate.systems import DRIVERS, Estate, System, name_problem, node_name, nodes_below
from gallant.core.readings import COMPONENT_KINDS
from gallant.core.shapes import ROLES, SHAPES
from gallant.core.terms import ALL, CONDITIONS, NAME, TAG, Term, parse_term, unmatched


def look_for_names(document: Document, estate: Estate) -> None:
    """What one record alone cannot know: names that nothing has, and things declared twice."""
    if estate.gallant != "estate/1":
        document.at(("gallant",), f"{estate.gallant!r} is not known here; this Gallant reads estate/1")
    _look_at_purposes(document, ("accounts",), estate.accounts)
    every_node = {node_name(s, n) for s in estate.systems.values() for n in s.nodes}
    borne: dict[tuple[str, ...], str] = {}
    for system in estate.systems.values():
        _look_at_system(document, estate, system)
        for key in system.nodes:
            _look_at_node(document, estate, system, key, every_node, borne)
    known = set(estate.systems) | every_node
    _look_at_aims(document, estate, known)
    _look_at_rules(document, estate)
    _look_at_rounds(document, estate)
    _look_at_defaults(document, estate)
    _look_at_windows(document, estate)
    for name in estate.catalogs:
        if problem := name_problem(name):
            document.at(("catalogs", name), problem, key=True)
    for tag in estate.approval:
        if (wrong := unmatched(Term(key=TAG, value=tag.casefold()), estate.systems.values())) is not None:
            document.at(("approval", tag), wrong, key=True)
    for index, note in enumerate(estate.notes):
        if "/" not in note.about and note.about not in estate.systems:
            hint = document.suggestion(note.about, estate.systems)
            document.at(
                ("notes", index, "about"),
                f"{note.about!r} is nothing known{hint}; write a system, or publisher/product with a release or RELEASE"
                " > RELEASE",
            )


def _look_at_defaults(document: Document, estate: Estate) -> None:
    """One that is for nothing there is most likely a slip of the pen."""
    for index, default in enumerate(estate.defaults):
        for term in default.for_.split():
            _look_at_term(document, ("defaults", index, "for"), estate, parse_term(term), default.known)


def _look_at_term(
    document: Document,
    at: tuple[str | int, ...],
    estate: Estate,
    term: Term,
    known: bool,
    also: AbstractSet[str] = frozenset(),
) -> None:
    """A term that means nothing there is, where it is not said to be for
    systems to come; `also` are words that it may be besides."""
    wrong = unmatched(term, estate.systems.values()) if known and estate.systems and term.value not in also else None
    if wrong is not None:
        hint = suggestion(term.value, also) if also and "did you mean" not in wrong else ""
        document.at(at, f"{wrong}{hint}; known: no, where it is for systems to come")


def _look_at_windows(document: Document, estate: Estate) -> None:
    """One that is for nothing there would leave somebody without the window, or the blackout, that they count on."""
    for field, rules in (("windows", estate.windows), ("blackouts", estate.blackouts)):
        for index, rule in enumerate(rules):
            at = (field, index, "for")
            if rule.term.key == NAME and "/" in rule.term.value:
                document.at(at, "windows are of systems; write the system alone")
            else:
                _look_at_term(document, at, estate, rule.term, rule.known)


def _look_at_rounds(document: Document, estate: Estate) -> None:
    """A round of systems that are not there would let the next begin at once."""
    for index, rule in enumerate(estate.rounds):
        for place, term in enumerate(rule.terms):
            _look_at_term(document, ("rounds", index, "of", place), estate, term, rule.known)


def _look_at_node(
    document: Document, estate: Estate, system: System, key: str, every: Set[str], borne: dict[tuple[str, ...], str]
) -> None:
    """`borne` has the node by each serial and address so far: no two nodes have the same."""
    node, at = system.nodes[key], ("systems", system.name, "nodes", key)
    here = node_name(system, key)
    if problem := name_problem(key):
        document.at(at, problem, key=True)
    if node.runs_on is not None and node.runs_on not in every:
        document.at((*at, "runs_on"), f"no node {node.runs_on!r}{document.suggestion(node.runs_on, every)}")
    elif here in nodes_below(estate, here):
        document.at((*at, "runs_on"), f"{here} runs on itself, by way of {node.runs_on}")
    marks: list[tuple[str, tuple[str, ...]]] = [("serial", (system.product, node.serial))] if node.serial else []
    if node.held_by != "file":
        document.at((*at, "held_by"), "is Gallant's own word; write serial: and the serial", key=True)
    if not node.by_hand:
        marks.insert(0, ("address", (node.address,)))
    for field, mark in marks:
        other = borne.setdefault((field, *mark), here)
        if other != here:
            document.at((*at, field), f"{here} has the {field} of {other}")
    if estate.simulation is not None and not (is_loopback(node.host) or node.by_hand):
        document.at((*at, "address"), "not a loopback address; a simulated estate never speaks to a real machine")


def _look_at_aims(document: Document, estate: Estate, known: Set[str]) -> None:
    first: dict[str, int] = {}
    for index, aim in enumerate(estate.aims):
        at = ("aims", index, "for")
        subject, colon, _ = aim.for_.partition(":")
        condition = bool(colon) and subject.casefold() in CONDITIONS
        if aim.for_ == ALL:
            document.at(at, "write default for every system that no other aim is for")
        elif condition:
            try:
                _look_at_term(document, at, estate, parse_term(aim.for_), aim.known)
            except ValueError as error:
                document.at(at, str(error))
        elif aim.for_ != "default" and subject_of(subject) not in known and aim.known:
            hint = document.suggestion(subject, {"default", *known})
            document.at(
                at,
                f"{aim.for_!r} selects nothing{hint}; write default, a system, a node, one of these with :COMPONENT, "
                "site:, tag: or kind:; known: no, where it is for systems to come",
            )
        if first.setdefault(subject_of(aim.for_), index) != index:
            document.at(at, f"{aim.for_!r} has two aims; the other is entry {first[subject_of(aim.for_)] + 1}")


def _look_at_rules(document: Document, estate: Estate) -> None:
    """A rule for a kind or a tag that nothing has never matches, and what it was to act on waits for ever."""
    for index, rule in enumerate(estate.rules):
        for field, value, also in (("kind", rule.kind, _COMPONENT_KINDS), ("tag", rule.tag, frozenset[str]())):
            if value is not None:
                term = Term(key=field, value=value.casefold())
                _look_at_term(document, ("rules", index, field), estate, term, rule.known, also)


_COMPONENT_KINDS = frozenset(kind.casefold() for kind in COMPONENT_KINDS)


def _look_at_purposes(document: Document, path: tuple[str, ...], accounts: Mapping[str, Account]) -> None:
    for purpose in accounts:
        if purpose not in PURPOSES:
            hint = document.suggestion(purpose, PURPOSES)
            document.at((*path, purpose), f"unknown purpose {purpose!r}{hint}", key=True)


def _look_at_system(document: Document, estate: Estate, system: System) -> None:
    path = ("systems", system.name)
    if problem := name_problem(system.name):
        document.at(path, problem, key=True)
    for field, value, known in (
        ("shape", system.shape, tuple(SHAPES)),
        ("driver", system.driver, DRIVERS),
        ("site", system.site, tuple(estate.sites)),
    ):
        if value not in known:
            document.at((*path, field), f"unknown {field} {value!r}{document.suggestion(value, known)}")
    if not system.profile and system.driver in DRIVERS:
        document.at(
            path, f"missing profile: none fits every {system.driver} device; gallant profiles lists the built-in ones"
        )
    shape = SHAPES.get(system.shape)
    if shape is not None and not shape.least <= len(system.nodes) <= shape.most:
        document.at(
            (*path, "nodes"),
            f"a {system.shape} has {shape.least} node{'s' * (shape.least > 1)}, here are {len(system.nodes)}",
        )
    _look_at_ties(document, path, estate, system)
    _look_at_purposes(document, (*path, "accounts"), system.accounts)
    for key, service in system.services.items():
        if estate.simulation is not None and not is_loopback(service.endpoint[0]):
            document.at(
                (*path, "services", key, "address"),
                "not a loopback address; a simulated estate never probes a real one",
            )


def _look_at_ties(document: Document, path: tuple[str, ...], estate: Estate, system: System) -> None:
    """What it says of other systems and of its own nodes by name: each has to be there."""
    for used in system.uses:
        if used not in estate.systems:
            document.at((*path, "uses"), f"no system {used!r}{document.suggestion(used, estate.systems)}")
    if system.managed_by is not None and system.managed_by not in estate.systems:
        document.at(
            (*path, "managed_by"),
            f"no system {system.managed_by!r}{document.suggestion(system.managed_by, estate.systems)}",
        )
    for role, node in system.usual.items():
        if role not in ROLES:
            document.at((*path, "usual", role), f"unknown role {role!r}{document.suggestion(role, ROLES)}", key=True)
        if node not in system.nodes:
            document.at(
                (*path, "usual", role), f"no node {node!r} in {system.name}{document.suggestion(node, system.nodes)}"
            )
