"""The `manual` driver: a person does it. Gallant says what, waits for the word, and verifies by asking or by
reading."""

from __future__ import annotations

import asyncio

from gallant.core.ports import Act, DeviceRefused, NotReached, Progress
from gallant.core.shapes import SHAPES
from gallant.drivers.answers import Ours
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.profile import fill
from gallant.drivers.tools import Acts, Asked, Fields, Order, Reads

# What is asked of a person for each order; a profile's acts say it better for a kind of device.
ORDERS = {
    "install": "Install {release} on {node}",
    "restart": "Restart {node}",
    "handover": "Move what {node} does to the others",
    "failback": "Bring back to {node} what is usually its",
    "drain": "Move everything that runs on {node} away",
    "refill": "Let work come back to {node}",
    "snapshot": "Take a snapshot of {node}",
}
UNTOLD = "not told"


class ManualDriver(ProfiledDriver):
    """One system's nodes, each in somebody's hands."""

    def _own_reads(self) -> Reads:
        return {"about": self._about}

    async def _about(self, node: str) -> Fields:
        """What a person reads off the machine. Without anybody to ask, the node counts as not reached."""
        name = self.name_of(node)
        found: Fields = {}
        if "about" not in self.profile.reads:
            found["version"] = await self._word_of(node, f"Which version does {name} show?")
        expected = self.system.nodes[node].serial
        told = f" (the estate says {expected})" if expected else ""
        found["serial"] = await self._word_of(node, f"Which serial does {name} show?{told}") or expected or UNTOLD
        found["boot"] = UNTOLD
        found["state"] = Ours("in_service")
        found["role"] = Ours(SHAPES[self.system.shape].plain_role)
        found["oddities"] = ["what it says was read by a person; a restart cannot be seen"]
        return found

    async def _word_of(self, node: str, question: str) -> str:
        if self.tools.hands is None:
            raise NotReached(
                f"{self.name_of(node)} is read by a person, and nobody is at a terminal.",
                next=f"From a terminal: gallant survey {self.name_of(node)}",
            )
        said = await asyncio.to_thread(self.tools.hands, question)
        if said is None:
            raise NotReached(f"{self.name_of(node)}: nobody answered.", next=f"gallant survey {self.name_of(node)}")
        return said.strip()

    own_orders = ORDERS

    def _own_acts(self) -> Acts:
        def order(what: str) -> Order:
            async def tell(node: str, act: Act, progress: Progress | None) -> Fields:
                fields = {"node": self.name_of(node), "release": act.release, "package": act.package}
                return await self._done(node, fill(what, fields))

            return tell

        return {kind: order(what) for kind, what in ORDERS.items()}

    async def _done(self, node: str, what: str) -> Fields:
        said = await self._word_of(node, f"{what}. Write done when it is, or no:")
        if said.lower() not in ("done", "yes", "y"):
            raise DeviceRefused(f"{self.name_of(node)}: a person says: {self.mask(said) or 'no'}.", meaning="refused")
        return {"message": "done by hand"}

    async def _ask(self, node: str, asked: Asked) -> object:
        said = fill(asked.call.said, {**asked.fields, "node": self.name_of(node)})
        return await self._done(node, said) if asked.act is not None else {"text": await self._word_of(node, said)}
