"""Versions: parse once, compare keys. Schemes, equality, order, and ranges in the open VERS notation.

A scheme is a function from text to a key, a plain tuple whose order is the scheme's order; two texts that name one
version have one key. The order of `dotted`, the scheme of appliances, is written down in docs/versions.md; the others
follow Debian policy 5.6.12, rpm's version comparison (with tilde and caret), and Semantic Versioning 2.0.0.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from functools import lru_cache
from urllib.parse import unquote

from gallant.core.records import Record, clean

# Long enough for every build string seen on a device, short enough that no text can make the integers slow.
LONGEST = 200

Key = tuple[object, ...]


class NotAVersion(ValueError):
    """The text is not a version of the scheme; the message names both and says why."""

    def __init__(self, scheme: str, text: str, why: str) -> None:
        super().__init__(f"{clean(text, 60)!r} is no {scheme} version: {why}")


class Version:
    """One version of one scheme, its text kept as it was written. Versions of different schemes do not compare."""

    __slots__ = ("key", "scheme", "text")

    def __init__(self, scheme: str, text: str, key: Key) -> None:
        self.scheme = scheme
        self.text = text
        self.key = key

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"Version({self.scheme!r}, {self.text!r})"

    def __hash__(self) -> int:
        return hash((self.scheme, self.key))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self.scheme == other.scheme and bool(self.key == other.key)

    def _beside(self, other: Version) -> Key:
        if self.scheme != other.scheme:
            raise TypeError(f"a {self.scheme} version does not compare with a {other.scheme} version")
        return other.key

    def __lt__(self, other: Version) -> bool:
        return bool(self.key < self._beside(other))

    def __le__(self, other: Version) -> bool:
        return bool(self.key <= self._beside(other))

    def __gt__(self, other: Version) -> bool:
        return bool(self.key > self._beside(other))

    def __ge__(self, other: Version) -> bool:
        return bool(self.key >= self._beside(other))


# What may stand at one position, in ascending order: a pre-release word, the end, a build number, a suffix of letters
# (3.4b, 38.1b, 21.3p4), a further numeric part.
_PRE, _END, _BUILD, _SUFFIX, _NUMBER = range(5)
_PRE_WORDS = {"dev": 0, "alpha": 1, "beta": 2, "pre": 3, "preview": 3, "rc": 4}
_DOTTED_TOKEN = re.compile(
    r"(?P<paren>[-_ ]*\( *(?:build *)?(?P<inside>[0-9a-z][0-9a-z._-]*) *\))"
    r"|(?P<build>(?:[-_+ ]+build[-_. ]*|[-+ ]+|_)(?P<buildnumber>[0-9]+))"
    r"|(?P<word>[-_.+ ]*(?P<letters>[a-z]+)(?:[-_. ]?(?P<count>[0-9]+))?)"
    r"|(?P<part>\.(?P<number>[0-9]+))",
    re.ASCII,
)
_FIRST_NUMBER = re.compile(r"v?\.? ?(?P<number>[0-9]+)", re.ASCII)
_CHUNK = re.compile(r"[0-9]+|[a-z]+", re.ASCII)


def _dotted(text: str) -> Key:
    lower = text.strip().lower()
    first = _FIRST_NUMBER.match(lower)
    if first is None:
        raise NotAVersion("dotted", text, "it does not begin with a number")
    elements: list[tuple[int, str | int, int]] = [(_NUMBER, 0, int(first["number"]))]
    at = first.end()
    while at < len(lower):
        token = _DOTTED_TOKEN.match(lower, at)
        if token is None:
            raise NotAVersion("dotted", text, f"{lower[at : at + 12]!r} is not understood")
        at = token.end()
        if token["part"]:
            elements.append((_NUMBER, 0, int(token["number"])))
        elif token["build"]:
            elements.append((_BUILD, "", int(token["buildnumber"])))
        elif token["paren"]:
            elements.extend(
                (_BUILD, "", int(chunk)) if chunk.isdigit() else (_BUILD, chunk, 0)
                for chunk in _CHUNK.findall(token["inside"])
            )
        else:
            letters, count = token["letters"], int(token["count"] or 0)
            pre = _PRE_WORDS.get(letters)
            elements.append((_SUFFIX, letters, count) if pre is None else (_PRE, pre, count))
    return (*tuple(_without_trailing_zeros(elements)), (_END, 0, 0))


def _without_trailing_zeros(elements: list[tuple[int, str | int, int]]) -> list[tuple[int, str | int, int]]:
    """3.2.0 names the release 3.2: zeros that end the leading run of numbers say nothing."""
    run = next((i for i, element in enumerate(elements) if element[0] != _NUMBER), len(elements))
    kept = run
    while kept > 1 and elements[kept - 1][2] == 0:
        kept -= 1
    return elements[:kept] + elements[run:]


_DEB = re.compile(
    r"(?:(?P<epoch>[0-9]+):)?(?P<upstream>[0-9][A-Za-z0-9.+~:-]*?)(?:-(?P<revision>[A-Za-z0-9+.~]+))?", re.ASCII
)
_DEB_PAIR = re.compile(r"([^0-9]*)([0-9]*)", re.ASCII)
_DEB_END = ((0,), 0)


def _deb_order(character: str) -> int:
    if character == "~":
        return -1
    return ord(character) if character.isalpha() else ord(character) + 256


def _deb_part(text: str) -> Key:
    pairs = [(letters, digits) for letters, digits in _DEB_PAIR.findall(text) if letters or digits] or [("", "")]
    return (*tuple(((*tuple(map(_deb_order, letters)), 0), int(digits or 0)) for letters, digits in pairs), _DEB_END)


def _deb(text: str) -> Key:
    match = _DEB.fullmatch(text.strip())
    if match is None:
        raise NotAVersion("deb", text, "Debian policy 5.6.12 has [epoch:]upstream[-revision], upstream from a digit on")
    if match["revision"] is None and "-" in match["upstream"]:
        raise NotAVersion("deb", text, "its revision is empty (Debian policy 5.6.12)")
    if ":" in match["upstream"] and match["epoch"] is None:
        raise NotAVersion("deb", text, "a colon without an epoch before it")
    return (int(match["epoch"] or 0), _deb_part(match["upstream"]), _deb_part(match["revision"] or ""))


_RPM = re.compile(
    r"(?:(?P<epoch>[0-9]+):)?(?P<version>[A-Za-z0-9._+~^]+)(?:-(?P<release>[A-Za-z0-9._+~^]+))?", re.ASCII
)
_RPM_SEGMENT = re.compile(r"[0-9]+|[A-Za-z]+|~|\^", re.ASCII)
_RPM_MARKS: dict[str, Key] = {"~": (0,), "^": (2,)}


def _rpm_part(text: str) -> Key:
    def element(segment: str) -> Key:
        if segment in _RPM_MARKS:
            return _RPM_MARKS[segment]
        return (4, int(segment)) if segment[0].isdigit() else (3, segment)

    return (*tuple(element(segment) for segment in _RPM_SEGMENT.findall(text)), (1,))


def _rpm(text: str) -> Key:
    match = _RPM.fullmatch(text.strip())
    if match is None:
        raise NotAVersion("rpm", text, "rpm has [epoch:]version[-release]")
    release = (0,) if match["release"] is None else (1, _rpm_part(match["release"]))
    return (int(match["epoch"] or 0), _rpm_part(match["version"]), release)


_IDENTIFIER = r"(?:0|[1-9][0-9]*|[0-9]*[A-Za-z-][0-9A-Za-z-]*)"
_SEMVER = re.compile(
    r"(?P<major>0|[1-9][0-9]*)\.(?P<minor>0|[1-9][0-9]*)\.(?P<patch>0|[1-9][0-9]*)"
    rf"(?:-(?P<pre>{_IDENTIFIER}(?:\.{_IDENTIFIER})*))?(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?",
    re.ASCII,
)


def _semver(text: str) -> Key:
    match = _SEMVER.fullmatch(text.strip())
    if match is None:
        raise NotAVersion("semver", text, "Semantic Versioning 2.0.0 has MAJOR.MINOR.PATCH[-pre][+build]")
    pre: Key = (1,)
    if match["pre"]:
        identifiers = match["pre"].split(".")
        pre = (0, tuple((0, int(i), "") if i.isdigit() else (1, 0, i) for i in identifiers))
    return (int(match["major"]), int(match["minor"]), int(match["patch"]), pre)


SCHEMES: dict[str, Callable[[str], Key]] = {"dotted": _dotted, "deb": _deb, "rpm": _rpm, "semver": _semver}


@lru_cache(maxsize=65536)
def parse(scheme: str, text: str) -> Version:
    """The version that `text` names in `scheme`.

    Raises `NotAVersion` when it names none, `KeyError` for a scheme that is not in `SCHEMES`.
    """
    key = SCHEMES[scheme]
    if not text.strip():
        raise NotAVersion(scheme, text, "it is empty")
    if len(text) > LONGEST:
        raise NotAVersion(scheme, text, f"it is longer than {LONGEST} characters")
    return Version(scheme, text, key(text))


def compare(scheme: str, a: str, b: str) -> int:
    """-1, 0 or 1 as `a` lies before, at or after `b` in `scheme`; raises `NotAVersion`."""
    left, right = parse(scheme, a), parse(scheme, b)
    return (left > right) - (left < right)


_CONSTRAINT = re.compile(r"(>=|<=|!=|>|<|=)?(.+)")


class NotARange(ValueError):
    """The text is not a range in the VERS notation; the message says where."""


class Constraint(Record):
    """One comparator and the version it compares with."""

    comparator: str
    version: str


class Range(Record):
    """Versions of one scheme, as `vers:dotted/>=2.8|<3.0|!=2.9` writes them.

    Membership is by the scheme's pure order: a pre-release of 2.0 lies inside `<2.0`.
    """

    scheme: str
    constraints: tuple[Constraint, ...]

    def __contains__(self, version: Version) -> bool:
        if version.scheme != self.scheme:
            return False
        return not self.constraints or _within(
            version, [(c.comparator, parse(self.scheme, c.version)) for c in self.constraints]
        )

    def __str__(self) -> str:
        return f"vers:{self.scheme}/" + (
            "|".join((c.comparator if c.comparator != "=" else "") + c.version for c in self.constraints) or "*"
        )

    def words(self) -> str:
        """The range as a person says it: `2.8 or later, before 3.0, not 2.9`."""
        said = {
            ">=": "{} or later",
            ">": "later than {}",
            "<=": "up to {}",
            "<": "before {}",
            "!=": "not {}",
            "=": "{}",
        }
        return ", ".join(said[c.comparator].format(c.version) for c in self.constraints) or "any version"


def _within(version: Version, constraints: list[tuple[str, Version]]) -> bool:
    """The containment rule of the VERS specification over constraints sorted by version."""
    for comparator, bound in constraints:
        if version == bound:
            return comparator in ("=", "<=", ">=")
    bounds = [(comparator, bound) for comparator, bound in constraints if comparator[0] in "<>"]
    if not bounds:
        return all(comparator == "!=" for comparator, _ in constraints)
    if bounds[0][0].startswith("<") and version < bounds[0][1]:
        return True
    if bounds[-1][0].startswith(">") and version > bounds[-1][1]:
        return True
    return any(
        low[0].startswith(">") and high[0].startswith("<") and low[1] < version < high[1]
        for low, high in itertools.pairwise(bounds)
    )


@lru_cache(maxsize=16384)
def parse_range(text: str) -> Range:
    """A range from its VERS text; raises `NotARange` (or `NotAVersion` for a bound that is none)."""
    scheme, slash, body = text.removeprefix("vers:").partition("/")
    if not text.startswith("vers:") or not slash:
        raise NotARange(f"{clean(text, 60)!r} is not a range: write vers:SCHEME/CONSTRAINTS, as vers:dotted/>=2.8|<3.0")
    if scheme not in SCHEMES:
        raise NotARange(f"unknown scheme {clean(scheme, 30)!r} in a range; known are {', '.join(SCHEMES)}")
    if body == "*":
        return Range(scheme=scheme, constraints=())
    found: dict[Version, Constraint] = {}
    for part in body.split("|"):
        match = _CONSTRAINT.fullmatch(part.strip())
        if match is None:
            raise NotARange(f"an empty constraint in {clean(text, 60)!r}")
        bound = parse(scheme, unquote(match[2].strip()))
        if bound in found:
            raise NotARange(f"{bound} stands twice in {clean(text, 60)!r}")
        found[bound] = Constraint(comparator=match[1] or "=", version=bound.text)
    return Range(scheme=scheme, constraints=tuple(found[bound] for bound in sorted(found)))
