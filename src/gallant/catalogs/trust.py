"""Signatures, expiry and serials: what makes a catalog believable. Raw bytes are verified before anything parses
them."""

from __future__ import annotations

import base64
import hashlib
import re
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import msgspec
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from gallant.core.catalog.products import Catalog, decode_catalog
from gallant.core.errors import Refused, WrongUse
from gallant.core.records import clean

if TYPE_CHECKING:
    from pysequoia import Cert

SIGNED_PREFIX = b"gallant-catalog-v1\0"
LARGEST = 64 * 1024 * 1024
DEEPEST = 64
KEEP = "The last good catalog stays in use."
AHEAD = timedelta(days=1)  # how far a publisher's clock may be ahead of ours
_KEY = re.compile(r"ed25519:([0-9a-f]{64})", re.ASCII)
# The signer's key may stand behind the signature. It proves nothing; it makes the refusal of a changed key plain.
_SIGNATURE = re.compile(rb"\s*([0-9a-f]{128})(?:\s+ed25519:([0-9a-f]{64}))?\s*")
OPENPGP = "openpgp:"


def parse_key(text: str) -> str:
    """A public key in its one spelling: `ed25519:` and 64
    hexadecimal digits, or `openpgp:` and a certificate in base64.

    Raises `WrongUse` for a text that is neither.
    """
    if text.startswith(OPENPGP) or "BEGIN PGP PUBLIC KEY" in text:
        return openpgp_key(text.encode())
    match = _KEY.search(text.strip().lower())
    if match is None:
        raise WrongUse(
            "That is not a publisher's key.",
            "A key is ed25519: and 64 hexadecimal digits, or a file that holds them.",
            "Ask the publisher for the key by another way than the catalog's own.",
        )
    return f"ed25519:{match[1]}"


def openpgp_key(raw: bytes) -> str:
    """The OpenPGP certificate of a channel, armoured or not, in one spelling; raises `WrongUse`."""
    from pysequoia import Cert

    try:
        if raw.startswith(OPENPGP.encode()):
            raw = base64.b64decode(raw.removeprefix(OPENPGP.encode()), validate=True)
        certificates = list(Cert.split_bytes(raw))
        if not certificates:
            raise ValueError("no certificate in it")
        whole = b"".join(bytes(certificate) for certificate in certificates)
    except Exception as error:  # the library raises what its parsers raise
        raise WrongUse(
            f"That is no OpenPGP certificate: {clean(str(error), 100)}.", next="Give the repository's key file."
        ) from None
    return OPENPGP + base64.b64encode(whole).decode()


def certificates(key: str) -> list[Cert]:
    """The OpenPGP certificates of a pinned key."""
    from pysequoia import Cert

    return list(Cert.split_bytes(base64.b64decode(key.removeprefix(OPENPGP))))


def key_fingerprint(key: str) -> str:
    """What a person compares: of an Ed25519 key SHA-256 of its bytes, of an OpenPGP one its own; in groups of four."""
    if key.startswith(OPENPGP):
        prints = [str(certificate.fingerprint) for certificate in certificates(key)]
        return ", ".join(" ".join(p[i : i + 4] for i in range(0, len(p), 4)) for p in prints)
    whole = hashlib.sha256(bytes.fromhex(key.removeprefix("ed25519:"))).hexdigest()[:32]
    return " ".join(whole[i : i + 4] for i in range(0, 32, 4))


def verify(
    name: str, raw: bytes, signature: bytes, key: str, now: datetime, serial: int, sha256: str | None
) -> tuple[Catalog, str]:
    """The catalog that the bytes hold, and their SHA-256.

    `serial` and `sha256` are those of the last accepted one. Raises `Refused`, with a message of its own for each
    way in which a catalog can be wrong.
    """
    if len(raw) > LARGEST:
        raise Refused(f"The catalog {name} is larger than {LARGEST // 1024 // 1024} MiB.", KEEP)
    match = _SIGNATURE.fullmatch(signature)
    if match is None:
        raise Refused(f"The signature of the catalog {name} is no Ed25519 signature in hexadecimal.", KEEP)
    if not _signed(raw, match[1], key):
        raise _why_not(name, raw, match[1], match[2])
    if _too_deep(raw):
        raise Refused(f"The catalog {name} is nested deeper than {DEEPEST}.", KEEP)
    try:
        catalog = decode_catalog(raw)
    except (msgspec.MsgspecError, ValueError, KeyError, RecursionError) as error:
        raise Refused(
            f"The catalog {name} is signed and not in the form of gallant.catalog/1: {clean(str(error), 160)}.", KEEP
        ) from None
    found = hashlib.sha256(raw).hexdigest()
    _refuse_other(name, catalog, found, now, serial, sha256)
    return catalog, found


def _refuse_other(name: str, catalog: Catalog, found: str, now: datetime, serial: int, sha256: str | None) -> None:
    """Refuse a catalog that is signed and in form, and yet not the one that may follow the last: another publisher's,
    an older one, a second one of one serial, one that is yet to come, or that expired."""
    if catalog.publisher != name:
        raise Refused(f"The catalog at {name} is that of the publisher {clean(catalog.publisher, 60)!r}.", KEEP)
    if catalog.serial < serial:
        raise Refused(
            f"The catalog {name} has serial {catalog.serial}; {serial} was seen before. An older one is never taken"
            " back.",
            KEEP,
        )
    if catalog.serial == serial and sha256 is not None and found != sha256:
        raise Refused(f"The catalog {name} has the serial {serial} of the last one and other content.", KEEP)
    if catalog.issued > now + AHEAD:
        raise Refused(
            f"The catalog {name} is of {catalog.issued:%Y-%m-%d}, which is yet to come.",
            KEEP,
            f"Here it is {now:%Y-%m-%d}: is this host's clock right? Else ask the publisher.",
        )
    if catalog.expires <= now:
        raise Refused(
            f"The catalog {name} expired on {catalog.expires:%Y-%m-%d}.", KEEP, "Ask the publisher for a current one."
        )


def _signed(raw: bytes, signature: bytes, key: str) -> bool:
    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(key.removeprefix("ed25519:"))).verify(
            bytes.fromhex(signature.decode()), SIGNED_PREFIX + raw
        )
    except InvalidSignature:
        return False
    return True


def _why_not(name: str, raw: bytes, signature: bytes, hint: bytes | None) -> Refused:
    """A signature does not fit the pinned key: which of the three ways of being wrong is it?"""
    if hint is not None and _signed(raw, signature, f"ed25519:{hint.decode()}"):
        return Refused(
            f"The catalog {name} is signed with another key: {key_fingerprint(f'ed25519:{hint.decode()}')}.",
            KEEP,
            f"Ask the publisher by another way; if it did change its key: gallant catalog trust {name} --key KEY",
        )
    if not raw.rstrip().endswith(b"}"):
        return Refused(
            f"The catalog {name} is cut short: it ends in the middle, after {len(raw):,} bytes.",
            KEEP,
            "gallant catalog sync tries again.",
        )
    return Refused(
        f"The signature of the catalog {name} does not fit: it was altered on the way, or signed with another key.",
        KEEP,
        f"Try again; if it stays so, ask the publisher. After a change of its key: gallant catalog trust {name}"
        " --key KEY",
    )


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
