"""The systems and nodes of an estate that some terms hold for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from collections.abc import Set as AbstractSet

from gallant.core.documents import suggestion
from gallant.core.errors import WrongUse
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.terms import NAME, Term, matches, parse_term, unmatched


def select(estate: Estate, terms: Sequence[str]) -> list[tuple[System, tuple[str, ...]]]:
    """The systems that all `terms` hold for, each with its selected nodes, in the order of the file.

    A bare system or `system/node` names one; several names are joined. `site:`, `tag:` and `kind:` must all hold.
    Raises `WrongUse` for a term that names nothing, and for terms that together select nothing: a typo must not
    look as if all were well.
    """
    asked = [_asked(term) for term in terms]
    names, conditions = [t.value for t in asked if t.key == NAME], [t for t in asked if t.key != NAME]
    for term in conditions:
        if (wrong := unmatched(term, estate.systems.values())) is not None:
            raise WrongUse(f"{wrong[0].upper()}{wrong[1:]}.", next="gallant inventory lists what there is.")
    for name in names:
        system, slash, node = name.partition("/")
        if system not in estate.systems or (slash and node not in estate.systems[system].nodes):
            every_node = [node_name(s, n) for s in estate.systems.values() for n in s.nodes]
            raise WrongUse(
                f"No system or node {name!r} in the estate{suggestion(name, [*estate.systems, *every_node])}.",
                next="gallant inventory lists what there is.",
            )
    found = list(_selected(estate, set(names), conditions))
    if terms and not found:
        raise WrongUse(f"{' '.join(terms)}: no system is all of that.", next="gallant inventory lists what there is.")
    return found


def _asked(text: str) -> Term:
    try:
        return parse_term(text)
    except ValueError:
        raise WrongUse(
            f"{text} selects by nothing known.", next="Write site:NAME, tag:NAME, kind:NAME, a system or system/node."
        ) from None


def _selected(
    estate: Estate, names: AbstractSet[str], conditions: Sequence[Term]
) -> Iterator[tuple[System, tuple[str, ...]]]:
    named = {name.partition("/")[0] for name in names}
    # One that is named is looked up; of several the file says the order.
    candidates = [estate.systems[name] for name in named] if len(named) == 1 else list(estate.systems.values())
    for system in candidates:
        if names and system.name not in named:
            continue
        if not all(matches(term, system) for term in conditions):
            continue
        if not names or system.name in names:
            yield system, tuple(system.nodes)
        elif nodes := tuple(n for n in system.nodes if node_name(system, n) in names):
            yield system, nodes
