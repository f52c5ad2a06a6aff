"""A ledger entry as a syslog message with structured data (RFC 5424), and as a line of JSON."""

from __future__ import annotations

from datetime import UTC

import msgspec

from gallant.core.decide.ledger import Kept

# Facility 13 is "log audit", severity 5 "notice" (RFC 5424, 6.2.1): 13 * 8 + 5.
PRIORITY = 109
VERSION = 1
EXAMPLE_NUMBER = 32473  # for documentation (RFC 5612); the estate names its own
_BOM = "\ufeff"


def rfc5424(kept: Kept, process: str = "-", enterprise: int = EXAMPLE_NUMBER) -> bytes:
    """The message without framing. Its structured data hold the number, the hash, and every field that has a value."""
    entry = kept.entry
    fields = {
        "seq": str(kept.seq),
        "hash": kept.hash,
        "kind": entry.kind,
        "by": entry.by,
        "uid": None if entry.uid is None else str(entry.uid),
        "sudo": entry.sudo_user,
        "subject": entry.subject,
        "target": entry.target,
        "until": entry.until,
        "state": entry.state,
    }
    said = " ".join(f'{name}="{_escaped(value)}"' for name, value in fields.items() if value)
    at = entry.at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    words = f"{entry.who}: {entry.kind} {entry.subject}" + (f" {entry.target}" if entry.target else "")
    text = f"{words}: {entry.why}" if entry.why else words
    head = f"<{PRIORITY}>{VERSION} {at} {_name(entry.host, 255)} gallant {_name(process, 128)} {_name(entry.kind, 32)}"
    return f"{head} [gallant@{enterprise} {said}] {_BOM}{_one_line(text)}".encode()


def json_line(kept: Kept) -> bytes:
    """An entry as one line of JSON, for whoever takes the ledger in."""
    return msgspec.json.encode(kept) + b"\n"


def framed(message: bytes) -> bytes:
    """For a stream: octet counting (RFC 6587, 3.4.1)."""
    return f"{len(message)} ".encode() + message


def _escaped(text: str) -> str:
    """A value of structured data (RFC 5424, 6.3.3)."""
    return _one_line(text).replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")


def _one_line(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)


def _name(text: str, most: int) -> str:
    """A field of the head: visible ASCII, or a dash (RFC 5424, 6)."""
    kept = "".join(c for c in text if "!" <= c <= "~")[:most]
    return kept or "-"
