"""The base of every record: frozen, typed, comparable, built by keyword.

Also the one spelling of times and texts that crosses Gallant's edges.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Hashable, Mapping
from datetime import UTC, datetime
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated, Any, TypeVar, cast, dataclass_transform

import msgspec

if TYPE_CHECKING:

    @dataclass_transform(frozen_default=True, kw_only_default=True)
    class Record:
        """What a type checker needs to know of the class below."""

        def __init_subclass__(
            cls,
            *,
            rename: Mapping[str, str] = ...,
            dict: bool = ...,  # noqa: A002
            gc: bool = ...,
            cache_hash: bool = ...,
            tag: str = ...,
            tag_field: str = ...,
        ) -> None: ...

else:

    class _ByKeyword(type(msgspec.Struct)):
        """Makes every record be built by keyword; the option is the one that a base class does not hand down."""

        def __new__(cls, name: str, bases: tuple[type, ...], namespace: dict[str, object], **options: object) -> type:
            return super().__new__(cls, name, bases, namespace, **{"kw_only": True, **options})

    class Record(msgspec.Struct, metaclass=_ByKeyword, frozen=True, forbid_unknown_fields=True):
        """A value: no identity, no behaviour beyond what its fields say."""


R = TypeVar("R", bound=Record)


def _struct(record: object) -> Any:
    """A record as the library takes it: a type checker sees the class above, which is none of the library's."""
    return record


# A time that comes from outside says its zone; without one it could be compared with nothing.
Moment = Annotated[datetime, msgspec.Meta(tz=True)]
YEARS = range(1970, 9001)  # beyond, a zone or a few days more cannot be told any more


def check_moments(**moments: datetime | None) -> None:
    """Raises ValueError, naming the field, for a time that nothing can be reckoned with."""
    for name, moment in moments.items():
        if moment is not None and moment.year not in YEARS:
            raise ValueError(f"{name}: a time in the years {YEARS[0]} to {YEARS[-1]}")


def replace(record: R, **changes: object) -> R:
    """The record with some fields changed."""
    return cast(R, msgspec.structs.replace(_struct(record), **changes))


def fields_of(
    record: Record, kind: type[Record]
) -> dict[str, Any]:  # to be spread into a constructor, which checks each
    """Those fields of a record that its base `kind` declares, to build another record on the same base."""
    return {name: getattr(record, name) for name in _names_of(cast(Hashable, kind))}


def kinds_of(kind: type[Record]) -> dict[str, object]:
    """A record's fields by their names, each with its type as it was declared."""
    return {field.name: field.type for field in msgspec.structs.fields(_struct(kind))}


def tag_of(record: Record) -> str:
    """The tag by which a record is told from the others of its union."""
    return str(_struct(record).__struct_config__.tag)


@lru_cache(maxsize=64)
def _names_of(kind: Hashable) -> tuple[str, ...]:
    return tuple(field.name for field in msgspec.structs.fields(_struct(kind)))


def as_read_back(record: R) -> R:
    """The record as it is after a trip through JSON: a whole number where a float belongs is a float."""
    return msgspec.json.decode(msgspec.json.encode(record), type=type(record))


def to_json(value: object) -> bytes:
    """JSON with sorted keys, so that equal records are equal bytes."""
    return msgspec.json.encode(value, order="sorted")


def to_json_without(record: Record, *later: str) -> bytes:
    """As `to_json`, without those fields that came `later` and say nothing: what was hashed or signed before there were
    any stays what it was."""
    plain = msgspec.to_builtins(record)
    for name in later:
        if plain[name] is None:
            del plain[name]
    return to_json(plain)


def digest(value: object) -> str:
    """SHA-256, in hexadecimal, of a record's sorted JSON (or of bytes as they are)."""
    raw = value if isinstance(value, bytes) else to_json(value)
    return hashlib.sha256(raw).hexdigest()


def rfc3339(moment: datetime) -> str:
    """UTC with `Z` and whole seconds or milliseconds, as RFC 3339 has it."""
    text = moment.astimezone(UTC).isoformat(timespec="milliseconds").removesuffix("+00:00")
    return text.removesuffix(".000") + "Z"


# C0 and C1 controls, what turns the direction of writing, what has no width, halves of a character: nothing that a
# device or a file says may steer the terminal it is shown on, or look like something else.
_UNPRINTABLE = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\xad\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)


LONGEST_TEXT = 4000  # of a publisher: terms of use and notes are the longest


def cleaned(value: object) -> object:
    """Plain data as it was parsed, with every text in it (names of fields too) as `clean` leaves it."""
    if isinstance(value, str):
        return clean(value, LONGEST_TEXT)
    if isinstance(value, dict):
        return {cleaned(key): cleaned(item) for key, item in value.items()}
    if isinstance(value, list):
        return [cleaned(item) for item in value]
    return value


def printable(text: str) -> str:
    """The text without what steers a terminal; its lines and tabs stay."""
    return text if text.isascii() and text.isprintable() else _UNPRINTABLE.sub("", text)


def clean(text: str, limit: int = 500) -> str:
    """One line of printable text out of whatever a device or a file said, cut to `limit` characters."""
    if text.isascii() and text.isprintable() and len(text) <= limit:  # as nearly all that devices say
        return text.strip()
    flat = printable(text.replace("\n", " ").replace("\t", " ")).strip()
    return flat if len(flat) <= limit else flat[: limit - 1] + "…"
