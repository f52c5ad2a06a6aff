"""The site's own notes, and on what they are: a system, a product, a release, or one hop from release to release."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate, Note, System


def notes_on(
    estate: Estate,
    system: System | None,
    product: Product,
    hops: Sequence[tuple[str, str]] = (),
    release: str | None = None,
) -> Iterator[Note]:
    """The notes on a system (None: on no system), its product, the hops (from, to) and what they enter, or one
    release."""
    entered = [to for _, to in hops] + ([release] if release else [])
    for note in estate.notes:
        about, _, rest = note.about.partition(" ")
        if (system is not None and note.about == system.name) or (
            about == product.name and _concerns(product, rest.strip(), hops, entered)
        ):
            yield note


def _concerns(product: Product, rest: str, hops: Sequence[tuple[str, str]], entered: Sequence[str]) -> bool:
    if not rest:
        return True
    start, arrow, end = (part.strip() for part in rest.partition(">"))
    if arrow:
        return any(product.same(start, a) and product.same(end, b) for a, b in hops)
    return any(product.same(start, version) for version in entered)
