"""Signatures, expiry and serials: what makes a catalog believable. Raw bytes are verified before anything parses them."""

from __future__ import annotations

import hashlib
import re
from datetime import datetime

import msgspec
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from gallant.core.catalog import Catalog
from gallant.core.errors import Refused, WrongUse
from gallant.core.records import clean

SIGNED_PREFIX = b"gallant-catalog-v1\0"
LARGEST = 64 * 1024 * 1024
DEEPEST = 64
_KEY = re.compile(r"ed25519:([0-9a-f]{64})", re.ASCII)
_SIGNATURE = re.compile(rb"\s*([0-9a-f]{128})\s*")


def parse_key(text: str) -> str:
    """A public key in its one spelling, `ed25519:` and 64 hexadecimal digits; raises `WrongUse`."""
    match = _KEY.search(text.strip().lower())
    if match is None:
        raise WrongUse(
            "That is no publisher's key.",
            "A key is ed25519: and 64 hexadecimal digits, or a file that holds them.",
            "Ask the publisher for the key by another way than the catalog's own.",
        )
    return f"ed25519:{match[1]}"


def key_fingerprint(key: str) -> str:
    """What a person compares: SHA-256 of the raw key, in groups of four."""
    whole = hashlib.sha256(bytes.fromhex(key.removeprefix("ed25519:"))).hexdigest()[:32]
    return " ".join(whole[i : i + 4] for i in range(0, 32, 4))


def verify(
    name: str, raw: bytes, signature: bytes, key: str, now: datetime, serial: int, sha256: str | None
) -> tuple[Catalog, str]:
    """The catalog that the bytes hold, and their SHA-256.

    `serial` and `sha256` are those of the last accepted one. Raises `Refused`, with a message of its own for each
    way in which a catalog can be wrong.
    """
    keep = "The last good catalog stays in use."
    if len(raw) > LARGEST:
        raise Refused(f"The catalog {name} is larger than {LARGEST // 1024 // 1024} MiB.", keep)
    match = _SIGNATURE.fullmatch(signature)
    if match is None:
        raise Refused(f"The signature of the catalog {name} is no Ed25519 signature in hexadecimal.", keep)
    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(key.removeprefix("ed25519:"))).verify(
            bytes.fromhex(match[1].decode()), SIGNED_PREFIX + raw
        )
    except InvalidSignature:
        raise Refused(
            f"The signature of the catalog {name} does not fit: it was altered, cut short, or signed with another key.",
            keep,
            "If the publisher changed its key, add the catalog again under the new one, after asking the publisher.",
        ) from None
    if _too_deep(raw):
        raise Refused(f"The catalog {name} is nested deeper than {DEEPEST}.", keep)
    try:
        catalog = msgspec.json.decode(raw, type=Catalog)
    except (msgspec.DecodeError, ValueError, KeyError, RecursionError) as error:
        raise Refused(
            f"The catalog {name} is signed and not in the form of gallant.catalog/1: {clean(str(error), 160)}.", keep
        ) from None
    found = hashlib.sha256(raw).hexdigest()
    if catalog.publisher != name:
        raise Refused(f"The catalog at {name} is that of the publisher {clean(catalog.publisher, 60)!r}.", keep)
    if catalog.serial < serial:
        raise Refused(
            f"The catalog {name} has serial {catalog.serial}; {serial} was seen before. An older one is never taken back.",
            keep,
        )
    if catalog.serial == serial and sha256 is not None and found != sha256:
        raise Refused(f"The catalog {name} has the serial {serial} of the last one and other content.", keep)
    if catalog.expires <= now:
        raise Refused(
            f"The catalog {name} expired on {catalog.expires:%Y-%m-%d}.", keep, "Ask the publisher for a current one."
        )
    return catalog, found


def _too_deep(raw: bytes) -> bool:
    depth = 0
    for character in re.sub(rb'"(?:[^"\\]|\\.)*"', b"", raw):
        if character in b"[{":
            depth += 1
            if depth > DEEPEST:
                return True
        elif character in b"]}":
            depth -= 1
    return False
