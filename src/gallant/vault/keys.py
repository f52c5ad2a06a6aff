"""Keys of the vault: who may read a backup (age), and who made it (Ed25519).

age encrypts to public keys and does not say who wrote; so manifests are signed with a key of this host's own, made when
the first backup is taken. An identity, the private half of a recipient, may lie in a file that a passphrase wraps; the
passphrase never encrypts a backup itself.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeAlias

from gallant.core.errors import GallantError, Refused, WrongUse
from gallant.core.estate.backups import Backup
from gallant.core.records import replace
from gallant.disk import make_folder, why_not, writing

if TYPE_CHECKING:
    import pyrage
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

AGE_FILE = b"age-encryption.org/v1"
IDENTITY = "AGE-SECRET-KEY-1"
# What an age library makes of a public key, and of the private half of one; it has no types of its own.
Recipient: TypeAlias = "pyrage.x25519.Recipient | pyrage.ssh.Recipient"
Identity: TypeAlias = "pyrage.x25519.Identity | pyrage.ssh.Identity"
Ask = Callable[[str], str]


def recipients_of(texts: Sequence[str]) -> list[Recipient]:
    """age public keys from their text; `WrongUse` names the one that is none."""
    from pyrage import RecipientError, ssh, x25519

    found: list[Recipient] = []
    for text in texts:
        kind = ssh if text.startswith("ssh-") else x25519
        try:
            found.append(kind.Recipient.from_str(text))
        except (RecipientError, ValueError):
            raise WrongUse(
                f"{text[:24]}… is not an age recipient.", next="Look at backups: recipients: in estate.yaml."
            ) from None
    return found


def new_identity(path: Path, passphrase: str | None) -> str:
    """Make an identity and keep it in a file of its own; gives its recipient. A passphrase wraps the file."""
    from pyrage import passphrase as wrapping
    from pyrage import x25519

    identity = x25519.Identity.generate()
    text = f"# recipient: {identity.to_public()}\n{identity}\n".encode()
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        raise Refused(
            f"{path} is there already; an identity is not overwritten.",
            "Whatever was encrypted to it could never be opened again.",
            "Name another file.",
        ) from None
    except OSError as error:
        raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(text if passphrase is None else wrapping.encrypt(text, passphrase))
            file.flush()
            os.fsync(file.fileno())
    except BaseException as error:
        path.unlink()  # half of one would be in the way of the next, and open nothing
        if isinstance(error, OSError):
            raise GallantError(f"{path} cannot be written: {why_not(error, path)}.") from None
        raise
    return str(identity.to_public())


def identities_from(path: Path, ask: Ask | None) -> list[Identity]:
    """The identities in a file: age's own format, wrapped by a passphrase or not, or an unencrypted SSH key."""
    from pyrage import DecryptError, IdentityError, ssh, x25519
    from pyrage import passphrase as wrapping

    try:
        if stat.S_IMODE(path.stat().st_mode) & 0o077:
            raise WrongUse(
                f"{path} can be read by others.", "An identity that others can read is none.", f"chmod 600 {path}"
            )
        raw = path.read_bytes()
    except OSError as error:
        raise WrongUse(f"{path} cannot be read: {error.strerror}.", next="Name the identity's file.") from None
    if raw.startswith(AGE_FILE):
        if ask is None:
            raise WrongUse(
                f"{path} is wrapped by a passphrase, and nobody is at a terminal.", next="Run it from a terminal."
            )
        try:
            raw = wrapping.decrypt(raw, ask(f"Passphrase of {path.name}"))
        except DecryptError:
            raise WrongUse(f"{path}: that is not its passphrase.", next="Try again.") from None
    text = raw.decode("utf-8", "replace")
    try:
        if "PRIVATE KEY" in text:
            return [ssh.Identity.from_buffer(raw)]
        found = [x25519.Identity.from_str(line.strip()) for line in text.splitlines() if line.startswith(IDENTITY)]
    except (IdentityError, ValueError):
        found = []
    if not found:
        raise WrongUse(f"{path} holds no age identity.", next="gallant init --identity FILE makes one.")
    return found


class Signer:
    """This host's own key for manifests, in the state folder; made when it is first needed."""

    def __init__(self, state: Path, trusted: Sequence[str] = ()) -> None:
        self._path, self._trusted = state / "backups.key", tuple(trusted)

    def sign(self, backup: Backup) -> Backup:
        key = self._key()
        named = replace(backup, key=_public(key), signature="")
        return replace(named, signature=key.sign(named.signed_part()).hex())

    def problem(self, backup: Backup) -> str | None:
        """What is wrong with a manifest's signature; None where it is one of ours, or of a signer that is trusted."""
        from cryptography.exceptions import InvalidSignature
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

        if not backup.signature:
            return "its manifest is not signed"
        try:
            Ed25519PublicKey.from_public_bytes(bytes.fromhex(backup.key)).verify(
                bytes.fromhex(backup.signature), backup.signed_part()
            )
        except (InvalidSignature, ValueError):
            return "its manifest was altered: the signature does not fit"
        own = _public(self._key()) if self._path.exists() else None
        if backup.key != own and backup.key not in self._trusted:
            return f"its manifest is signed by a key that is not known here ({fingerprint(backup.key)})"
        return None

    def _key(self) -> Ed25519PrivateKey:
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        try:
            raw = self._path.read_bytes()
        except FileNotFoundError:
            raw = self._make()
        except OSError as error:
            raise GallantError(f"{self._path} cannot be read: {error.strerror}.") from None
        try:
            return Ed25519PrivateKey.from_private_bytes(raw)
        except ValueError:
            raise GallantError(
                f"{self._path} is not a key.", "Backups cannot be signed.", "Restore it from a copy, or move it away."
            ) from None

    def _make(self) -> bytes:
        """A key that two processes which begin at once agree on: the first to link it into place wins."""
        raw = os.urandom(32)
        make_folder(self._path.parent)
        partial = self._path.with_name(f".{self._path.name}.{os.getpid()}")
        with writing(partial) as file:
            file.write(raw)
            file.flush()
            os.fsync(file.fileno())
        try:
            os.link(partial, self._path)
        except FileExistsError:
            raw = self._path.read_bytes()
        finally:
            partial.unlink()
        return raw


def _public(key: Ed25519PrivateKey) -> str:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    return str(key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex())


def fingerprint(key: str) -> str:
    """A short name for a public key, for people."""
    return hashlib.sha256(key.encode()).hexdigest()[:16]
