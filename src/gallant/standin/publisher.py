"""A publisher's server: a signed catalog and the packages that it lists, with ranges and entity tags.

The releases below are those of the invented storage product that the demo updates. Dates are days before today.
"""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TypeAlias

from aiohttp import web
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from gallant.core.records import rfc3339
from gallant.standin.publishers import LEDGE, body_of, package_name, product_entries
from gallant.standin.shoal import MIB, Image
from gallant.standin.world import World

SIGNED_PREFIX = b"gallant-catalog-v1\0"
PRODUCT = "ostrel/shoal"

# version, train, days old, severity, security, from_range, bridge, minutes (install, restart, sync), MiB, label, notes
Row: TypeAlias = tuple[str, str, int, str, bool, str | None, bool, tuple[int, int, int], int, str, str]
RELEASES: tuple[Row, ...] = (
    (
        "2.8.3",
        "2.8",
        690,
        "medium",
        False,
        None,
        False,
        (8, 5, 4),
        3,
        "Shoal 2.8 third",
        "First release whose volumes are exported apart.",
    ),
    (
        "2.8.5",
        "2.8",
        540,
        "medium",
        False,
        None,
        False,
        (8, 5, 4),
        3,
        "Shoal 2.8 fifth",
        "Last release of the 2.8 train.",
    ),
    (
        "2.11.1",
        "2.11",
        420,
        "medium",
        False,
        "vers:dotted/>=2.8.3",
        False,
        (8, 5, 4),
        4,
        "Shoal 2.11 first",
        "New replica format.",
    ),
    (
        "2.11.2",
        "2.11",
        330,
        "high",
        True,
        "vers:dotted/>=2.8.3",
        False,
        (8, 5, 4),
        4,
        "Shoal 2.11 second",
        "Closes a hole in the login.",
    ),
    (
        "2.11.3",
        "2.11",
        300,
        "high",
        True,
        "vers:dotted/>=2.8.3",
        True,
        (8, 5, 4),
        4,
        "Shoal 2.11 third",
        "Replaces 2.11.2. The way to 3.2 leads through this release.",
    ),
    (
        "3.2.1",
        "3.2",
        210,
        "medium",
        False,
        "vers:dotted/>=2.11.3",
        False,
        (9, 6, 4),
        5,
        "Shoal 3.2 first",
        "First release of the 3.2 train.",
    ),
    (
        "3.2.4",
        "3.2",
        120,
        "high",
        True,
        "vers:dotted/>=2.11.3",
        False,
        (9, 6, 4),
        5,
        "Shoal 3.2 fourth",
        "Closes a hole in the web console.",
    ),
    ("3.2.6", "3.2", 6, "low", False, "vers:dotted/>=2.11.3", False, (9, 6, 4), 5, "Shoal 3.2 sixth", "Small repairs."),
)
RECALLED = {"2.11.2": (310, "a node that restarts under load may lose its replica map", 'gauges."replica paths" < `2`')}
TERMS = ("2026-04", "Shoal 3.2 and later may be run on machines that Ostrel sold. It comes as it is; keep a backup.")
# What else is to be said of a release, in the catalog's own fields.
MORE: dict[str, dict[str, object]] = {
    "2.11.3": {
        "known_issues": [
            {
                "text": "After the restart an alarm about the fan tray stands for two minutes, then clears by itself.",
                "severity": "low",
            }
        ]
    },
    "3.2.1": {"terms": TERMS[0]},
    "3.2.4": {
        "terms": TERMS[0],
        "settings": [
            {
                "name": "console idle limit",
                "default": "20 min",
                "text": "whoever does nothing at the web console is logged out",
            },
        ],
        "fresh_install": "vers:dotted/>=2.8.3",
        "known_issues": [
            {
                "text": "A replica over a single path is not found again after the restart.",
                "when": 'gauges."replica paths" < `2`',
                "severity": "high",
            },
            {
                "text": (
                    "Expanders older than 1.7 count their own restart as a lost path; the count is right again after"
                    " ten minutes."
                ),
                "when": "components.expander.version == '1.6'",
                "severity": "low",
            },
        ],
    },
    "3.2.6": {"terms": TERMS[0]},
}
EXPANDER = ("ostrel/shoal-expander", "1.6", 600)
ROOTS = ("ostrel/roots", (("2025.2", 500), ("2026.1", 90)))
MINI = "ostrel/shoal-mini"
MINI_SUPPORT_DAYS = 60
# version, days old, severity, security, from_range, more
MINI_RELEASES: tuple[tuple[str, int, str, bool, str | None, dict[str, object]], ...] = (
    ("1.4.2", 640, "medium", False, None, {"support_ends": ""}),
    ("1.4.7", 380, "critical", True, None, {}),
    (
        "1.5.0",
        130,
        "medium",
        False,
        "vers:dotted/>=1.4.7",
        {
            "one_way": True,
            "one_way_because": "The on-disk format is raised at the first start.",
        },
    ),
)


def package_bytes(version: str, mib: int) -> bytes:
    return random.Random(f"{PRODUCT} {version}").randbytes(mib * MIB)


class Publisher:
    """One publisher: its key, its catalog as served, and the bytes of its packages."""

    def __init__(self, now: datetime, whole: bool = False) -> None:
        """`whole`: with the products that only the whole line runs."""
        self.key = Ed25519PrivateKey.generate()
        self.now = now
        self.more = product_entries(now, LEDGE) if whole else []
        self.serial = 41
        self.packages = {f"shoal-{row[0]}.pkg": package_bytes(row[0], row[8]) for row in RELEASES}
        self.packages |= {f"shoal-mini-{row[0]}.pkg": package_bytes(f"mini {row[0]}", 1) for row in MINI_RELEASES}
        self.packages |= {f"roots-{version}.tab": package_bytes(f"roots {version}", 1) for version, _ in ROOTS[1]}
        if whole:
            self.packages |= {
                package_name(p, row[0]): body_of(p, row[0]) for p, (_, rows) in LEDGE.items() for row in rows
            }
        self.publish(self.catalog())

    @property
    def public_text(self) -> str:
        raw = self.key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
        return "ed25519:" + raw.hex()

    def root_lists(self) -> dict[str, str]:
        """The lists of trusted roots by their digest."""
        names = {version: f"roots-{version}.tab" for version, _ in ROOTS[1]}
        return {hashlib.sha256(self.packages[name]).hexdigest(): version for version, name in names.items()}

    def mini_images(self) -> dict[str, Image]:
        found = {}
        for version, _, _, _, from_range, _ in MINI_RELEASES:
            body = self.packages[f"shoal-mini-{version}.pkg"]
            found[version] = Image(
                version=version,
                build=_build(f"mini {version}"),
                label=f"Mini {version}",
                sha256=hashlib.sha256(body).hexdigest(),
                bytes=len(body),
                install_s=600.0,
                restart_s=360.0,
                sync_s=0.0,
                from_range=from_range,
            )
        return found

    def images(self) -> dict[str, Image]:
        found = {}
        for version, _, _, _, _, from_range, _, minutes, _, label, _ in RELEASES:
            body = self.packages[f"shoal-{version}.pkg"]
            found[version] = Image(
                version=version,
                build=_build(version),
                label=label,
                sha256=hashlib.sha256(body).hexdigest(),
                bytes=len(body),
                install_s=minutes[0] * 60.0,
                restart_s=minutes[1] * 60.0,
                sync_s=minutes[2] * 60.0,
                from_range=from_range,
            )
        return found

    def catalog(self) -> dict[str, object]:
        releases = [self._release(row) for row in RELEASES]
        expander = {
            "version": EXPANDER[1],
            "released": rfc3339(self.now - timedelta(days=EXPANDER[2])),
            "severity": "low",
        }
        return {
            "schema": "gallant.catalog/1",
            "publisher": "ostrel",
            "serial": self.serial,
            "issued": rfc3339(self.now - timedelta(days=1)),
            "expires": rfc3339(self.now + timedelta(days=400)),
            "products": [
                {"name": PRODUCT, "title": "Shoal storage", "scheme": "dotted", "releases": releases},
                {"name": EXPANDER[0], "title": "Shoal drive expander", "scheme": "dotted", "releases": [expander]},
                {"name": ROOTS[0], "title": "Trusted roots", "scheme": "dotted", "releases": self._roots()},
                {"name": MINI, "title": "Shoal mini", "scheme": "dotted", "releases": self._mini()},
                *self.more,
            ],
            "bundles": [
                {
                    "name": "2026 autumn",
                    "released": rfc3339(self.now - timedelta(days=100)),
                    "versions": {PRODUCT: "3.2.4", EXPANDER[0]: EXPANDER[1]},
                    "optional": {ROOTS[0]: "2026.1"},
                    "notes": "Tested together by Ostrel.",
                }
            ],
            "terms": [{"version": TERMS[0], "text": TERMS[1]}],
        }

    def _release(self, row: Row) -> dict[str, object]:
        version, train, days, severity, security, from_range, bridge, minutes, _, label, notes = row
        recalled = RECALLED.get(version)
        recall = recalled and {
            "date": rfc3339(self.now - timedelta(days=recalled[0])),
            "reason": recalled[1],
            "when": recalled[2],
        }
        return {
            "version": version,
            "build": _build(version),
            "label": label,
            "train": train,
            "released": rfc3339(self.now - timedelta(days=days)),
            "severity": severity,
            "security": security,
            "from_range": from_range,
            "bridge": bridge,
            "restart": "node",
            "notes": notes,
            "minutes": dict(zip(("install", "restart", "sync"), minutes, strict=True)),
            "packages": [_package(f"shoal-{version}.pkg", self.packages[f"shoal-{version}.pkg"])],
            "recall": recall,
            **MORE.get(version, {}),
        }

    def _roots(self) -> list[dict[str, object]]:
        return [
            {
                "version": version,
                "released": rfc3339(self.now - timedelta(days=days)),
                "severity": "medium",
                "restart": "none",
                "minutes": {"install": 1, "restart": 0, "sync": 0},
                "packages": [_package(f"roots-{version}.tab", self.packages[f"roots-{version}.tab"])],
            }
            for version, days in ROOTS[1]
        ]

    def _mini(self) -> list[dict[str, object]]:
        made = []
        for version, days, severity, security, from_range, more in MINI_RELEASES:
            extra = dict(more)
            if "support_ends" in extra:
                extra["support_ends"] = rfc3339(self.now + timedelta(days=MINI_SUPPORT_DAYS))
            made.append(
                {
                    "version": version,
                    "build": _build(f"mini {version}"),
                    "label": f"Mini {version}",
                    "released": rfc3339(self.now - timedelta(days=days)),
                    "severity": severity,
                    "security": security,
                    "from_range": from_range,
                    "minutes": {"install": 10, "restart": 6, "sync": 0},
                    "packages": [_package(f"shoal-mini-{version}.pkg", self.packages[f"shoal-mini-{version}.pkg"])],
                    **extra,
                }
            )
        return made

    def publish(self, catalog: dict[str, object]) -> None:
        self.raw = json.dumps(catalog, indent=1).encode()
        self.signature = self.key.sign(SIGNED_PREFIX + self.raw)

    def app(self, world: World | None = None, more: Sequence[web.RouteDef] = ()) -> web.Application:
        async def catalog(request: web.Request) -> web.StreamResponse:
            tag = f'"{hashlib.sha256(self.raw).hexdigest()[:16]}"'
            if request.headers.get("If-None-Match") == tag:
                return web.Response(status=304, headers={"ETag": tag})
            return web.Response(body=self.raw, content_type="application/json", headers={"ETag": tag})

        async def signature(request: web.Request) -> web.StreamResponse:
            return web.Response(text=f"{self.signature.hex()} {self.public_text}\n")

        async def package(request: web.Request) -> web.StreamResponse:
            return _send(request, self.packages.get(request.match_info["name"]), world)

        app = web.Application()
        app.add_routes(
            [
                web.get("/catalog.json", catalog),
                web.get("/catalog.json.sig", signature),
                web.get("/packages/{name}", package),
                *more,
            ]
        )
        return app


def _package(name: str, body: bytes) -> dict[str, object]:
    digest = hashlib.sha256(body).hexdigest()
    return {"name": name, "url": f"packages/{name}", "bytes": len(body), "sha256": digest, "kind": "installer"}


def _build(version: str) -> str:
    return f"{int(hashlib.sha256(version.encode()).hexdigest()[:6], 16) % 90000 + 10000}"


def _send(request: web.Request, body: bytes | None, world: World | None) -> web.StreamResponse:
    """A file with its entity tag, from the byte that a Range asks for."""
    if body is None:
        raise web.HTTPNotFound
    tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
    start = 0
    if request.headers.get("If-Range", tag) == tag and request.http_range.start:
        start = request.http_range.start
    if world is not None and world.fault("corrupt_package", "publisher"):
        body = body[:-1] + bytes([body[-1] ^ 1])
    if start >= len(body):
        raise web.HTTPRequestRangeNotSatisfiable
    headers = {"ETag": tag, "Accept-Ranges": "bytes"}
    if start:
        headers["Content-Range"] = f"bytes {start}-{len(body) - 1}/{len(body)}"
    return web.Response(
        status=206 if start else 200, body=body[start:], headers=headers, content_type="application/octet-stream"
    )
