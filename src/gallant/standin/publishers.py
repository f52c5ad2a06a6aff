"""The other publishers of the line: a signed catalog each, their packages, and a channel of Debian packages."""

from __future__ import annotations

import gzip
import hashlib
import json
import random
from datetime import datetime, timedelta
from email.utils import format_datetime
from typing import Any

from aiohttp import web
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from gallant.core.records import rfc3339

SIGNED_PREFIX = b"gallant-catalog-v1\0"
PACKAGE_BYTES = 40 * 1024

# product → title, and its releases: version, days old, severity, security, restart, more.
Row = tuple[str, int, str, bool, str, dict[str, Any]]  # more: as a catalog's JSON has it
PRODUCTS: dict[str, tuple[str, tuple[Row, ...]]] = {
    "tarnholt/weir": (
        "Weir switches",
        (
            ("61.2", 610, "medium", False, "node", {"label": "Weir Ebb"}),
            ("61.5", 240, "high", True, "node", {"label": "Weir Slack"}),
            (
                "62.1",
                70,
                "medium",
                False,
                "node",
                {
                    "label": "Weir Flood",
                    "from_range": "vers:dotted/>=61.5",
                    "requires": [{"product": "sundholm/overlook", "range": "vers:dotted/>=17.6"}],
                },
            ),
        ),
    ),
    "tarnholt/uplink": (
        "Weir uplinks",
        (("4.2", 500, "low", False, "node", {}), ("4.4", 130, "low", False, "node", {})),
    ),
    "tarnholt/power": ("Weir power supplies", (("1.1", 800, "low", False, "none", {}),)),
    "sundholm/overlook": (
        "Overlook manager",
        (("17.4", 400, "medium", False, "service", {}), ("17.6", 95, "high", True, "service", {})),
    ),
    "sundholm/berth": (
        "Berth hosts",
        (
            ("31.2", 420, "medium", False, "node", {}),
            (
                "31.2.1",
                200,
                "medium",
                False,
                "node",
                {"recall": {"date": -190, "reason": "guests may stop when their host takes on a third"}},
            ),
            ("31.5", 90, "high", True, "node", {}),
        ),
    ),
    "quernix/q4": (
        "Q4 servers",
        (("2026.1", 300, "medium", False, "node", {}), ("2026.3", 45, "medium", False, "node", {})),
    ),
    "quernix/q4-bios": (
        "Q4 BIOS",
        (("0.46", 300, "medium", False, "node", {}), ("0.51", 60, "high", True, "node", {})),
    ),
    "quernix/q4-controller": (
        "Q4 controller",
        (("3.1", 300, "medium", False, "none", {}), ("3.2", 50, "critical", True, "none", {})),
    ),
    "quernix/n25": (
        "N25 network card",
        (("5.16", 320, "low", False, "node", {}), ("5.20", 100, "medium", False, "node", {})),
    ),
    "quernix/d3": ("D3 drive", (("3.7", 500, "low", False, "node", {}),)),
    "quernix/q4-enclosure": ("Q4 drive enclosure", (("4.0", 700, "low", False, "node", {}),)),
    "skerry/host": (
        "Linux hosts, as the line itself builds them",
        (("6.3", 200, "low", False, "node", {}), ("6.4", 20, "low", False, "node", {})),
    ),
    "chorister/lanes": (
        "Kissgate lanes",
        (("3.0", 150, "low", False, "service", {}), ("3.1", 60, "low", False, "service", {})),
    ),
    "chorister/scanner": (
        "Kissgate scanner",
        (
            ("2.2", 150, "low", False, "service", {}),
            (
                "2.4",
                55,
                "medium",
                False,
                "service",
                {"requires": [{"product": "chorister/lanes", "range": "vers:dotted/>=3.1"}]},
            ),
        ),
    ),
    "gorsefield/stile": (
        "Stile firewalls",
        (
            ("38.1b", 260, "medium", False, "node", {}),
            ("38.1k", 80, "critical", True, "node", {}),
            ("38.2", 40, "low", False, "node", {}),
        ),
    ),
}
LEDGE: dict[str, tuple[str, tuple[Row, ...]]] = {
    "ostrel/ledge": (
        "Ledge archive",
        (("4.8", 380, "medium", False, "node", {}), ("5.1", 75, "medium", False, "node", {})),
    ),
    "ostrel/ledge-format": (
        "Ledge format",
        (
            ("3", 380, "low", False, "none", {}),
            (
                "4",
                75,
                "low",
                False,
                "none",
                {
                    "one_way": True,
                    "one_way_because": "The index is written anew; 4.8 cannot read it.",
                    "requires": [{"product": "ostrel/ledge", "range": "vers:dotted/>=5.1"}],
                },
            ),
        ),
    ),
    "ostrel/ledge-collector": (
        "Ledge collector",
        (("4.1", 380, "low", False, "service", {}), ("4.2", 75, "low", False, "service", {})),
    ),
}
# What the channel of packages has: package, version, security.
DEBS = (
    ("line-base", "3.2-4"),
    ("line-libs", "0.28-9"),
    ("line-login", "1:5.6-2+l3"),
    ("linux", "74.2-3"),
    ("linux", "74.2-5"),
    ("manifest", "2.4-2"),
    ("manifest", "2.5-1"),
    ("manifest-db", "0.9-3"),
    ("manifest-tools", "1.1-1"),
    ("manifest-tools", "1.2-1"),
    ("kissgate", "1.2-1"),
    ("kissgate", "1.3-1"),
    ("kissgate-lanes", "3.0-1"),
)


def body_of(product: str, version: str) -> bytes:
    """A package's bytes; the device that takes it knows the same."""
    return random.Random(f"{product} {version}").randbytes(PACKAGE_BYTES)


def package_name(product: str, version: str) -> str:
    kept = "".join(c if c.isalnum() or c in ".-" else "_" for c in version)
    return f"{product.partition('/')[2]}-{kept}.pkg"


def product_entries(now: datetime, products: dict[str, tuple[str, tuple[Row, ...]]]) -> list[dict[str, object]]:
    """Products as a catalog lists them."""
    return [
        {"name": name, "title": title, "scheme": "dotted", "releases": [_release(now, name, row) for row in rows]}
        for name, (title, rows) in products.items()
    ]


def _release(now: datetime, product: str, row: Row) -> dict[str, object]:
    version, days, severity, security, restart, more = row
    body, more = body_of(product, version), dict(more)
    if "recall" in more:
        more["recall"] = {**more["recall"], "date": rfc3339(now + timedelta(days=more["recall"]["date"]))}
    return {
        "version": version,
        "build": str(int(hashlib.sha256(f"{product} {version}".encode()).hexdigest()[:6], 16) % 90000 + 10000),
        "released": rfc3339(now - timedelta(days=days)),
        "severity": severity,
        "security": security,
        "restart": restart,
        "minutes": {"install": 6, "restart": 6 if restart == "node" else 0, "sync": 0},
        "packages": [
            {
                "name": package_name(product, version),
                "url": f"packages/{package_name(product, version)}",
                "bytes": len(body),
                "sha256": hashlib.sha256(body).hexdigest(),
                "kind": "installer",
            }
        ],
        **more,
    }


class Others:
    """Every publisher but the first: `keys` by name, and the routes of their servers."""

    def __init__(self, now: datetime) -> None:
        self.now = now
        self.names = sorted({product.partition("/")[0] for product in PRODUCTS})
        self.raw: dict[str, bytes] = {}
        self.signatures: dict[str, str] = {}
        self.keys: dict[str, str] = {}
        self.bodies: dict[tuple[str, str], bytes] = {}
        for name in self.names:
            self._publish(name)
        self.debs = self._channel()

    def _publish(self, name: str) -> None:
        key = Ed25519PrivateKey.generate()
        public = key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
        products = {product: said for product, said in PRODUCTS.items() if product.startswith(f"{name}/")}
        catalog = {
            "schema": "gallant.catalog/1",
            "publisher": name,
            "serial": 7,
            "issued": rfc3339(self.now - timedelta(days=1)),
            "expires": rfc3339(self.now + timedelta(days=400)),
            "products": product_entries(self.now, products),
        }
        self.raw[name] = json.dumps(catalog, indent=1).encode()
        self.keys[name] = f"ed25519:{public.hex()}"
        self.signatures[name] = f"{key.sign(SIGNED_PREFIX + self.raw[name]).hex()} {self.keys[name]}\n"
        for product, (_, rows) in products.items():
            for row in rows:
                self.bodies[name, package_name(product, row[0])] = body_of(product, row[0])

    def _channel(self) -> dict[str, bytes]:
        """A channel of Debian packages with its signed Release, by path."""
        from pysequoia import SignatureMode, Tsk, sign

        owner = Tsk.generate("Skerry Line <packages@skerry.invalid>")
        self.keys["debian"] = str(owner.extract_certificate())
        stanzas = "".join(
            f"Package: {name}\nVersion: {version}\nArchitecture: amd64\nFilename:"
            f" pool/{name}_{version.replace(':', '%3a')}_amd64.deb\nSize: {PACKAGE_BYTES}\nSHA256:"
            f" {hashlib.sha256(body_of(name, version)).hexdigest()}\nDescription: {name}\n\n"
            for name, version in DEBS
        ).encode()
        packed = gzip.compress(stanzas, mtime=0)
        listed = [
            f" {hashlib.sha256(raw).hexdigest()} {len(raw)} main/binary-amd64/Packages{form}"
            for form, raw in (("", stanzas), (".gz", packed))
        ]
        fields = {
            "Suite": "neaptide",
            "Codename": "neaptide",
            "Date": format_datetime(self.now - timedelta(days=2)),
            "Valid-Until": format_datetime(self.now + timedelta(days=90)),
            "SHA256": "\n" + "\n".join(listed),
        }
        release = "".join(f"{key}: {value}\n" for key, value in fields.items()).encode()
        found = {
            "dists/neaptide/InRelease": sign(owner.signer(), release, mode=SignatureMode.CLEAR),
            "dists/neaptide/main/binary-amd64/Packages.gz": packed,
        }
        for name, version in DEBS:
            found[f"pool/{name}_{version.replace(':', '%3a')}_amd64.deb"] = body_of(name, version)
        return found

    def routes(self) -> list[web.RouteDef]:
        async def catalog(request: web.Request) -> web.StreamResponse:
            raw = self.raw.get(request.match_info["publisher"])
            if raw is None:
                raise web.HTTPNotFound
            tag = f'"{hashlib.sha256(raw).hexdigest()[:16]}"'
            if request.headers.get("If-None-Match") == tag:
                return web.Response(status=304, headers={"ETag": tag})
            return web.Response(body=raw, content_type="application/json", headers={"ETag": tag})

        async def signature(request: web.Request) -> web.StreamResponse:
            return web.Response(text=self.signatures[request.match_info["publisher"]])

        async def package(request: web.Request) -> web.StreamResponse:
            body = self.bodies.get((request.match_info["publisher"], request.match_info["name"]))
            if body is None:
                raise web.HTTPNotFound
            return web.Response(body=body, content_type="application/octet-stream")

        async def deb(request: web.Request) -> web.StreamResponse:
            body = self.debs.get(request.match_info["path"])
            if body is None:
                raise web.HTTPNotFound
            return web.Response(body=body, content_type="application/octet-stream")

        return [
            web.get("/debian/{path:.+}", deb),
            web.get("/{publisher}/catalog.json", catalog),
            web.get("/{publisher}/catalog.json.sig", signature),
            web.get("/{publisher}/packages/{name}", package),
        ]
