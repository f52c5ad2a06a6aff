"""What the steps of one hop are made from."""

from __future__ import annotations

from gallant.core.catalog.products import Minutes, Package
from gallant.core.estate.stacks import Upper
from gallant.core.records import Record
from gallant.core.work.knows import Knows
from gallant.core.work.paces import Pace
from gallant.core.work.plan import NodesFate, Part


class HopWork(Record):
    """What the waves of a hop are made from, besides the roles.

    `to` is the image's release and `minutes` the publisher's word on it; where the image stays as it is (not `image`),
    those of the `parts` stand for it. Where a device keeps no packages its install brings the package along.
    `restore_point`: a snapshot is taken first, which for a system of one node is the way back. `part` is the component
    that a step is about, where it is one. `uppers` are systems that stand on it; `above` is the one that a step is
    about, where it is one; `stacked` has all that goes down with a node where nothing empties it first, `fates` by the
    name of a node that is emptied what becomes of what stands on it. `back`, `returns`, `rewinds`, `restarts`,
    `by_hand`, `lays`, `serves`, `served` and `renews_spare` are as in the hop; `quiet_s` is for how long a node's
    sessions are waited for; `by_itself` how many nodes the device updates by one order; `look_over` what a person is to
    look at in the end; `patience` is as in the hop.
    """

    hop_id: str
    to: str
    minutes: Minutes
    image: bool = True
    parts: tuple[Part, ...] = ()
    nodes: tuple[str, ...] = ()
    package: Package | None
    mbit_per_s: float | None
    steady_s: float
    knows: Knows
    despite_recall: bool = False
    restore_point: bool = False
    part: Part | None = None
    uppers: tuple[Upper, ...] = ()
    above: Upper | None = None
    stacked: dict[str, tuple[str, ...]] = {}
    fates: dict[str, NodesFate] = {}
    back: bool = False
    returns: tuple[str, ...] = ()
    rewinds: str | None = None
    restarts: bool = False
    by_hand: str = ""
    lays: bool = False
    serves: dict[str, str] = {}
    served: bool = False
    renews_spare: bool = False
    look_over: str = ""
    channels: dict[str, tuple[str, ...]] = {}
    quiet_s: float = 0
    by_itself: int = 0
    paces: dict[str, Pace] = {}
    patience: float = 1.0

    @property
    def goal(self) -> str:
        """What the hop leads to, in a word: no two hops of a lane have the same."""
        return self.to if self.image or not self.parts else f"{self.parts[0].component} {self.parts[0].to}"

    @property
    def preloads(self) -> bool:
        return "preload" in self.knows.capabilities

    def applies(self, guard: str) -> bool:
        """Whether a guard has anything to look at in this hop."""
        applies = {
            "package_verified": self.preloads,
            "restore_point_there": self.restore_point or self.rewinds is not None,
            "not_recalled": self.image or self.part is not None,  # what runs already is not entered
            "backup_sealed": self.above is None,  # nothing of what stands above is changed
            "service_well": not self.back,  # what is wrong may be what is taken back
        }
        return applies.get(guard, True)
