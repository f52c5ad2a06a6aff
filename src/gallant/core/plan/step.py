"""One step of a hop, made from the row of its kind."""

from __future__ import annotations

from gallant.core.estate.systems import System, node_name
from gallant.core.readings import IMAGE
from gallant.core.records import replace
from gallant.core.shapes import SHAPES
from gallant.core.steps.kinds import (
    KINDS,
    Kind,
)
from gallant.core.steps.minutes import deadline_seconds
from gallant.core.work.hop_work import HopWork
from gallant.core.work.paces import Pace, pace_key, taken
from gallant.core.work.plan import Part, Step

# How long a pair may be left, in seconds of estate time, at a point where both nodes serve and agree.
MAY_REST_S = 7 * 24 * 3600.0
# A service address is nowhere for about this long while it moves, in real seconds; a profile may know better.
HANDOVER_GAP_S = 1.0


def part_step(system: System, work: HopWork, part: Part, node: str) -> Step:
    """Which kind of step brings a component: by what it takes until that runs."""
    kind = "raise_format" if part.raised else _PART_KINDS[part.restart]
    return one_step(system, replace(work, part=part, package=part.package), kind, node)


def _above(work: HopWork, node: str) -> tuple[str, ...]:
    """What goes down with a node."""
    return work.stacked.get(node, ())


_PART_KINDS = {"node": "install_part", "service": "renew_part", "none": "apply_part"}


def _interrupts_s(system: System, row: Kind, estimate: float) -> float:
    """For how long users may get no answer: while an address moves,
    and where nothing carries on all the time of a restart."""
    if not system.services or not system.in_service:
        return 0
    if row.disturbs and not SHAPES[system.shape].tolerates(len(system.nodes)):
        return estimate
    return HANDOVER_GAP_S if row.interrupts else 0


def one_step(system: System, work: HopWork, kind: str, node: str, suffix: str = "") -> Step:
    """The step of a kind on a node, of the image or of the component that the work is about, before what a restart
    brings along is known."""
    row, package, part = KINDS[kind], work.package, work.part
    announced, pace = row.estimate(work), _pace(work, kind)
    estimate = max(0.0, taken(announced, pace.p50)) if pace is not None else announced
    named = f".{part.component}" if part is not None else suffix
    where = node if work.above is None else node_name(system, node)
    step = Step(
        id=f"{work.hop_id}.{where}.{kind}{named}",
        hop=work.hop_id,
        kind=kind,
        system=system.name,
        node=node,
        component=IMAGE,
        product=system.product,
        to=work.goal if row.ours else work.to,
        task=work.by_hand if row.by_person else "",
        guards=tuple(g for g in row.guards if work.applies(g)),
        expects=row.slotted if row.slotted is not None and work.knows.slots > 1 else row.expects,
        repeat=work.knows.repeat.get(row.order, row.repeat),
        undo=row.undo,
        # The restore point is of the whole system: where that is one node, it is that node's way back.
        reverts=work.restore_point and len(system.nodes) == 1 and row.alters,
        disturbs=(node_name(system, node), *(_above(work, node) if row.away else ())) if row.disturbs else (),
        interrupts_s=_interrupts_s(system, row, estimate),
        safe_stop_s=MAY_REST_S if row.safe else None,
        ends_node=row.ends_node,
        estimate_s=estimate,
        deadline_s=work.patience * deadline_seconds(announced, pace),
        despite_recall=work.despite_recall,
    )
    if part is not None:
        own = {"component": part.component, "product": part.product, "to": part.to, "despite_recall": False}
        step = replace(step, **own, repeat=row.repeat)
    if package is None or not row.carries:
        return step
    return replace(step, package=package.name, sha256=package.sha256, bytes=package.bytes)


def _pace(work: HopWork, kind: str) -> Pace | None:
    """How such steps went here before; what stands above a machine is another's work, of which nothing was learned."""
    if work.above is not None:
        return None
    return work.paces.get(pace_key(kind, work.part.component if work.part is not None else IMAGE))
