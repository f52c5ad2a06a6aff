"""How long a step takes: the publisher's word where there is one, else what such a step takes as a rule."""

from __future__ import annotations

from gallant.core.catalog import Release

# Minutes that no publisher states; each is the pace of the slowest device seen, so that a plan rather ends early.
BACKUP_MINUTES = 1.0
SNAPSHOT_MINUTES = 1.0
MOVE_MINUTES = 1.0
# Deadlines are this many times the estimate, and never shorter than the least.
PATIENCE = 4.0
LEAST_DEADLINE_S = 600.0


def step_seconds(
    kind: str, release: Release, *, steady_s: float, package_bytes: int, mbit_per_s: float | None
) -> float:
    """The estimate of one step, in seconds of estate time."""
    minutes = release.minutes
    table = {
        "backup": BACKUP_MINUTES * 60,
        "snapshot": SNAPSHOT_MINUTES * 60,
        "preload": transfer_seconds(package_bytes, mbit_per_s),
        "install": minutes.install * 60,
        "restart": minutes.restart * 60,
        "steady": minutes.sync * 60 + steady_s,
        "handover": MOVE_MINUTES * 60,
        "failback": MOVE_MINUTES * 60,
    }
    return table[kind]


def transfer_seconds(size: int, mbit_per_s: float | None) -> float:
    """Time to send `size` bytes over the site's link, at four fifths of its speed; a gigabit where none is declared."""
    return max(1.0, size * 8 / ((mbit_per_s or 1000.0) * 1e6 * 0.8))


def deadline_seconds(estimate: float) -> float:
    return max(LEAST_DEADLINE_S, PATIENCE * estimate)
