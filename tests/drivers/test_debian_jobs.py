"""What a Debian host tells of the work that was begun on it, by the files that lie there."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from gallant.drivers.debian import LISTED_JOBS

BOOT = Path("/proc/sys/kernel/random/boot_id").read_text().strip()


def told(home: Path) -> str:
    done = subprocess.run(
        ["sh", "-c", LISTED_JOBS], env={**os.environ, "HOME": str(home)}, capture_output=True, text=True, check=True
    )
    return done.stdout.strip()


@pytest.mark.parametrize(
    ("pid", "end", "age_s", "said"),
    [
        ("ME BOOT", None, 9000, "job"),
        ("ME another-boot", None, 0, "job lost"),
        ("2147483647 BOOT", None, 0, "job lost"),
        ("2147483647 another-boot", "0 install", 9000, "job 0 install"),
        (None, None, 0, "job"),  # it is just being begun
        ("", None, 0, "job"),
        (None, None, 90, "job lost"),  # the power went before its number was on the disk
        ("", None, 90, "job lost"),
        ("2147483647 BOOT", "100 install", 0, "job 100 install E: no such package"),
    ],
)
def test_work_lives_while_its_process_does_and_what_was_cut_off_is_lost(tmp_path, pid, end, age_s, said):
    jobs = tmp_path / ".gallant-jobs"
    jobs.mkdir()
    log = jobs / "job.log"
    log.write_text("Reading\nE: no such package\nlast\n")
    at = log.stat().st_mtime - age_s
    os.utime(log, (at, at))
    for name, text in (("job.pid", pid), ("job.end", end)):
        if text is not None:
            (jobs / name).write_text(text.replace("ME", str(os.getpid())).replace("BOOT", BOOT) + "\n")
    assert told(tmp_path) == said
