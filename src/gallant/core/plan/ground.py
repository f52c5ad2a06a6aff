"""What a plan rests on, and what the waves of a hop are made from: in a plan, and once more in its roll."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import cached_property

from gallant.core.catalog.products import Bundle, Minutes, Product, Release
from gallant.core.errors import Refused
from gallant.core.estate.capacity import standing_of
from gallant.core.estate.stacks import Upper, systems_above
from gallant.core.estate.systems import Estate, System, node_name
from gallant.core.plan.alike import Routes
from gallant.core.plan.guests import Carrying
from gallant.core.plan.todo import is_older
from gallant.core.readings import Reading
from gallant.core.records import Record, replace
from gallant.core.steps.kinds import KINDS
from gallant.core.work.hop_work import HopWork
from gallant.core.work.knows import ALL, ONE, Knows
from gallant.core.work.paces import Observation
from gallant.core.work.plan import Hop, Part


class PartGoal(Record):
    """A component of a system that is to come to a release, wherever a node runs an older one."""

    component: str
    target: str


class Ground(Record, dict=True):
    """What a plan rests on. `readings` are by node name; `despite` has, by system, a recalled release
    that a named person lets it finish (see `ways_out` in core/assess/recalls.py); `knows` what each
    system's driver knows, where that is known; `snapshotted` the systems of which a snapshot can be
    taken, by themselves or by the host below them; `wishes` a person's order of nodes. `parts` are the
    components that go along, by system; `still` systems of which the image stays as it is; `chosen` the
    nodes that are worked on, where it is not all of a system's; `learned` how long steps took before."""

    estate: Estate
    readings: dict[str, Reading]
    products: dict[str, Product]
    now: datetime
    bundles: tuple[Bundle, ...] = ()
    despite: dict[str, str] = {}
    knows: dict[str, Knows] = {}
    snapshotted: frozenset[str] = frozenset()
    wishes: dict[str, tuple[str, ...]] = {}
    parts: dict[str, tuple[PartGoal, ...]] = {}
    still: frozenset[str] = frozenset()
    chosen: dict[str, tuple[str, ...]] = {}
    learned: tuple[Observation, ...] = ()

    @cached_property
    def routes(self) -> Routes:
        """What aims come to and which routes lead there, kept for all systems of this plan."""
        return Routes(self.now, self.bundles)

    def of(self, system: System) -> dict[str, Reading]:
        """The system's readings by the nodes' own names."""
        return {node: self.readings[node_name(system, node)] for node in system.nodes}

    def image_of(self, system: System) -> Product:
        """The product of its image; one without releases where no catalog lists it."""
        return self.products.get(system.product) or Product(name=system.product, scheme="dotted", releases=())

    def worked_on(self, system: System) -> dict[str, Reading]:
        """The readings of the nodes that are worked on."""
        chosen = self.chosen.get(system.name) or tuple(system.nodes)
        return {node: reading for node, reading in self.of(system).items() if node in chosen}

    def known_of(self, system: System) -> Knows:
        """What a system's driver knows, and what its nodes say that they can besides."""
        own = {node: r for node in system.nodes if (r := self.readings.get(node_name(system, node))) is not None}
        return in_their_mode(system, self.knows.get(system.name, EVERYTHING), own)


# What is taken for granted of a driver that was not asked.
EVERYTHING = Knows(capabilities=frozenset(kind for kind, row in KINDS.items() if not row.ours))


def hop_work(
    estate: Estate,
    system: System,
    hop: Hop,
    release: Release | None,
    knows: Mapping[str, Knows],
    readings: Mapping[str, Mapping[str, Reading]],
    products: Mapping[str, Product],
) -> HopWork:
    """What a hop's waves are made from: in a plan, and once more in its roll. `release` is the image's, where that
    moves; `readings` are those of this system and of all that stand on it."""
    carrying = Carrying(estate=estate, readings=readings, knows=knows)
    uppers = _uppers(carrying, system, hop, products)
    stacked, fates = carrying.stacked(system, uppers)
    return HopWork(
        hop_id=hop.id,
        to=hop.to,
        minutes=_minutes(release, hop.parts, products),
        image=release is not None,
        parts=hop.parts,
        nodes=hop.nodes,
        package=hop.package,
        mbit_per_s=estate.sites[system.site].sends_mbit_per_s,
        steady_s=estate.limits.steady_s,
        knows=knows[system.name],
        uppers=uppers,
        stacked=stacked,
        fates=fates,
        despite_recall=hop.despite_recall,
        restore_point=hop.restore_point,
        back=hop.back,
        returns=hop.returns,
        rewinds=hop.rewinds,
        restarts=hop.restarts,
        by_hand=hop.by_hand,
        lays=hop.lays,
        serves=hop.serves,
        served=hop.served,
        renews_spare=hop.renews_spare,
        look_over="; ".join(one.words for one in hop.settings) if system.new_settings == "look" else "",
        channels=hop.channels,
        paces=hop.paces,
        patience=hop.patience,
        quiet_s=system.quiet.within_minutes * 60 if system.quiet is not None else 0,
    )


def in_their_mode(system: System, knows: Knows, readings: Mapping[str, Reading]) -> Knows:
    """What a driver knows, with whom its orders reach in the mode in which the nodes are. Raises `Refused` where they
    are in several, or in one that no word of ours is for."""
    modes = {reading.reach: node for node, reading in sorted(readings.items()) if reading.reach is not None}
    if not modes:
        return knows
    if len(modes) > 1 or not modes.keys() <= {ONE, ALL}:
        told = ", ".join(f"{system.name}/{node} says {mode}" for mode, node in modes.items())
        raise Refused(
            f"Whom an order to {system.name} reaches is not clear: {told}.",
            "One that is meant for a node may reach all of them.",
            f"gallant inventory {system.name}",
        )
    return replace(knows, reach=next(iter(modes)))


def work_now(ground: Ground, system: System, hop: Hop, release: Release | None) -> HopWork:
    """The same from what a plan rests on."""
    names = (system.name, *systems_above(ground.estate, system))
    return hop_work(
        ground.estate,
        system,
        hop,
        release,
        {name: ground.known_of(ground.estate.systems[name]) for name in names},
        {name: ground.of(ground.estate.systems[name]) for name in names},
        ground.products,
    )


def _uppers(carrying: Carrying, system: System, hop: Hop, products: Mapping[str, Product]) -> tuple[Upper, ...]:
    """The systems that live on this one's nodes and are down for a while when the turn of those comes."""
    if not system.in_service:
        return ()
    estate, knows = carrying.estate, carrying.knows
    return tuple(
        Upper(
            system=estate.systems[name],
            on=on,
            standing=standing_of(estate.systems[name], carrying.readings[name], estate.limits),
            drains={"drain", "refill"} <= knows[name].capabilities,
            repeat=knows[name].repeat,
            laid=frozenset(
                node
                for node, reading in carrying.readings[name].items()
                if name in hop.serves
                and is_older(products[estate.systems[name].product], reading.version, hop.serves[name])
            ),
        )
        for name, on in carrying.falling(system).items()
    )


def _minutes(release: Release | None, parts: Sequence[Part], products: Mapping[str, Product]) -> Minutes:
    """The publishers' minutes: of a restart that several share, the longest."""
    known = [r for part in parts if part.waits and (r := products[part.product].resolve(part.to)) is not None]
    shared = [r.minutes for r in ([release] if release is not None else []) + known]
    return Minutes(
        install=release.minutes.install if release is not None else 0,
        restart=max((m.restart for m in shared), default=0),
        sync=max((m.sync for m in shared), default=0),
    )


def all_read(ground: Ground, system: System) -> None:
    """Raise `Refused` where a node of a system was not read."""
    unread = next((name for n in system.nodes if (name := node_name(system, n)) not in ground.readings), None)
    if unread is not None:
        raise Refused(
            f"{unread} was never read; what is not known is not planned.", next=f"gallant survey {system.name}"
        )
