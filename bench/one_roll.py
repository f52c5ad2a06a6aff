"""What a roll costs beyond the time that its devices take.

Runs the demo's two-hop roll on stand-ins at speed 20 and prints the roll's wall time against the device time that the
stand-ins account for (installs, restarts, resyncs, moves; overlaps counted once). Waiting for the next look at a device
that has already finished, and the time for which all must be seen to be steady, are shown apart: they are policy, not
cost. What is left is Gallant's own: reading, guarding, journalling, sending packages, taking backups.

    python bench/one_roll.py            # about five minutes
    python bench/one_roll.py --pace 0.3 # devices that are three times as fast: a stricter ratio, sooner
"""

from __future__ import annotations

import argparse
import asyncio
import json
import tempfile
import time
import urllib.request
from pathlib import Path

from short import sized
from spans import Timing, length, union

from gallant.demo.skerry import furnish, new_accounts
from gallant.demo.standins import running
from gallant.operations.catalogs import following as catalogs
from gallant.operations.catalogs import syncing
from gallant.operations.decide import notices
from gallant.operations.ground import survey
from gallant.operations.ground.workplace import Workplace
from gallant.operations.keep import stock
from gallant.operations.plan import making as plan
from gallant.operations.roll import rolling as roll
from gallant.standin.publisher import TERMS


async def prepare(folder: Path, said: dict) -> tuple[Workplace, object]:
    place = Workplace(folder)
    await survey.survey(place, [])
    catalogs.add(place, "ostrel", said["publisher"]["url"], str(folder / "keys" / "ostrel.pub"))
    await syncing.sync(place, [])
    place = Workplace(folder)
    notices.accept(place, "tickets:image", [TERMS[0]])
    await stock.fetch(place, [])
    return place, (await plan.plan(place, ["tickets"])).plan


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--speed", type=float, default=sized(20.0, 900.0))
    options.add_argument("--pace", type=float, default=sized(1.0, 0.05))
    options.add_argument("--short", action="store_true", help="only as large as shows that it runs")
    asked = options.parse_args()
    with tempfile.TemporaryDirectory(prefix="gallant-bench-") as name:
        folder, since, accounts = Path(name), time.time(), new_accounts()
        setup = {"speed": asked.speed, "pace": asked.pace, "since": since, "accounts": accounts}
        with running(setup, folder / "standins.log") as said:
            furnish(folder, said, accounts, since, asked.speed)
            place, made = asyncio.run(prepare(folder, said))
            place, show = Workplace(folder), Timing()
            began = place.clock.now().timestamp()
            done = asyncio.run(roll.roll(place, made, show, pace=roll.HoldRules(), consents=(), detach=True))
            ended = place.clock.now().timestamp()
            control = said["control"]
            request = urllib.request.Request(control["url"] + "/state", headers={"X-Key": control["key"]})
            busy = json.load(urllib.request.urlopen(request))["busy"]
    assert done.end.state == "finished", done.end
    device = union([(since + b, since + e) for _, _, b, e in busy if since + e > began])
    polls, steady = show.apart(device)
    wall, own = ended - began, ended - began - length(device) - polls - steady
    for what, seconds in (
        ("wall time of the roll", wall),
        ("device time", length(device)),
        ("waiting to look again", polls),
        ("seeing it steady", steady),
        ("Gallant's own", own),
    ):
        print(f"{what:<24} {seconds / asked.speed:8.2f} s real   {seconds / 60:7.1f} min of estate time")
    ratio = (wall - polls - steady) / length(device)
    print(f"ratio {ratio:.3f} (wall time without the waits, to device time; goal: under 1.05)")


if __name__ == "__main__":
    main()
