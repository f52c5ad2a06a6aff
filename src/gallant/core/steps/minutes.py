"""How long a step takes: the publisher's word where there is one,
else what such a step takes as a rule. Seconds of estate time."""

from __future__ import annotations

from gallant.core.work.hop_work import HopWork
from gallant.core.work.paces import Pace, taken

# Minutes that no publisher states; each is the pace of the slowest device seen, so that a plan rather ends early.
BACKUP_MINUTES = 1.0
SNAPSHOT_MINUTES = 1.0
MOVE_MINUTES = 3.5
RESTART_MINUTES = 5.0
FALL_BACK_MINUTES = 0.5
CHANNEL_MINUTES = 0.5
BY_HAND_MINUTES = 30.0  # until somebody has done it; nobody but they can know
LOOK_MINUTES = 5.0  # the same
DRAIN_MINUTES = 5.0  # no publisher says how long its nodes take to empty
# Deadlines are this many times the estimate, and never shorter than the least.
PATIENCE = 4.0
LEAST_DEADLINE_S = 600.0
KNOWN_WELL = 3  # times that a step was seen before its own pace, and not patience, sets its deadline


def backup_seconds(work: HopWork) -> float:
    return BACKUP_MINUTES * 60


def snapshot_seconds(work: HopWork) -> float:
    return SNAPSHOT_MINUTES * 60


def preload_seconds(work: HopWork) -> float:
    return transfer_seconds(work.package.bytes if work.package else 0, work.mbit_per_s)


def install_seconds(work: HopWork) -> float:
    return work.minutes.install * 60


def quiet_seconds(work: HopWork) -> float:
    """As long as it may take: nobody knows when people log out."""
    return work.quiet_s


def by_hand_seconds(work: HopWork) -> float:
    return BY_HAND_MINUTES * 60


def look_seconds(work: HopWork) -> float:
    return LOOK_MINUTES * 60


def save_seconds(work: HopWork) -> float:
    return CHANNEL_MINUTES * 60


def channel_seconds(work: HopWork) -> float:
    return CHANNEL_MINUTES * 60


def fall_back_seconds(work: HopWork) -> float:
    """Only what starts next is chosen; nothing is written."""
    return FALL_BACK_MINUTES * 60


def part_seconds(work: HopWork) -> float:
    """Its install, and the way of its package to the node where that comes along with it."""
    assert work.part is not None  # only steps of a component are asked this
    package = work.part.package
    return work.part.install_s + (transfer_seconds(package.bytes, work.mbit_per_s) if package else 0)


def restart_seconds(work: HopWork) -> float:
    """A publisher that gives no minutes for it does not mean that none go by."""
    return (work.minutes.restart or RESTART_MINUTES) * 60


def update_all_seconds(work: HopWork) -> float:
    """One node after the other: what each takes, and until it is whole again."""
    each = install_seconds(work) + restart_seconds(work) + work.minutes.sync * 60
    return each * work.by_itself


def steady_seconds(work: HopWork) -> float:
    return work.minutes.sync * 60 + work.steady_s


def move_seconds(work: HopWork) -> float:
    return MOVE_MINUTES * 60


def drain_seconds(work: HopWork) -> float:
    return DRAIN_MINUTES * 60


def transfer_seconds(size: int, mbit_per_s: float | None) -> float:
    """Time to send `size` bytes over the site's link, at four fifths of its speed; a gigabit where none is declared."""
    return max(1.0, size * 8 / ((mbit_per_s or 1000.0) * 1e6 * 0.8))


def deadline_seconds(announced: float, pace: Pace | None = None) -> float:
    """What all but one of a hundred take here, once that is known, and
    never less than the publisher says; else with much patience."""
    if pace is None or (pace.seen if pace.here is None else pace.here) < KNOWN_WELL:
        return max(LEAST_DEADLINE_S, PATIENCE * announced)
    return float(max(LEAST_DEADLINE_S, announced, taken(announced, pace.p99)))
