"""What aims come to and which routes lead there, each worked out once for all systems that ask the same.

An estate of thousands of systems runs few products on few releases. To choose and to search anew for each system is
what makes planning grow faster than the estate.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from gallant.core.assess.routes import Route, find_route
from gallant.core.catalog.products import Bundle, Product, Release
from gallant.core.estate.aims import Choice, choose, parse_aim


class Routes:
    """Choices and routes that were asked for, at one moment. Products are told apart by being another object, since
    to compare all of their releases costs more than a search; whoever asks keeps them alive."""

    def __init__(self, now: datetime, bundles: Sequence[Bundle] = ()) -> None:
        self.now, self.bundles = now, tuple(bundles)
        self._choices: dict[tuple[int, str], Choice] = {}
        self._routes: dict[tuple[int, str, str, str | None, frozenset[str]], Route] = {}

    def choice(self, product: Product, aim: str) -> Choice:
        """The release that an aim comes to. Raises ValueError for a text that is no aim."""
        if (known := self._choices.get(key := (id(product), aim))) is None:
            known = self._choices[key] = choose(parse_aim(aim), product, self.now, self.bundles)
        return known

    def route(
        self,
        product: Product,
        start: str,
        target: Release,
        delivery: str | None = None,
        despite: frozenset[str] = frozenset(),
    ) -> Route:
        """The cheapest route; what bars it is looked for only where there is none, and so is what else was refused."""
        if (known := self._routes.get(key := (id(product), start, target.version, delivery, despite))) is None:
            known = find_route(product, start, target, explain=False, delivery=delivery, despite=despite)
            if not known.found:
                known = find_route(product, start, target, delivery=delivery, despite=despite)
            self._routes[key] = known
        return known
