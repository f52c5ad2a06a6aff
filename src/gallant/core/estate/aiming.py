"""Which aim holds for a component of a system: the one that says most of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.catalog.products import Bundle
from gallant.core.estate.aims import binds, subject_of
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.readings import IMAGE
from gallant.core.records import Record


class AimHere(Record):
    """An aim that a component lies under; `named` where it is for this very component."""

    aim: str
    named: bool = False

    def binds(self, product: str, own: bool, bundles: Sequence[Bundle]) -> bool:
        """Whether an aim is about a product: by its name, or since it says so of all."""
        return self.named or binds(self.aim, product, own, bundles)


def aims_on(
    by_subject: Mapping[str, str], system: System, node: str, component: str | None = None
) -> tuple[AimHere, ...]:
    """The aims that a component (None: the node as a whole) lies under, most specific first, ending with `newest`.

    Component on a node, component on every node of the system, node, system, tag, kind, site, default.
    """
    here = node_name(system, node)
    named = (f"{here}:{component}", f"{system.name}:{component}") if component is not None else ()
    order = [
        here,
        system.name,
        *(f"tag:{t}" for t in system.tags),
        f"kind:{system.kind}",
        f"site:{system.site}",
        "default",
    ]
    return (
        *(AimHere(aim=by_subject[subject], named=True) for subject in map(subject_of, named) if subject in by_subject),
        *(AimHere(aim=by_subject[subject]) for subject in map(subject_of, order) if subject in by_subject),
        NEWEST,
    )


NEWEST = AimHere(aim="newest")


def aim_for(
    estate: Estate,
    system: System,
    node: str,
    component: str = IMAGE,
    product: str | None = None,
    bundles: Sequence[Bundle] = (),
) -> str:
    """The most specific aim that binds `product` (None: the system's own) on a component."""
    own = product is None or product == system.product
    aims = aims_on(estate.aims_by_subject, system, node, component)
    return next(here.aim for here in aims if here.binds(product or system.product, own, bundles))
