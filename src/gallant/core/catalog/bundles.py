"""Does a system run versions that were validated together, and if not, which component is it that breaks them?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from gallant.core.catalog.products import Bundle, Product
from gallant.core.readings import IMAGE, Reading
from gallant.core.records import Record


class Break(Record):
    """A component that does not run what the bundle has; `installed` None: the node has no such component."""

    component: str
    product: str
    installed: str | None
    wanted: str

    @property
    def words(self) -> str:
        """What of a bundle another version runs, in one line."""
        return (
            f"{self.component} runs {self.installed}, the bundle has {self.wanted}"
            if self.installed
            else (f"{self.component} has no {self.product}, the bundle has {self.wanted}")
        )


class BundleMatch(Record):
    """How a system stands to the bundles that name its product: the one it runs, or the nearest and what breaks it.

    `beside` are components that the bundle says nothing of.
    """

    system: str
    bundle: str
    whole: bool
    breaks: tuple[Break, ...] = ()
    beside: tuple[str, ...] = ()


def match_bundle(
    system: str, readings: Sequence[Reading], bundles: Iterable[Bundle], products: Mapping[str, Product]
) -> BundleMatch | None:
    """The newest bundle that a system runs, else the one with the fewest breaks; None where no bundle is about it."""
    about = [b for b in bundles if readings and readings[0].product in b.versions and b.recall is None]
    tried = [
        (b, _breaks(readings, b, products)) for b in sorted(about, key=lambda b: (b.released, b.name), reverse=True)
    ]
    if not tried:
        return None
    bundle, breaks = min(tried, key=lambda pair: len(pair[1]))  # the first, and so the newest, of equals
    beside = {f"{r.name}:{c.name}" for r in readings for c in r.components if bundle.version_of(c.product) is None}
    return BundleMatch(
        system=system, bundle=bundle.name, whole=not breaks, breaks=tuple(breaks), beside=tuple(sorted(beside))
    )


def _breaks(readings: Sequence[Reading], bundle: Bundle, products: Mapping[str, Product]) -> list[Break]:
    found = []
    for reading in readings:
        for product, wanted in bundle.versions.items():
            if not any(c.product == product for c in reading.components):
                found.append(Break(component=reading.name, product=product, installed=None, wanted=wanted))
        for part in reading.components:
            asked = bundle.version_of(part.product)
            product_of_part = products.get(part.product)
            met = part.version == asked or (product_of_part is not None and product_of_part.same(part.version, asked))
            if asked is not None and not met:
                name = reading.name if part.name == IMAGE else f"{reading.name}:{part.name}"
                found.append(Break(component=name, product=part.product, installed=part.version, wanted=asked))
    return found
