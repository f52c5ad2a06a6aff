"""Two builds of one real package: what is installed here, packed
again under another version that it also tells when it runs."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

from .hosts import run

INFO = Path("/var/lib/dpkg/info")
SCRIPTS = ("preinst", "postinst", "prerm", "postrm", "templates", "config", "triggers", "conffiles")


def installed_version(package: str) -> str:
    return run("dpkg-query", "-W", "-f=${Version}", package)


def repacked(folder: Path, package: str, version: str, old: bytes, new: bytes) -> Path:
    """The installed package as a file with another version; its programs,
    which tell the `old` one in so many bytes, tell the `new`."""
    assert len(old) == len(new)
    tree, told = folder / f"{package}_tree", 0
    (tree / "DEBIAN").mkdir(parents=True)
    for line in run("dpkg-query", "-L", package).splitlines():
        source, target = Path(line), tree / line[1:]
        if source.is_dir() or not (source.is_symlink() or source.is_file()):
            continue  # a folder, or what stands for one where /lib is /usr/lib
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(source, target, follow_symlinks=False)
        if source.parent.name == "bin" and not source.is_symlink() and old in (held := source.read_bytes()):
            target.write_bytes(held.replace(old, new))
            told += 1
    assert told, f"no program of {package} says {old!r}"
    for script in SCRIPTS:
        source = next(
            (p for p in INFO.glob(f"{package}*.{script}") if p.name.split(":")[0].split(".")[0] == package), None
        )
        if source is not None:
            shutil.copy2(source, tree / "DEBIAN" / script)
    said = run("dpkg-query", "-s", package)
    said = re.sub(r"^(?:Status|Conffiles):.*\n(?: .*\n)*", "", said, flags=re.MULTILINE)
    said = re.sub(r"^Version:.*$", f"Version: {version}", said, flags=re.MULTILINE)
    (tree / "DEBIAN" / "control").write_text(said.rstrip("\n") + "\n")
    made = folder / f"{package}_{version}_amd64.deb"
    subprocess.run(
        ["dpkg-deb", "--root-owner-group", "-Zgzip", "-z1", "--build", str(tree), str(made)],
        check=True,
        capture_output=True,
    )
    shutil.rmtree(tree)
    return made
