"""Writing a catalog by hand: a draft in YAML made whole from the packages' files, and signed with a key of one's
own."""

from __future__ import annotations

import hashlib
import os
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from gallant.catalogs.trust import SIGNED_PREFIX
from gallant.core.catalog.products import SCHEMA, Catalog, decode_catalog
from gallant.core.documents import Document, Invalid, Problem
from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.disk import put_whole, why_not

GOOD_FOR = timedelta(days=365)


def make_whole(draft: Path, serial: int, now: datetime) -> Catalog:
    """The catalog that a draft describes; `file:` of a package is read for its name, size and SHA-256.

    What the draft does not say is filled in: schema, serial, issued now, good for a year. Raises `Invalid` with the
    draft's own lines, `WrongUse` for a file that is not there.
    """
    document = Document(str(draft), _read(draft))
    values = document.values
    if not isinstance(values, dict):
        raise Invalid(str(draft), [Problem(1, 1, "a draft is a mapping: publisher, products")])
    values.setdefault("schema", SCHEMA)
    values.setdefault("serial", serial)
    values.setdefault("issued", now)
    values.setdefault("expires", now + GOOD_FOR)
    for p, product in enumerate(_list(values, "products")):
        for r, release in enumerate(_list(product, "releases")):
            for k, package in enumerate(_list(release, "packages")):
                if isinstance(package, dict) and "file" in package:
                    _fill(document, package, draft.parent, ("products", p, "releases", r, "packages", k, "file"))
    document.finish()
    catalog = document.convert(Catalog)
    document.finish()
    assert catalog is not None
    return catalog


def _list(values: object, key: str) -> list[object]:
    found = values.get(key) if isinstance(values, dict) else None
    return found if isinstance(found, list) else []


def _fill(document: Document, package: dict[str, object], folder: Path, at: tuple[str | int, ...]) -> None:
    named = str(package.pop("file"))
    path = folder / named
    if "url" not in package and (Path(named).is_absolute() or ".." in Path(named).parts):
        document.at(
            at, f"{named} is outside the draft's folder, where no catalog fetches: put it below, or say its url"
        )
        return
    try:
        with path.open("rb") as file:
            sha256 = hashlib.file_digest(file, "sha256").hexdigest()
            size = file.tell()
    except OSError as error:
        document.at(at, f"{path} cannot be read: {error.strerror}")
        return
    for key, value in (("name", path.name), ("url", named), ("bytes", size), ("sha256", sha256)):
        package.setdefault(key, value)


def _read(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise WrongUse(f"{path} cannot be read: {error.strerror}.") from None


def write_catalog(catalog: Catalog, path: Path) -> None:
    """As JSON, whole or not at all. A signature of what stood there before is taken away: it no longer fits."""
    try:
        path.with_name(path.name + ".sig").unlink(missing_ok=True)
        put_whole(path, msgspec.json.format(msgspec.json.encode(catalog), indent=1) + b"\n")
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None


def new_key(path: Path) -> None:
    """A new signing key, for its owner alone; raises `Refused` where there is one already."""
    raw = Ed25519PrivateKey.generate().private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    try:
        with os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as file:
            file.write(raw)
    except FileExistsError:
        raise Refused(
            f"{path} is there already; a key is never overwritten.", next="Leave out --new-key to sign with it."
        ) from None
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None


def sign(catalog_path: Path, key_path: Path) -> str:
    """Write the signature next to a catalog; gives the public key.
    Raises `WrongUse` for a key or a catalog that is none."""
    raw = _read(catalog_path)
    try:
        decode_catalog(raw)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise WrongUse(f"{catalog_path} is not a catalog: {error}.", next=f"gallant validate {catalog_path}") from None
    try:
        if key_path.stat().st_mode & 0o077:
            raise WrongUse(
                f"{key_path} can be read by others.",
                "Anyone who has it can sign in your name.",
                f"chmod 600 {key_path}",
            )
        key = serialization.load_pem_private_key(_read(key_path), password=None)
    except (OSError, ValueError, TypeError):
        raise WrongUse(
            f"{key_path} is not a signing key.",
            next=f"gallant catalog sign {catalog_path} --key {key_path} --new-key makes one.",
        ) from None
    if not isinstance(key, Ed25519PrivateKey):
        raise WrongUse(f"{key_path} is a key of another kind; catalogs are signed with Ed25519.")
    signature = catalog_path.with_name(catalog_path.name + ".sig")
    public = (
        "ed25519:" + key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw).hex()
    )
    try:
        put_whole(signature, f"{key.sign(SIGNED_PREFIX + raw).hex()} {public}\n".encode())
    except OSError as error:
        raise GallantError(f"{signature} cannot be written: {why_not(error, signature)}.") from None
    return public
