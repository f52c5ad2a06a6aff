"""Whether a plan that says it takes a roll back does that and nothing else: such
a plan waits for nobody's approval, and begins while that roll is open."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate
from gallant.core.readings import IMAGE
from gallant.core.work.plan import Hop, Plan


def beyond_undoing(plan: Plan, undone: Plan, estate: Estate, products: Mapping[str, Product]) -> tuple[str, ...]:
    """What a plan does beside bringing systems of an undone plan back to what they ran before it, in words."""
    return tuple(
        dict.fromkeys(
            what for lane in plan.lanes for hop in lane.hops for what in _beyond(hop, undone, estate, products)
        )
    )


def _beyond(hop: Hop, undone: Plan, estate: Estate, products: Mapping[str, Product]) -> Iterator[str]:
    if hop.system not in undone.every:
        yield f"{hop.system} was no part of that roll"
    elif not hop.back:
        yield f"{hop.id} leads on, and not back"
    else:
        own = estate.systems[hop.system].product if hop.system in estate.systems else ""
        moved = [(IMAGE, own, hop.to)] if hop.image else []
        moved += [(part.component, part.product, part.to) for part in hop.parts]
        for component, product, to in moved:
            if not _ran(undone, hop.system, component, to, products.get(product)):
                yield (
                    f"{hop.system} is brought to {'' if component == IMAGE else f'{component} '}{to}, which it did not"
                    " run before that roll"
                )


def _ran(undone: Plan, system: str, component: str, version: str, product: Product | None) -> bool:
    """Whether anything of a system ran this version before, or between the hops of, a roll."""
    before = _ran_before(undone, system, component)
    return version in before or (product is not None and any(product.same(version, text) for text in before))


def _ran_before(undone: Plan, system: str, component: str) -> set[str]:
    """What a roll found of a component of a system, and what each of its hops went from."""
    end = "" if component == IMAGE else f":{component}"
    before = {text for key, text in undone.basis.versions.items() if key.startswith(f"{system}/") and _is_of(key, end)}
    hops = [hop for lane in undone.lanes for hop in lane.hops if hop.system == system]
    if component == IMAGE:
        return before | {hop.from_ for hop in hops}
    return before | {part.from_ for hop in hops for part in hop.parts if part.component == component}


def _is_of(key: str, end: str) -> bool:
    """Whether a key of a basis (`system/node`, `system/node:component`) is about the component that it would end
    with."""
    return key.partition(":")[1] + key.partition(":")[2] == end
