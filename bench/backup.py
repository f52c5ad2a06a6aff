"""Taking an encrypted backup, to `tar | zstd | age` on the same data, side by side.

Half of the data is random, half of it text that repeats, as configurations with images
in them are. Gallant also hashes every item, hashes what it writes, and reads all of it
back; the pipe does none of that, and may use a core for each of its parts.

    python bench/backup.py [MEGABYTES]
"""

from __future__ import annotations

import asyncio
import random
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from pyrage import x25519
from short import asked_for, sized

from gallant.vault.backups import BackupDraft, BackupStore

ROUNDS = sized(9, 1)
CHUNK = 256 * 1024
ITEMS = 4


class Exporter:
    """Gives a file's bytes as a driver would, chunk by chunk."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    async def export(self, node: str, name: str, into: object) -> None:
        with (self.folder / name).open("rb") as file:
            while chunk := file.read(CHUNK):
                into(chunk)  # type: ignore[operator]


def furnish(folder: Path, megabytes: int) -> None:
    chance = random.Random(1)
    for number in range(ITEMS):
        with (folder / f"item{number}").open("wb") as file:
            for block in range(megabytes // ITEMS):
                file.write(
                    chance.randbytes(1_000_000)
                    if block % 2
                    else "".join(f"set interface {chance.randrange(10**6)} mtu 9000\n" for _ in range(30_000)).encode()
                )


def main() -> None:
    if missing := [tool for tool in ("tar", "zstd", "age") if shutil.which(tool) is None]:
        sys.exit(f"missing here: {', '.join(missing)}")
    megabytes = asked_for(400, 8)
    with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
        data, out = Path(name) / "data", Path(name) / "out"
        data.mkdir()
        out.mkdir()
        furnish(data, megabytes)
        size = sum(p.stat().st_size for p in data.iterdir())
        recipient = str(x25519.Identity.generate().to_public())
        store = BackupStore(out)

        def ours(number: int) -> None:
            draft = BackupDraft(
                system=f"s{number}", product="p", wanted=[("a", f"item{n}") for n in range(ITEMS)], versions={}, serials={},
                recipients=(recipient,), by="bench", comment="", before=None, roll=None, tool="bench",
            )  # fmt: skip
            made = asyncio.run(store.take(draft, Exporter(data), datetime.now(UTC) + timedelta(seconds=number)))
            assert made.sealed is not None
            shutil.rmtree(out / "backups" / draft.system)

        def pipe(number: int) -> None:
            target = out / f"{number}.age"
            script = f"tar -c . | zstd -q -3 | age -r {recipient} -o {target} && sync {target}"
            subprocess.run(["sh", "-ec", script], cwd=data, check=True)
            target.unlink()

        took: dict[str, list[float]] = {"ours": [], "pipe": []}
        for number in range(ROUNDS):
            for what, run in (("ours", ours), ("pipe", pipe)) if number % 2 else (("pipe", pipe), ("ours", ours)):
                began = time.perf_counter()
                run(number)
                took[what].append(time.perf_counter() - began)
    ours_s, pipe_s = statistics.median(took["ours"]), statistics.median(took["pipe"])
    print(f"tar | zstd | age       {pipe_s:6.2f} s   {size / 1e6 / pipe_s:6.0f} MB/s")
    print(f"backup, sealed         {ours_s:6.2f} s   {size / 1e6 / ours_s:6.0f} MB/s")
    print(f"memory at most         {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:6.0f} MB")
    print(f"ratio {pipe_s / ours_s:.2f} (our throughput to the pipe's; goal: over 0.8)")


if __name__ == "__main__":
    main()
