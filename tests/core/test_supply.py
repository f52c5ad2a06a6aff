"""What is installed is pinned, by its digest, and its licence is told."""

from __future__ import annotations

import re
from importlib.metadata import distributions, requires
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
PIN = re.compile(r"^([A-Za-z0-9._-]+)==(\S+)", re.MULTILINE)
TOOLS = {"pip", "setuptools", "gallant"}  # of the environment itself, and this


def plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def pins(file: str) -> dict[str, str]:
    return {plain(name): version for name, version in PIN.findall((ROOT / file).read_text())}


def test_everything_that_is_installed_is_pinned_to_its_version():
    installed = {plain(d.metadata["Name"]): d.version for d in distributions()}
    wrong = {n: v for n, v in installed.items() if n not in TOOLS and pins("constraints.txt").get(n) != v}
    assert wrong == {}


def test_the_lock_has_each_pin_with_the_digests_of_its_files():
    text = (ROOT / "requirements.lock").read_text()
    assert pins("requirements.lock") == pins("constraints.txt")
    for block in re.split(r"^(?=[A-Za-z0-9])", text, flags=re.MULTILINE)[1:]:
        assert re.search(r"--hash=sha256:[0-9a-f]{64}", block), block.splitlines()[0]
    assert "file://" not in text


def needed(name: str, known: set[str]) -> set[str]:
    for line in requires(name) or ():
        other = plain(re.match(r"[A-Za-z0-9._-]+", line)[0])
        if "extra ==" not in line and other not in known and other in pins("constraints.txt"):
            known.add(other)
            needed(other, known)
    return known


def test_the_licence_of_everything_that_it_needs_to_run_is_told():
    told = plain((ROOT / "docs" / "licences.md").read_text())
    assert [name for name in sorted(needed("gallant", set())) if name not in told] == []
