"""Sources of catalogs as people have them: carried on a medium,
behind a proxy, under a CA, a pin or an account, channels."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import shutil
import threading
import urllib.request
from email.utils import format_datetime

import pytest
from aiohttp import web
from pysequoia import SignatureMode, Tsk, sign

from gallant.standin.certificates import self_signed
from gallant.standin.ports import bound, reserve

ADDRESS = "127.0.60.10"


class Server:
    """Files over http or https, on a thread of its own; remembers what was asked and with which headers."""

    def __init__(self, files: dict[str, bytes], account: str | None = None, tls: bool = False) -> None:
        self.files, self.account, self.asked = files, account, []
        keeper, self.port = reserve(ADDRESS)
        self.kept, self.context, self.fingerprint, self.pem = keeper, None, "", b""
        if tls:
            self.context, self.fingerprint, self.pem = self_signed("publisher", ADDRESS)
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        asyncio.run_coroutine_threadsafe(self._start(), self.loop).result(10)

    async def _start(self) -> None:
        app = web.Application()
        app.add_routes([web.route("*", "/{path:.*}", self._answer)])
        self.runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.2)
        await self.runner.setup()
        await web.SockSite(self.runner, bound(ADDRESS, self.port), ssl_context=self.context).start()

    async def _answer(self, request: web.Request) -> web.StreamResponse:
        self.asked.append((str(request.url), request.headers.get("Authorization")))
        if self.account and request.headers.get("Authorization") != self.account:
            return web.Response(status=401)
        body = self.files.get(request.path)
        return web.Response(body=body) if body is not None else web.Response(status=404)

    @property
    def url(self) -> str:
        return f"{'https' if self.context else 'http'}://{ADDRESS}:{self.port}"

    def stop(self) -> None:
        asyncio.run_coroutine_threadsafe(self.runner.cleanup(), self.loop).result(10)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(10)
        self.loop.close()


@pytest.fixture
def serve():
    servers = []

    def make(*args, **more) -> Server:
        servers.append(Server(*args, **more))
        return servers[-1]

    yield make
    for server in servers:
        server.stop()


@pytest.fixture
def files(place) -> dict[str, bytes]:
    """The demo publisher's catalog, signature and packages, as files."""
    base = place.said["publisher"]["url"].removesuffix("/catalog.json")
    found = {}
    for name in ("/catalog.json", "/catalog.json.sig"):
        with urllib.request.urlopen(base + name, timeout=10) as answer:
            found[name] = answer.read()
    for product in json.loads(found["/catalog.json"])["products"]:
        for package in (p for r in product["releases"] for p in r.get("packages", [])):
            with urllib.request.urlopen(f"{base}/{package['url']}", timeout=10) as answer:
                found[f"/{package['url']}"] = answer.read()
    return found


def carry(folder, files) -> None:
    for name, body in files.items():
        path = folder / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(body)


@pytest.mark.parametrize("form", ["folder", *(pytest.param(form, marks=pytest.mark.long) for form in ("zip", "gztar"))])
def test_a_catalog_and_its_packages_come_from_a_medium_when_the_publisher_is_out_of_reach(place, files, tmp_path, form):
    carry(tmp_path / "usb" / "ostrel", files)
    medium = tmp_path / "usb" / "ostrel"
    if form != "folder":
        medium = shutil.make_archive(str(tmp_path / "carried"), form, tmp_path / "usb")
    place.run("survey")
    assert place.run("catalog", "test", str(medium), "--key", "keys/ostrel.pub").code == 0
    added = place.run("catalog", "add", "ostrel", str(medium), "--key", "keys/ostrel.pub")
    assert added.code == 0, added.err
    assert place.run("catalog", "sync", "--json").rows[0]["releases"] == 14
    fetched = place.run("stock", "fetch", "tickets", "--json")
    assert (fetched.code, {r["state"] for r in fetched.rows}) == (0, {"fetched"})
    if form == "folder":
        (medium / "packages" / "shoal-3.2.4.pkg").write_bytes(b"other")
        shutil.rmtree(place.folder / "stock")
        altered = place.run("stock", "fetch", "tickets", "--json")
        assert altered.code == 5
        assert "altered on the way" in altered.rows[0]["error"]
    shutil.rmtree(tmp_path / "usb")
    for path in tmp_path.glob("carried*"):
        path.unlink()
    gone = place.run("catalog", "sync")
    assert gone.code == 3
    assert "Is the medium there?" in gone.out
    assert place.run("gaps").code == 1  # the last good one stays in use


def test_a_proxy_is_used_where_one_is_set_and_only_there(place, files, serve):
    proxy = serve(files)
    add = ("catalog", "add", "ostrel", "http://updates.ostrel.example/catalog.json", "--key", "keys/ostrel.pub")
    assert place.run(*add, "--proxy", proxy.url).code == 0
    assert place.run("catalog", "sync").code == 0
    assert all(url.startswith("http://updates.ostrel.example/") for url, _ in proxy.asked)
    place.run("survey")
    assert place.run("stock", "fetch", "tickets").code == 0
    assert any("shoal-3.2.4.pkg" in url for url, _ in proxy.asked)
    assert place.run(*add, "--proxy", "http://a:b@x:1").code == 2
    assert place.run(*add).code == 0
    asked = len(proxy.asked)
    assert place.run("catalog", "sync", http_proxy=proxy.url, HTTP_PROXY=proxy.url).code == 3
    assert len(proxy.asked) == asked


def test_a_certificate_is_held_against_a_ca_or_a_pin_and_verification_is_never_off(place, files, serve):
    server = serve(files, tls=True)
    add = ("catalog", "add", "ostrel", f"{server.url}/catalog.json", "--key", "keys/ostrel.pub")
    assert place.run(*add).code == 0
    strange = place.run("catalog", "sync")
    assert strange.code == 3
    assert "a certificate that is not trusted" in strange.out
    assert not server.asked
    (place.folder / "publisher.pem").write_bytes(server.pem)
    assert place.run(*add, "--ca", "publisher.pem").code == 0
    assert place.run("catalog", "sync").code == 0
    assert place.run(*add, "--pin", server.fingerprint).code == 0
    assert place.run("catalog", "sync").code == 0
    assert place.run("catalog", "test", "ostrel").code == 0
    assert place.run(*add, "--pin", "sha256:" + "0" * 64).code == 0
    other = place.run("catalog", "sync")
    assert other.code == 3
    assert "another certificate than the one that is pinned" in other.out
    assert place.run(*add, "--pin", "sha256:zz").code == 2
    assert place.run(*add, "--pin", server.fingerprint, "--ca", "publisher.pem").code == 2


def test_an_account_is_used_over_https_alone_and_its_secret_is_shown_nowhere(place, files, serve):
    basic = "Basic " + base64.b64encode(b"skerry:hush-hush-1").decode()
    server = serve(files, account=basic, tls=True)
    plain = serve(files)
    who = ("--user", "skerry", "--secret", "env:PUBLISHER_SECRET")
    source = f"{server.url}/catalog.json"
    clear = place.run(
        "catalog", "add", "o", f"{plain.url}/catalog.json", "--key", "keys/ostrel.pub", *who, PUBLISHER_SECRET="x"
    )
    assert clear.code == 2
    assert "never sent in clear" in clear.err
    add = ("catalog", "add", "ostrel", source, "--key", "keys/ostrel.pub", "--pin", server.fingerprint)
    assert place.run(*add, *who).code == 2  # the secret is not to be had
    assert place.run(*add, "--user", "skerry").code == 2
    assert place.run(*add, *who, PUBLISHER_SECRET="hush-hush-1").code == 0
    outputs = [place.run("catalog", "sync", "--json", PUBLISHER_SECRET="hush-hush-1")]
    assert outputs[0].code == 0
    wrong = place.run("catalog", "sync", PUBLISHER_SECRET="wrong-wrong-1")
    assert wrong.code == 3
    assert "does not let us in" in wrong.out
    outputs += [wrong, place.run("catalog", "list", "--json"), place.run("catalog", "list")]
    said = "".join(o.out + o.err for o in outputs)
    assert "hush-hush-1" not in said
    assert "wrong-wrong-1" not in said
    assert b"hush-hush-1" not in (place.folder / "state" / "readings.db").read_bytes()


def test_what_is_new_recalled_and_gone_since_the_last_sync_is_said(place):
    folder = place.folder / "own"
    folder.mkdir()

    def publish(*releases: str, recalled: str = "") -> None:
        rows = "\n".join(
            f"      - {{version: '{v}', released: 2026-01-01T00:00:00Z"
            + (", recall: {date: 2026-11-01T00:00:00Z, reason: it stops}" if v == recalled else "")
            + "}"
            for v in releases
        )
        (folder / "draft.yaml").write_text(
            f"publisher: own\nproducts:\n  - name: own/gauge\n    scheme: dotted\n    releases:\n{rows}\n"
        )
        into = ("--into", "own/catalog.json")
        assert place.run("catalog", "draft", "own/draft.yaml", *into).code == 0
        new = ("--new-key",) if not (folder / "k.pem").exists() else ()
        signed = place.run("catalog", "sign", "own/catalog.json", "--key", "own/k.pem", *new, "--json")
        assert signed.code == 0, signed.err
        (folder / "k.pub").write_text(signed.rows[0]["key"])

    publish("1.0", "1.1", "1.2")
    assert place.run("catalog", "add", "own", "own", "--key", "own/k.pub").code == 0
    first = place.run("catalog", "sync", "--json").rows[0]
    assert (first["new"], first["recalled"], first["gone"]) == ([], [], [])
    publish("1.1", "1.2", "1.3", recalled="1.2")
    second = place.run("catalog", "sync", "--json").rows[0]
    assert (second["new"], second["recalled"], second["gone"]) == (
        ["own/gauge 1.3"],
        ["own/gauge 1.2"],
        ["own/gauge 1.0"],
    )
    assert place.run("catalog", "sync", "--json").rows[0]["new"] == []
    listed = place.run("catalog", "list")
    assert "recalled in the last sync that changed it: own/gauge 1.2" in listed.out
    assert "1.3 • new" in place.run("catalog", "show", "own/gauge").out


# --- channels


def channel_folder(folder, owner: Tsk, version: str, now) -> None:
    """A repository of one package, signed."""
    body = f"package {version}".encode()
    (folder / "pool").mkdir(parents=True, exist_ok=True)
    (folder / "pool" / f"kissgate_{version}_amd64.deb").write_bytes(body)
    packages = (
        f"Package: kissgate\nVersion: {version}\nArchitecture: amd64\nFilename: pool/kissgate_{version}_amd64.deb\n"
        f"Size: {len(body)}\nSHA256: {hashlib.sha256(body).hexdigest()}\n\n"
    ).encode()
    index = folder / "dists" / "stable" / "main" / "binary-amd64"
    index.mkdir(parents=True, exist_ok=True)
    (index / "Packages").write_bytes(packages)
    digest = hashlib.sha256(packages).hexdigest()
    release = (
        f"Suite: stable\nDate: {format_datetime(now)}\nSHA256:\n {digest} {len(packages)} main/binary-amd64/Packages\n"
    )
    signed = sign(owner.signer(), release.encode(), mode=SignatureMode.CLEAR)
    (folder / "dists" / "stable" / "InRelease").write_bytes(signed)


def test_a_channel_of_packages_is_followed_like_any_catalog(place, tmp_path):
    from datetime import UTC, datetime, timedelta

    owner, stranger = Tsk.generate("Skerry"), Tsk.generate("Nobody")
    now = datetime.now(UTC)
    channel_folder(tmp_path / "debs", owner, "2.4-1", now - timedelta(days=3))
    (tmp_path / "debs.asc").write_text(str(owner.extract_certificate()))
    line = f"deb file://{tmp_path}/debs stable main"
    assert place.run("catalog", "test", line).code == 1
    tried = place.run("catalog", "test", line, "--key", str(tmp_path / "debs.asc"), "--json")
    assert tried.code == 0, tried.out
    added = place.run("catalog", "add", "debs", line, "--key", str(tmp_path / "debs.asc"))
    assert added.code == 0, added.err
    fingerprint = str(owner.extract_certificate().fingerprint).upper()
    assert fingerprint.lower() in added.out.replace(" ", "").lower()
    assert place.run("catalog", "sync", "--json").rows[0]["state"] == "reachable"
    assert place.run("catalog", "show", "deb/kissgate", "--json").rows[0]["version"] == "2.4-1"
    channel_folder(tmp_path / "debs", owner, "2.5-1", now - timedelta(days=1))
    assert place.run("catalog", "sync", "--json").rows[0]["new"] == ["deb/kissgate 2.5-1"]
    channel_folder(tmp_path / "debs", owner, "2.4-1", now - timedelta(days=2))
    back = place.run("catalog", "sync", "--json")
    assert (back.code, back.rows[0]["state"]) == (5, "unauthenticated")
    assert "never taken back" in back.rows[0]["problem"]
    channel_folder(tmp_path / "debs", stranger, "9.9-1", now)
    assert place.run("catalog", "sync", "--json").rows[0]["state"] == "unauthenticated"
    assert place.run("catalog", "show", "deb/kissgate", "--json").rows[0]["version"] == "2.5-1"
    shutil.rmtree(tmp_path / "debs")
    gone = place.run("catalog", "sync", "--json")
    assert (gone.code, gone.rows[0]["state"]) == (3, "unreachable")


def test_a_channel_is_not_followed_under_a_key_of_another_kind(place, tmp_path):
    refused = place.run("catalog", "add", "debs", "deb http://x/y stable main", "--key", "keys/ostrel.pub")
    assert (refused.code, "signed with OpenPGP" in refused.err) == (5, True)
    assert place.run("catalog", "list", "--json").rows == []
    assert (
        place.run("catalog", "add", "d", "deb [trusted=yes] http://x/y stable main", "--key", "keys/ostrel.pub").code
        == 2
    )
