"""A catalog is believed only when its bytes are signed, current, newer and in form; each refusal is its own."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import msgspec
import pytest

from gallant.catalogs.trust import LARGEST, SIGNED_PREFIX, key_fingerprint, parse_key, verify
from gallant.core.errors import Refused, WrongUse
from gallant.core.records import LONGEST_TEXT
from gallant.standin.publisher import Publisher

NOW = datetime(2026, 11, 25, tzinfo=UTC)
MADE = Publisher(NOW)


def signed(change=None, raw: bytes | None = None) -> tuple[bytes, bytes]:
    catalog = MADE.catalog()
    if change:
        change(catalog)
    raw = json.dumps(catalog).encode() if raw is None else raw
    return raw, MADE.key.sign(SIGNED_PREFIX + raw).hex().encode()


def look(
    raw: bytes,
    signature: bytes,
    key: str = MADE.public_text,
    now: datetime = NOW,
    serial: int = 0,
    sha256: str | None = None,
    name: str = "ostrel",
):
    return verify(name, raw, signature, key, now, serial, sha256)


def test_a_good_catalog_is_believed():
    catalog, sha256 = look(*signed())
    assert (catalog.serial, len(sha256)) == (41, 64)
    assert look(*signed(), serial=41, sha256=sha256)[0] == catalog


def hinted(signature: bytes, key: str) -> bytes:
    return signature + b" " + key.encode()


def test_a_tampered_a_truncated_and_a_wrongly_signed_catalog_are_each_refused_in_their_own_words():
    raw, signature = signed()
    for bad in (raw.replace(b"2.11.2", b"2.11.9"), raw + b" }"):
        for given in (signature, hinted(signature, MADE.public_text)):
            with pytest.raises(Refused, match="does not fit"):
                look(bad, given)
    for bad in (raw[:-100], raw[: len(raw) // 2], b""):
        with pytest.raises(Refused, match="cut short"):
            look(bad, hinted(signature, MADE.public_text))
    other = Publisher(NOW).public_text
    with pytest.raises(Refused, match="does not fit"):
        look(raw, signature, key=other)
    with pytest.raises(Refused, match="signed with another key") as refused:
        look(raw, hinted(signature, MADE.public_text), key=other)
    assert key_fingerprint(MADE.public_text) in str(refused.value)
    assert MADE.public_text not in str(refused.value)  # nobody is handed the stranger's key to paste
    for bad in (b"", b"zz", signature[:-1], signature + b"00", signature + b" ed25519:zz"):
        with pytest.raises(Refused, match="no Ed25519 signature"):
            look(raw, bad)


REFUSED = [
    (lambda c: c.update(expires="2026-11-24T00:00:00Z"), {}, "expired on 2026-11-24"),
    (lambda c: c.update(serial=40), {"serial": 41}, "serial 40; 41 was seen before"),
    (lambda c: c.update(serial=41), {"serial": 41, "sha256": "0" * 64}, "serial 41 of the last one and other content"),
    (lambda c: c.update(publisher="tarnholt"), {}, "publisher 'tarnholt'"),
    (lambda c: c.update(schema="gallant.catalog/9"), {}, "not in the form"),
    (lambda c: c.update(more=1), {}, "not in the form"),
    (lambda c: c["products"][0]["releases"][0].update(from_range="vers:dotted/>=purple"), {}, "not in the form"),
    (lambda c: c["products"][0]["releases"].append(c["products"][0]["releases"][0]), {}, "not in the form"),
    (lambda c: c["products"][0]["releases"][0]["packages"][0].update(name="../../etc/passwd"), {}, "not in the form"),
    (lambda c: c["products"][0]["releases"][0]["packages"][0].update(sha256="x"), {}, "not in the form"),
    (lambda c: c.update(expires="tomorrow"), {}, "not in the form"),
]


@pytest.mark.parametrize(("change", "seen", "words"), REFUSED)
def test_each_way_of_being_wrong_has_its_own_refusal(change, seen, words):
    with pytest.raises(Refused) as refused:
        look(*signed(change), **seen)
    assert words in refused.value.what
    assert "last good catalog stays in use" in refused.value.why


@pytest.mark.parametrize(
    ("raw", "words"),
    [
        (b"[" * 70 + b"]" * 70, "nested deeper than 64"),
        (b"not json", "not in the form"),
        (b"x" * (LARGEST + 1), "larger than 64 MiB"),
        (b'"' + b"[" * 1000 + b'"', "not in the form"),
    ],
)
def test_bytes_that_are_no_catalog_are_refused_although_they_are_signed(raw, words):
    with pytest.raises(Refused, match=words):
        look(*signed(raw=raw))


def test_a_key_has_one_spelling_and_a_fingerprint():
    assert parse_key(f"  # key\n{MADE.public_text.upper()}\n".replace("ED25519", "ed25519")) == MADE.public_text
    assert len(key_fingerprint(MADE.public_text)) == 39
    with pytest.raises(WrongUse):
        parse_key("ed25519:abc")


def test_expiry_is_judged_by_the_time_that_is_given():
    with pytest.raises(Refused, match="expired"):
        look(*signed(), now=NOW + timedelta(days=500))


HOSTILE = "a\x1b[31mb\x1b]0;t\x07\x9bc\x00\u202ed\ne"


def test_no_text_of_a_signed_catalog_steers_a_terminal():
    def change(catalog):
        product = catalog["products"][0]
        product["title"] = HOSTILE
        release = product["releases"][-1]
        release |= {"label": HOSTILE, "notes": HOSTILE, "one_way_because": HOSTILE, "known_issues": [{"text": HOSTILE}]}
        release["recall"] = {"date": "2026-01-01T00:00:00Z", "reason": HOSTILE}
        catalog["terms"] = [{"version": "1", "text": HOSTILE}]
        catalog["bundles"][0] |= {"notes": HOSTILE, "name": HOSTILE}

    catalog, _ = look(*signed(change))
    texts = [text for text in _texts(msgspec.to_builtins(catalog)) if "[31m" in text]
    assert len(texts) == 9
    assert set(texts) == {"a[31mb]0;tcd e"}


def _texts(value):
    if isinstance(value, str):
        yield value
    for item in value.values() if isinstance(value, dict) else value if isinstance(value, (list, tuple)) else ():
        yield from _texts(item)


def test_a_text_of_a_catalog_has_an_end():
    catalog, _ = look(*signed(lambda c: c["products"][0].update(title="x" * 100_000)))
    assert len(catalog.products[0].title) == LONGEST_TEXT


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda c: c.update(serial=2**63), "serial"),
        (lambda c: c.update(serial=2**70), "not in the form"),
        (lambda c: c.update(serial=int(NOW.timestamp() * 1000)), "serial: no higher than"),
        (lambda c: c.update(issued="2027-11-25T00:00:00Z"), "is this host's clock right|yet to come"),
        (lambda c: c.update(issued="9999-12-31T23:59:59-14:00"), "issued: a time in the years"),
        (lambda c: c.update(expires="9999-12-31T23:59:59-14:00"), "expires: a time in the years"),
        (lambda c: c["products"][0]["releases"][0].update(released="0001-01-01T00:00:00+14:00"), "released: a time"),
        (lambda c: c["products"][0]["releases"][0]["packages"][0].update(bytes=2**63), "not in the form"),
    ],
)
def test_a_number_or_a_time_out_of_range_is_refused_with_a_sentence(change, words):
    with pytest.raises(Refused, match=words):
        look(*signed(change))


def test_after_the_highest_serial_that_is_taken_another_can_follow():
    highest = int((NOW - timedelta(days=1)).timestamp() * 1000)
    assert look(*signed(lambda c: c.update(serial=highest)))[0].serial == highest
    later = (NOW - timedelta(hours=1)).isoformat()
    assert look(*signed(lambda c: c.update(serial=highest + 1, issued=later)), serial=highest)[0].serial == highest + 1
