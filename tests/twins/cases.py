"""A world of the simulation, the plan that was made for it, and twins of its systems as a rehearsal has them."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

import numpy as np

from gallant.core.decide.consents import consents_needed
from gallant.core.length.rehearsing import NightEnd
from gallant.core.outages import Watched
from gallant.core.work.plan import Plan
from gallant.twins.night import Night as Twin
from gallant.twins.world import Cast

from ..simulation.night import BEGAN, Night


@dataclass
class Case:
    """A world, and a plan that was made for it."""

    night: Night
    plan: Plan
    more: dict = field(default_factory=dict)

    def cast(self, runs: int = 1, **said) -> Cast:
        """As planned: every step takes what was announced, and none fails."""
        ground, systems = self.night.ground(), self.night.estate.systems
        usual = {step.id: step.estimate_s for step in self.plan.steps()}
        whole = {
            "plan": self.plan,
            "estate": self.night.estate,
            "readings": ground.readings,
            "knows": ground.knows,
            "products": self.night.catalogs,
            "windows": {},
            "begins": BEGAN,
            "lasts": {name: np.full(runs, seconds) for name, seconds in usual.items()},
            "usual": usual,
            "fails": {},
            "watches": tuple(
                Watched(system=s.name, service=n, budget_s=v.budget_s)
                for s in systems.values()
                for n, v in s.services.items()
            ),
            "consents": tuple(one.consent.words for one in consents_needed(self.plan, list(systems))),
        }
        return Cast(**{**whole, **self.more, **said})

    def end(self, **said) -> NightEnd:
        return Twin(self.cast(**said), 0, random.Random(1).random).through()
