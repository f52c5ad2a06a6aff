"""Channels of Debian packages: signed Release, verified indexes, and every way in which one can be wrong."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import lzma
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest
from pysequoia import SignatureMode, Tsk, sign

from gallant.catalogs.apt import LARGEST, read_channel
from gallant.catalogs.fetch import NotThere, SourceAnswer
from gallant.catalogs.trust import key_fingerprint, openpgp_key
from gallant.core.errors import Refused, Unreached, WrongUse
from gallant.core.estate.sources import AptChannel, parse_channel

NOW = datetime(2026, 11, 25, tzinfo=UTC)
OWNER, STRANGER = Tsk.generate("Skerry <debs@skerry.example>"), Tsk.generate("Nobody <n@n.example>")
CHANNEL = parse_channel("deb https://deb.skerry.example/debian stable main extra")
assert CHANNEL is not None


def stanza(name: str, version: str, **more: str) -> str:
    fields = {
        "Package": name,
        "Version": version,
        "Architecture": "amd64",
        "Filename": f"pool/{name}_{version.replace(':', '%3a')}_amd64.deb",
        "Size": "1000",
        "SHA256": hashlib.sha256(f"{name}{version}".encode()).hexdigest(),
        "Description": "a thing\n with a longer text",
        **more,
    }
    return "".join(f"{k}: {v}\n" for k, v in fields.items() if v) + "\n"


MAIN = (stanza("kissgate", "2.4-1") + stanza("linux-image-amd64", "74.2-5") + stanza("odd", "1:2.0~rc1-1")).encode()


class Mirror:
    """A channel as its server has it: `files` by path below the URL."""

    def __init__(
        self, owner: Tsk = OWNER, forms: tuple[str, ...] = (".xz", ".gz"), by_hash: bool = True, **fields: str
    ) -> None:
        self.asked: list[str] = []
        self.files: dict[str, bytes] = {}
        packers = {".xz": lzma.compress, ".gz": gzip.compress, "": lambda raw: raw}
        listed = []
        for component, raw in (("main", MAIN), ("extra", stanza("kissgate", "2.4-1").encode())):
            for form in ("", *forms):
                path, body = f"{component}/binary-amd64/Packages{form}", packers[form](raw)
                digest = hashlib.sha256(body).hexdigest()
                listed.append(f" {digest} {len(body)} {path}")
                if form in forms:
                    self.files[f"dists/stable/{path}"] = body
                    if by_hash:
                        self.files[f"dists/stable/{component}/binary-amd64/by-hash/SHA256/{digest}"] = body
        self.fields = {
            "Suite": "stable",
            "Codename": "cormorant",
            "Date": format_datetime(NOW - timedelta(days=2)),
            "Valid-Until": format_datetime(NOW + timedelta(days=7)),
            "Acquire-By-Hash": "yes" if by_hash else "",
            "SHA256": "\n" + "\n".join(listed),
            **{k.replace("_", "-"): v for k, v in fields.items()},
        }
        self.sign(owner)

    @property
    def release(self) -> bytes:
        return "".join(f"{k}: {v}\n" for k, v in self.fields.items() if v).encode()

    def sign(self, owner: Tsk, detached: bool = False) -> None:
        for name in ("InRelease", "Release", "Release.gpg"):
            self.files.pop(f"dists/stable/{name}", None)
        if detached:
            self.files["dists/stable/Release"] = self.release
            signature = sign(owner.signer(), self.release, mode=SignatureMode.DETACHED)
            self.files["dists/stable/Release.gpg"] = signature
        else:
            self.files["dists/stable/InRelease"] = sign(owner.signer(), self.release, mode=SignatureMode.CLEAR)

    async def get(self, url: str, limit: int, tag: str | None) -> SourceAnswer:
        path = url.removeprefix("https://deb.skerry.example/debian/")
        self.asked.append(path)
        if path not in self.files:
            raise NotThere(f"{url} is not there.")
        found = f'"{hashlib.sha256(self.files[path]).hexdigest()[:8]}"'
        return SourceAnswer(raw=None if tag == found else self.files[path][: limit + 1], tag=found)


KEY = openpgp_key(str(OWNER.extract_certificate()).encode())


def read(
    mirror: Mirror, channel: AptChannel = CHANNEL, key: str = KEY, serial: int = 0, known=None, tag: str | None = None
):
    return asyncio.run(read_channel("debs", channel, key, mirror.get, NOW, serial, known or {}, tag))


@pytest.mark.parametrize("forms", [(".xz", ".gz"), (".gz",), ("",)])
@pytest.mark.parametrize("by_hash", [True, False])
@pytest.mark.parametrize("detached", [True, False])
def test_a_channel_is_read_in_each_of_its_forms(forms, by_hash, detached):
    mirror = Mirror(forms=forms, by_hash=by_hash)
    mirror.sign(OWNER, detached)
    found = read(mirror)
    assert {p.name: [r.version for r in p.releases] for p in found.catalog.products} == {
        "deb/linux-image-amd64": ["74.2-5"],
        "deb/odd": ["1:2.0~rc1-1"],
        "deb/kissgate": ["2.4-1"],
    }
    assert found.catalog.serial == int((NOW - timedelta(days=2)).timestamp())
    assert found.catalog.expires == NOW + timedelta(days=7)
    assert found.left_out == 0
    assert any("by-hash" in path for path in mirror.asked) == by_hash
    kernel = next(p for p in found.catalog.products if p.name.startswith("deb/linux"))
    assert (kernel.releases[0].restart, kernel.releases[0].packages[0].url[:5]) == ("node", "pool/")


def test_an_index_that_is_gone_from_by_hash_is_fetched_by_its_name():
    mirror = Mirror()
    mirror.files = {path: raw for path, raw in mirror.files.items() if "by-hash" not in path}
    assert len(read(mirror).catalog.products) == 3


def test_a_package_keeps_the_day_on_which_it_was_first_seen():
    seen = NOW - timedelta(days=40)
    found = read(Mirror(), known={"deb/kissgate 2.4-1": seen})
    days = {p.name: p.releases[0].released for p in found.catalog.products}
    assert days["deb/kissgate"] == seen
    assert days["deb/odd"] == NOW - timedelta(days=2)


def test_a_security_channel_marks_its_packages():
    mirror = Mirror(Suite="stable-security")
    channel = parse_channel("deb https://deb.skerry.example/debian stable main")
    mirror.fields["Codename"] = "stable"
    mirror.sign(OWNER)
    release = read(mirror, channel).catalog.products[0].releases[0]
    assert (release.security, release.severity) == (True, "high")


def test_a_channel_that_has_not_changed_is_not_read_again():
    mirror = Mirror()
    assert read(mirror, tag=read(mirror).tag) is None


def without(field: str):
    def change(mirror: Mirror) -> None:
        mirror.fields[field] = ""
        mirror.sign(OWNER)

    return change


def alter(path: str, body: bytes):
    return lambda mirror: mirror.files.update(
        {p: body for p in mirror.files if path in p or ("by-hash" in p and path.startswith("main"))}
    )


REFUSED = [
    (lambda m: m.sign(STRANGER), {}, "signature of the channel debs does not fit"),
    (lambda m: m.sign(STRANGER, detached=True), {}, "signature of the channel debs does not fit"),
    (
        lambda m: m.files.update(
            {"dists/stable/InRelease": m.files["dists/stable/InRelease"].replace(b"cormorant", b"gannet")}
        ),
        {},
        "does not fit",
    ),
    (lambda m: m.files.update({"dists/stable/InRelease": m.files["dists/stable/InRelease"][:-60]}), {}, "does not fit"),
    (lambda m: m.files.update({"dists/stable/InRelease": m.release}), {}, "does not fit"),
    (lambda m: m.files.update({"dists/stable/InRelease": b""}), {}, "does not fit"),
    (lambda m: (m.sign(OWNER, True), m.files.pop("dists/stable/Release.gpg")), {}, "not signed"),
    (lambda m: None, {"serial": int(NOW.timestamp())}, "never taken back"),
    (
        lambda m: (m.fields.update({"Valid-Until": format_datetime(NOW - timedelta(hours=1))}), m.sign(OWNER)),
        {},
        "expired on 2026-11-24",
    ),
    (
        lambda m: (m.fields.update({"Suite": "old", "Codename": "gannet"}), m.sign(OWNER)),
        {},
        "answers as gannet or old",
    ),
    (lambda m: (m.fields.update({"Date": "one day"}), m.sign(OWNER)), {}, "not in form"),
    (
        lambda m: (m.fields.update({"Date": "Wed, 02 Jan 1901 00:00:00 UTC"}), m.sign(OWNER)),
        {},
        "not in form: date: a time in the years 1970 to 9000",
    ),
    (
        lambda m: (m.fields.update({"Valid-Until": "Fri, 31 Dec 9999 00:00:00 UTC"}), m.sign(OWNER)),
        {},
        "not in form: valid_until: a time in the years 1970 to 9000",
    ),
    (without("Date"), {}, "has no Date"),
    (without("SHA256"), {}, "has no Sha256"),
    (alter("main/binary-amd64/Packages", b"x"), {}, "not the one that its Release vouches for"),
    (
        lambda m: None,
        {"channel": parse_channel("deb https://deb.skerry.example/debian stable main nosuch")},
        "has no nosuch",
    ),
    (
        lambda m: None,
        {"channel": parse_channel("deb [arch=arm64] https://deb.skerry.example/debian stable main")},
        "for arm64",
    ),
]


@pytest.mark.parametrize(("change", "given", "said"), REFUSED, ids=[f"{n}-{r[2][:24]}" for n, r in enumerate(REFUSED)])
def test_each_way_in_which_a_channel_can_be_wrong_is_refused_in_its_own_words(change, given, said):
    mirror = Mirror()
    change(mirror)
    with pytest.raises(Refused, match=said):
        read(mirror, **given)


def test_an_index_that_unpacks_to_more_than_release_says_is_refused():
    mirror = Mirror(forms=(".gz",))
    bomb = gzip.compress(bytes(50_000_000))
    lines = [line for line in mirror.fields["SHA256"].splitlines() if "Packages.gz" not in line]
    digest = hashlib.sha256(bomb).hexdigest()
    mirror.fields["SHA256"] = "\n".join([*lines, f" {digest} {len(bomb)} main/binary-amd64/Packages.gz"])
    mirror.files[f"dists/stable/main/binary-amd64/by-hash/SHA256/{digest}"] = bomb
    mirror.sign(OWNER)
    with pytest.raises(Refused, match="unpacks to more than"):
        read(mirror, parse_channel("deb https://deb.skerry.example/debian stable main"))
    mirror.fields["SHA256"] = f"\n {digest} {LARGEST + 1} main/binary-amd64/Packages.gz"
    mirror.sign(OWNER)
    with pytest.raises(Refused, match="larger than 64 MiB"):
        read(mirror)


def test_entries_that_are_not_in_form_are_counted_and_left_out():
    global MAIN
    before = MAIN
    odd = stanza("a", "no version!") + stanza("b", "1", Size="many") + stanza("c", "1", SHA256="zz") + stanza("", "1")
    odd += (
        stanza("UPPER CASE", "1") + stanza("../up", "1") + "Just: a line\n\n: \n\n continued\n\n" + stanza("good", "2")
    )
    try:
        MAIN = odd.encode() + b"\xff\xfe\n"
        found = read(Mirror())
    finally:
        MAIN = before
    assert [p.name for p in found.catalog.products] == ["deb/good", "deb/kissgate"]
    assert found.left_out >= 6


def test_a_key_of_the_wrong_kind_says_what_is_wanted():
    with pytest.raises(WrongUse, match="key of another kind"):
        read(Mirror(), key="ed25519:" + "0" * 64)
    for raw in (b"", b"hello", b"-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nzz\n"):
        with pytest.raises(WrongUse, match="no OpenPGP certificate"):
            openpgp_key(raw)
    assert openpgp_key(KEY.encode()) == KEY
    assert len(key_fingerprint(KEY).replace(" ", "")) == 40


def test_a_channel_that_does_not_answer_is_unreached():
    mirror = Mirror()
    mirror.files.clear()
    with pytest.raises(Unreached):
        read(mirror)


CHANNELS = [
    "deb http://x/y",
    "deb x stable main",
    "deb ftp://x/y stable main",
    "deb http://u:p@x/y stable main",
    "deb http://x/y stable",
    "deb http://x/y ./ main",
    "deb http://x/y ../up main",
    "deb [arch=amd64 http://x/y stable main",
    "deb [arch=amd64,arm64] http://x/y stable main",
    "deb [trusted=yes] http://x/y stable main",
]


@pytest.mark.parametrize("text", CHANNELS)
def test_what_is_no_channel_is_refused(text):
    with pytest.raises(ValueError, match="channel|address|name|suite"):
        parse_channel(text)


def test_a_channel_is_written_as_it_was_read():
    for text in ("deb [arch=arm64] https://x/y/ stable main extra", "deb [arch=amd64] http://x/flat/ ./"):
        channel = parse_channel(text)
        assert parse_channel(channel.text) == channel
    assert parse_channel("deb [signed-by=/k.asc] http://x/y stable main").arch == "amd64"
    assert parse_channel("https://x/catalog.json") is None


@pytest.mark.parametrize(
    "date",
    [
        "Mon, 01 Jan 9998 00:00:00 UTC",
        "Fri, 31 Dec 9999 23:59:59 -1400",
        "no day at all",
        "Thu, 26 Nov 2099 00:00:00 UTC",
    ],
)
def test_a_channel_of_a_day_that_cannot_be_is_refused_with_a_sentence(date):
    with pytest.raises(Refused, match="not in form|yet to come"):
        read(Mirror(Date=date))


def test_the_words_of_a_channel_steer_no_terminal():
    with pytest.raises(Refused) as refused:
        read(Mirror(Suite="a\x1b[31mb", Codename="c\x9bd"))
    assert "answers as a[31mb or cd" in refused.value.what
