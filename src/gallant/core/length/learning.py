"""How long steps really take, learned from those that were carried
out (docs/estimates.md has the formulas and their sources).

Publishers' minutes and the usual ones are a prior: what is learned is the logarithm of taken over
announced, as the sum of what all steps of a kind have in common, what this product's hop adds, and
what this system adds. All three shrink towards nothing where little was seen, so that one odd
night does not rule the next plan. A step that ran into its time limit took at least so long.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property, lru_cache
from statistics import NormalDist
from types import ModuleType

from gallant.core.readings import IMAGE
from gallant.core.records import replace
from gallant.core.work.paces import Array, Observation, Pace, pace_key

# Standard deviations of the logarithm, before anything was seen: between kinds of step, between hops of a kind, between
# systems, and between one time and the next. 0.3 is a factor of 1.35 either way.
BETWEEN_KINDS, BETWEEN_HOPS, BETWEEN_SYSTEMS, EACH_TIME = 0.30, 0.20, 0.12, 0.15
# The weight of EACH_TIME, in steps seen: an inverse gamma of shape half of it.
WORTH = 4.0
ROUNDS = 4  # in which spreads are set anew; they have settled by then
# With steps that were given up: until no effect and no logarithm of a variance moves by more.
MOST_ROUNDS, SETTLED = 40, 1e-3
DRAWS = 2000
SEED = 20260314  # any number: the same plan always says the same
QUANTILES = (0.5, 0.9, 0.99)
MOST_OBSERVED = 4000  # the newest
MOST_EFFECTS = (
    1000  # and of those the newest that have no more hops, kinds and systems: the fit costs the third power of it
)


class Model:
    """What was learned from some observations: a mean and a
    covariance of the effects, and the spread of each kind's steps."""

    def __init__(self, observations: Sequence[Observation]) -> None:
        import numpy as np

        self._np = np
        self._index: dict[tuple[str, str], int] = {}
        self.observations = self._newest(observations[-MOST_OBSERVED:])
        self._count = Counter(o.group for o in self.observations)
        self.spread: dict[str, tuple[float, float]] = {}  # by kind: degrees of freedom, variance
        self._fit()

    def _newest(self, observations: Sequence[Observation]) -> tuple[Observation, ...]:
        """As many of the newest as share `MOST_EFFECTS`, oldest first; what they have in common is numbered on the
        way."""
        kept = list[Observation]()
        for o in reversed(observations):
            effects = _effects(o.kind, o.group, o.system)
            if len(self._index) + sum(effect not in self._index for effect in effects) > MOST_EFFECTS:
                break
            for effect in effects:
                self._index.setdefault(effect, len(self._index))
            kept.append(o)
        return tuple(reversed(kept))

    def _fit(self) -> None:
        """The posterior of a linear model with known variances, which
        are then set by what is left over, until that settles.

        A step that was given up after so long tells less than one that was done: how much,
        and what it pulls to, is that of a normal variable known to lie above a bound (Tobin
        1958; the steps are those of Newton for its likelihood, as in Amemiya 1973).
        """
        np, many = self._np, len(self._index)
        prior = np.array([_prior(effect[0]) ** 2 for effect in self._index])
        self.mean, self.covariance = np.zeros(many), np.diag(prior)
        if not self.observations:
            return
        # Every observation is the sum of its effects, so the model's
        # matrix has a one for each of them and is never written out.
        at = np.array([[self._index[e] for e in _effects(o.kind, o.group, o.system)] for o in self.observations])
        pairs = at[:, :, None], at[:, None, :]
        told = np.array([o.ratio for o in self.observations])
        cut = np.array([o.cut for o in self.observations])
        kinds = list(dict.fromkeys(o.kind for o in self.observations))
        kind = np.array([kinds.index(o.kind) for o in self.observations])
        counts = np.bincount(kind, minlength=len(kinds))
        variance, expected = np.full(len(kinds), EACH_TIME**2), told.copy()
        for _ in range(MOST_ROUNDS if cut.any() else ROUNDS):
            before = self.mean, variance
            information, z, rest = _told(np, told, cut, expected, np.sqrt(variance[kind]))
            weight = information / variance[kind]
            precision, pulled = np.diag(1.0 / prior), np.zeros(many)
            np.add.at(precision, pairs, weight[:, None, None])
            np.add.at(pulled, at, (weight * z)[:, None])
            self.covariance = np.linalg.inv(precision)
            self.mean = self.covariance @ pulled
            expected = self.mean[at].sum(axis=1)
            left = np.where(cut, rest, (told - expected) ** 2) + self.covariance[pairs].sum(axis=(1, 2))
            variance = (WORTH * EACH_TIME**2 + np.bincount(kind, left, len(kinds))) / (WORTH + counts)
            moved = np.abs(self.mean - before[0]).max(), np.abs(np.log(variance / before[1])).max()
            if cut.any() and max(moved) < SETTLED:
                break
        self.spread = {name: (WORTH + int(counts[n]), float(variance[n])) for n, name in enumerate(kinds)}

    @cached_property
    def _root(self) -> Array:
        np, many = self._np, len(self._index)
        return np.linalg.cholesky(self.covariance + np.eye(many) * 1e-12) if many else np.zeros((0, 0))

    @cached_property
    def nights(self) -> Array:
        """The draws for nights that all plans share: the same plan always says the same."""
        return self.nights_of(SEED)

    def nights_of(self, seed: int) -> Array:
        """What all steps of a hop, a kind or a system have in common, in
        each of `DRAWS` nights that could be: (nights, effects)."""
        random = self._np.random.default_rng(seed)
        return self.mean + random.standard_normal((DRAWS, len(self._index))) @ self._root.T

    def seen(self, product: str, hop: str, kind: str, component: str = IMAGE) -> int:
        """How many steps like that were seen."""
        return self._count.get(f"{product} {hop} {pace_key(kind, component)}", 0)

    def draws(self, seed: int = SEED) -> Draws:
        """Nights that could be; of another seed others."""
        return Draws(self, seed)

    def pace(self, product: str, hop: str, kind: str, component: str, system: str) -> Pace:
        """The factors of one step to come."""
        one = self.draws().factors(product, hop, kind, component, system)
        p50, p90, p99 = (float(q) for q in self._np.quantile(one, QUANTILES))
        return Pace(p50=p50, p90=p90, p99=p99, seen=self.seen(product, hop, kind, component))

    @property
    def kinds(self) -> set[tuple[str, str]]:
        """The (kind, component) of which anything was seen."""
        return {(o.kind, o.component) for o in self.observations}


class Draws:
    """So many nights that could be: in each, what steps of a hop, a
    kind or a system have in common is the same for all of them."""

    def __init__(self, model: Model, seed: int) -> None:
        self._model, self._np = model, model._np
        self._nights = model.nights if seed == SEED else model.nights_of(seed)
        self._random = model._np.random.default_rng(seed + 1)  # not the numbers of the nights again
        self._fresh: dict[tuple[str, str], Array] = {}

    def factors(self, product: str, hop: str, kind: str, component: str, system: str) -> Array:
        """Taken over announced of one step, in each of the nights."""
        np = self._np
        group = f"{product} {hop} {pace_key(kind, component)}"
        total = sum((self._effect(effect) for effect in _effects(kind, group, system)), np.zeros(DRAWS))
        freedom, variance = self._model.spread.get(kind, (WORTH, EACH_TIME**2))
        spread = np.sqrt(variance * freedom / self._random.chisquare(freedom, DRAWS))
        return np.exp(total + spread * self._random.standard_normal(DRAWS))

    def _effect(self, effect: tuple[str, str]) -> Array:
        at = self._model._index.get(effect)
        if at is not None:
            return self._nights[:, at]
        if effect not in self._fresh:
            self._fresh[effect] = self._random.standard_normal(DRAWS) * _prior(effect[0])
        return self._fresh[effect]


def _effects(kind: str, group: str, system: str) -> tuple[tuple[str, str], ...]:
    return ("kind", kind), ("hop", group), ("system", system)


def _prior(what: str) -> float:
    return {"kind": BETWEEN_KINDS, "hop": BETWEEN_HOPS, "system": BETWEEN_SYSTEMS}[what]


def _told(np: ModuleType, told: Array, cut: Array, mean: Array, deviation: Array) -> tuple[Array, Array, Array]:
    """What each observation tells of its mean: how much, as a share of what a finished
    one tells; what it pulls to; and, of those that were cut, the square of what is left
    over as it is to be expected. `mean` and `deviation` are as known by now."""
    at = (told - mean) / deviation
    ratio = np.where(cut, _hazard(np, at), 0.0)
    information = np.where(cut, np.clip(ratio * (ratio - at), 1e-6, 1.0), 1.0)
    pulls = np.where(cut, mean + deviation / np.maximum(ratio - at, 1e-6), told)
    return information, pulls, deviation**2 * (1.0 + at * ratio)


def _hazard(np: ModuleType, at: Array) -> Array:
    """Density over what lies above, of a standard normal variable (the
    inverse Mills ratio); far out by its continued fraction."""
    normal = NormalDist()
    near = [normal.pdf(x) / (1.0 - normal.cdf(x)) if x < 5 else x + 1.0 / (x + 2.0 / (x + 3.0 / x)) for x in at]
    return np.array(near)


@lru_cache(maxsize=4)
def model_of(observations: tuple[Observation, ...]) -> Model:
    """What some observations teach; the fit of the last ones is kept."""
    return Model(observations)


def paces_of(
    observations: tuple[Observation, ...], system: str, product: str, hop: str, parts: Iterable[tuple[str, str, str]]
) -> Mapping[str, Pace]:
    """By the key of a step: its factors, for a hop of a system's image and of
    `parts` (component, product, hop); only of kinds that were seen."""
    if not observations:
        return {}
    own = tuple(o for o in observations if not o.brought)
    model, here = model_of(observations), model_of(own) if len(own) < len(observations) else None
    found = dict[str, Pace]()

    def pace(name: str, way: str, kind: str, component: str) -> Pace:
        one = model.pace(name, way, kind, component, system)
        if here is None:
            return one
        ours = here.pace(name, way, kind, component, system)
        return replace(one, p99=ours.p99, here=ours.seen)

    known = {component: (name, way) for component, name, way in parts}
    for kind, component in sorted(model.kinds):
        if component == IMAGE:
            found[pace_key(kind)] = pace(product, hop, kind, component)
        elif component in known:
            found[pace_key(kind, component)] = pace(*known[component], kind, component)
    return found
