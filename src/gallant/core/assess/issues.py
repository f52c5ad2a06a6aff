"""Known issues of a release, held against the nodes of this estate: which would it concern?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from gallant.core.catalog.conditions import FactsByName, holds
from gallant.core.catalog.products import SEVERITIES, KnownIssue, Product, Release
from gallant.core.records import Record


class Concern(Record):
    """A known issue of a release: the nodes that it concerns, and those whose readings do not tell. Names:
    `tickets/a`."""

    release: str
    issue: KnownIssue
    nodes: tuple[str, ...] = ()
    untold: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """Which nodes it concerns, and of which that is not known."""
        said = [f"concerns {', '.join(self.nodes)}"] if self.nodes else []
        if self.untold:
            said.append(f"the readings of {', '.join(self.untold)} do not tell")
        return "; ".join(said) or "concerns no node here"

    @property
    def rank(self) -> tuple[int, int]:
        """What concerns this estate first, then what may, each with the most severe first."""
        return 0 if self.nodes else 1 if self.untold else 2, SEVERITIES.index(self.issue.severity)


def concerns_of(product: Product, release: Release, facts: Mapping[str, FactsByName]) -> list[Concern]:
    """One for each known issue; `facts` are by node. A condition on the version asks it of the release itself."""
    found = []
    for issue in release.issues:
        answers = {node: holds(issue.when, said, product.key(release)) for node, said in facts.items()}
        found.append(
            Concern(
                release=release.version,
                issue=issue,
                nodes=tuple(node for node, answer in answers.items() if answer is True),
                untold=tuple(node for node, answer in answers.items() if answer is None),
            )
        )
    return found


def worst_concerns(concerns: Iterable[Concern]) -> list[Concern]:
    """Those that concern a node for certain first, the most severe among them first."""
    return sorted(concerns, key=lambda concern: concern.rank)
