"""What a hop and a step of it are called, in a plan and while they are carried out."""

from __future__ import annotations

from gallant.core.steps.kinds import doing
from gallant.core.work.plan import Hop, Step, brought
from gallant.views.ground.words import many, plain


def step_words(step: Step, system: str) -> str:
    """What a step of a system's hop does; of one on what stands on the system, on which node."""
    return plain(doing(step) if step.system == system else f"{doing(step)} {step.subject}")


def hop_words(hop: Hop) -> str:
    """What a hop brings: the image's way, and those of the components that go with it."""
    return plain(brought(hop))


def hop_title(hop: Hop) -> str:
    """The same in as few words as leave room for how far it is."""
    if len(hop.parts) < 3:
        return hop_words(hop)
    return f"{plain(hop.from_)} → {plain(hop.to)} and " * hop.image + many(len(hop.parts), "component")
