"""What no component knows by itself: its neighbours, its system's manager, the counterpart of its target, and what the
device's own list of updates says. It stands next to the gap of whatever the system itself runs.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from gallant.core.assess.compat import Breach, Task, breaches
from gallant.core.assess.requirements import Requirements, own_breaches, requirements
from gallant.core.assess.routes import why_not_enter
from gallant.core.catalog.products import Product
from gallant.core.estate.systems import Estate, System
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.core.versions import NotAVersion, Version, parse, parse_range


class Remark(Record):
    """What is to be added to one node's gap.

    `blocked` has, by target version, why it cannot be entered yet; `offers` are the releases of the device's own list.
    """

    reasons: tuple[str, ...] = ()
    blocked: dict[str, tuple[str, ...]] = {}
    offers: tuple[str, ...] | None = None


def remarks(
    estate: Estate, by_system: Mapping[str, Sequence[Reading]], products: Mapping[str, Product]
) -> dict[str, dict[str, Remark]]:
    """By system and node; systems of which there is nothing to say are left out."""
    said: dict[str, list[str]] = {}
    blocked: dict[str, dict[str, tuple[str, ...]]] = {}
    demanding = {name for name, product in products.items() if any(r.requires for r in product.releases)}
    if demanding & {system.product for system in estate.systems.values()}:
        readings = {reading.name: reading for rows in by_system.values() for reading in rows}
        known = requirements(estate, readings, products, {})
        for breach in breaches(known.tasks, known.rules):
            about = breach.rule.system if breach.rule.system in by_system else breach.rule.other
            said.setdefault(about, []).append(_breach_words(estate, breach, known.tasks))
        for breach in own_breaches(estate, readings, products):
            said.setdefault(breach.rule.system, []).append(_needs(breach, f"its {breach.rule.other}"))
        blocked = _without_counterpart(estate, known, products)
    found: dict[str, dict[str, Remark]] = {}
    for name, rows in by_system.items():
        product = products.get(estate.systems[name].product)
        own = [*_mixed(rows), *said.get(name, ())]
        nodes = {}
        for reading in rows:
            offers, strange = _offers(reading, product)
            reasons = (*own, *strange)
            if reasons or name in blocked or offers is not None:
                nodes[reading.node] = Remark(reasons=reasons, blocked=blocked.get(name, {}), offers=offers)
        if nodes:
            found[name] = nodes
    return found


def _mixed(rows: Sequence[Reading]) -> list[str]:
    if len({reading.version for reading in rows}) < 2:
        return []
    nodes = ", ".join(f"{reading.node} {reading.version}" for reading in sorted(rows, key=lambda r: r.node))
    return [f"its nodes run different versions: {nodes}"]


def _offers(reading: Reading, product: Product | None) -> tuple[tuple[str, ...] | None, list[str]]:
    """The releases that the device itself offers, and those of them that the catalog has not, in words."""
    if reading.offers is None or product is None:
        return None, []
    known = [(text, product.resolve(text)) for text in reading.offers]
    strange = [text for text, release in known if release is None]
    words = [f"the device's own list of updates has {', '.join(strange)}, which the catalog has not"] if strange else []
    for _, release in known:
        if release is not None and release.recall is not None:
            words.append(f"the device's own list of updates has {release.version}, {release.recall.words}")
    return tuple(release.version for _, release in known if release is not None), words


def _breach_words(estate: Estate, breach: Breach, tasks: Sequence[Task]) -> str:
    rule, needs = breach.rule, _needs(breach, breach.rule.other)
    one, other = estate.systems.get(rule.system), estate.systems.get(rule.other)
    beyond = _beyond(rule.range, next(task for task in tasks if task.system == rule.other), breach.other_running)
    # Ahead of its manager: the managed one asks for a newer manager, or the manager does not know so new a one yet.
    if one and other and _manages(other, one) and beyond == "below":
        return f"ahead of its manager: {needs}"
    if one and other and _manages(one, other) and beyond == "above":
        return f"{rule.other} is ahead of its manager: {needs}"
    return needs


def _needs(breach: Breach, other: str) -> str:
    asked = f"{breach.rule.system} on {breach.running} needs {other} on {parse_range(breach.rule.range).words()}"
    return f"{asked}; {other} runs {breach.other_running}"


def _manages(manager: System, system: System) -> bool:
    return system.managed_by == manager.name


def _beyond(text: str, task: Task, running: str) -> str | None:
    """Whether a version that a range does not hold lies `above` or `below` its bounds; None between them."""
    try:
        release = task.product.resolve(running)
        at: Version = task.product.key(release) if release else parse(task.product.scheme, running)
        bounds = [(c.comparator, parse(task.product.scheme, c.version)) for c in parse_range(text).constraints]
    except NotAVersion:
        return None
    lower = [bound for comparator, bound in bounds if comparator in (">", ">=", "=")]
    upper = [bound for comparator, bound in bounds if comparator in ("<", "<=", "=")]
    if lower and at <= min(lower):
        return "below"
    return "above" if upper and at >= max(upper) else None


def _without_counterpart(
    estate: Estate, known: Requirements, products: Mapping[str, Product]
) -> dict[str, dict[str, tuple[str, ...]]]:
    """By system and release: requirements that nothing published fulfils, nor what runs now."""
    running = {task.system: task for task in known.tasks}
    found: dict[str, dict[str, tuple[str, ...]]] = {}
    for rule in known.rules:
        other = running[rule.other]
        product = other.product
        allowed = parse_range(rule.range)
        release = product.resolve(other.running)
        if rule.when is None or (release and product.key(release) in allowed):
            continue
        if release is None and _is_in(other, rule.range):
            continue
        if any(key in allowed and why_not_enter(r) is None for key, r in product.ascending):
            continue
        subject = running[rule.system].product
        version = next((r.version for k, r in subject.ascending if k in parse_range(rule.when)), None)
        if version is not None:
            published = f"no such release of {product.name} is published yet"
            why = (
                f"{version} needs {rule.other} on {allowed.words()};"
                f" {published if product.releases else f'{rule.other} runs {other.running}'}"
            )
            own = found.setdefault(rule.system, {})
            own[version] = (*own.get(version, ()), why)
    return found


def _is_in(task: Task, text: str) -> bool:
    try:
        return parse(task.product.scheme, task.running) in parse_range(text)
    except NotAVersion:
        return False
