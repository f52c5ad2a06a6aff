"""A device's message looked up in what is known: by its words alone, since numbers and names differ each time.

Likeness is the cosine of the angle between two texts, each word weighted by
how seldom it is among all that is known (Salton, Wong, Yang 1975).
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Sequence

from gallant.core.records import Record

_WORDS = re.compile(r"[^\W\d_]{2,}")
LEAST = 0.25  # likeness from which two texts may be about one thing
COMMON = frozenset(
    [
        "the",
        "and",
        "for",
        "not",
        "was",
        "are",
        "has",
        "its",
        "with",
        "that",
        "this",
        "from",
        "into",
        "than",
        "then",
        "them",
        "they",
        "will",
        "been",
        "were",
        "had",
        "but",
        "can",
        "may",
        "all",
        "any",
        "one",
    ]
)


class Known(Record):
    """Something that is known: `source` is a known issue, a recall, a note or a roll;
    `about` what it is of, `helped` what was done then, `by` who wrote it."""

    source: str
    about: str
    text: str
    helped: str = ""
    by: str = ""


class Match(Record):
    known: Known
    likeness: float


def words_of(text: str, names: Iterable[str] = ()) -> list[str]:
    """The words of a text that say what it is about: no numbers, none of `names`, none that every text has."""
    left_out = {part for name in names for part in _WORDS.findall(name.casefold())}
    return [w for w in _WORDS.findall(text.casefold()) if w not in COMMON and w not in left_out]


def find(text: str, known: Sequence[Known], names: Iterable[str] = (), most: int = 5) -> list[Match]:
    """What is most like a text, best first; nothing where nothing is like it."""
    names = tuple(names)
    bags = [Counter(words_of(f"{one.text} {one.helped}", names)) for one in known]
    asked = Counter(words_of(text, names))
    seldom = Counter(word for bag in bags for word in bag)
    weight = {word: math.log(1 + (len(bags) + 1) / (1 + seldom[word])) for word in {*seldom, *asked}}
    found = [Match(known=one, likeness=_likeness(asked, bag, weight)) for one, bag in zip(known, bags, strict=True)]
    alike = sorted((m for m in found if m.likeness >= LEAST), key=_best_first)
    return alike[:most]


def find_any(lines: Sequence[str], known: Sequence[Known], names: Iterable[str] = (), most: int = 5) -> list[Match]:
    """The same for a text of several lines: what is most like any of them."""
    names, best = tuple(names), dict[Known, Match]()
    for match in (match for line in lines for match in find(line, known, names, most)):
        if match.known not in best or match.likeness > best[match.known].likeness:
            best[match.known] = match
    return sorted(best.values(), key=_best_first)[:most]


def _best_first(match: Match) -> tuple[float, str, str]:
    return -match.likeness, match.known.source, match.known.about


def _likeness(a: Counter[str], b: Counter[str], weight: dict[str, float]) -> float:
    shared = sum(weight[word] ** 2 for word in a.keys() & b.keys())
    lengths = math.sqrt(_square(a, weight) * _square(b, weight))
    return shared / lengths if lengths else 0.0


def _square(bag: Counter[str], weight: dict[str, float]) -> float:
    return sum(weight[word] ** 2 for word in bag)
