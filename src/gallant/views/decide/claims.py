"""A publisher's claims against what was seen: a line each, and a
draft for the publisher that tells nothing of the estate."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from gallant.core.after.claims import NO_RESTART, Claim
from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.words import BOLD, DIM, OFF, duration, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.decide.claims import Borne

DRAFT: Listed[Claim] = Listed("history draft", "history --draft")

_DOES = {"install": "to install", "restart": "to restart", "sync": "until a node is whole again"}


def _does(claim: Claim) -> str:
    return _DOES.get(claim.about, f"for {plain(claim.about)}")


def claim_words(claim: Claim) -> str:
    what = f"{BOLD}{plain(claim.product)} {plain(claim.release)}{OFF}"
    if claim.about == NO_RESTART:
        return (
            f"{what} needs no restart, its publisher says; {many(claim.nodes, 'node')} of {plain(claim.system)} started"
            " anew after it"
        )
    return (
        f"{what} took {duration(claim.took_s)} {_does(claim)} on {plain(claim.system)}, "
        f"where its publisher says {duration(claim.said_s)}"
    )


def claim_lines(claims: Sequence[Claim]) -> Iterator[str]:
    yield from (f"{mark('work')} {claim_words(claim)}." for claim in claims)


def borne_lines(borne: Sequence[Borne]) -> Iterator[str]:
    yield from (f"{mark('work')} {claim_words(one.claim)} {DIM}({plain(one.roll)}){OFF}." for one in borne)


def draft_view(roll: str, claims: Sequence[Claim]) -> View:
    """The draft: by release, with no name of a system, node or site."""

    def text() -> Drawn:
        if not claims:
            yield said("good", f"nothing that {plain(roll)} saw speaks against what its publishers say")
            return
        for product, release in dict.fromkeys((c.product, c.release) for c in claims):
            yield f"To the publisher of {plain(product)}, about {plain(release)}:"
            for claim in (c for c in claims if (c.product, c.release) == (product, release)):
                yield f"  - {_for_publisher(claim)}"
        yield f"{mark('note')} A draft: nothing was sent, and it names nothing of this estate."

    return DRAFT.view(list(claims), text)


def _for_publisher(claim: Claim) -> str:
    if claim.about == NO_RESTART:
        return (
            f"Your catalog says that it needs no restart; {many(claim.nodes, 'node')} started anew by itself after it"
            " was installed."
        )
    return (
        f"Your catalog says {duration(claim.said_s)} {_does(claim)}, a node; "
        f"it took {duration(claim.took_s)} (the longest of {many(claim.nodes, 'node')})."
    )
