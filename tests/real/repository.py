"""A signed repository of small packages, as a site has one."""

from __future__ import annotations

import subprocess
from pathlib import Path


def package(
    folder: Path,
    name: str,
    version: str,
    more: str = "",
    files: dict[str, str] | None = None,
    postinst: str = "",
    tools: dict[str, str] | None = None,
) -> None:
    """A small package in the pool; its files are conffiles, its tools programs in /usr/bin."""
    tree = folder / f"{name}_{version}"
    (tree / "DEBIAN").mkdir(parents=True)
    (tree / "DEBIAN" / "control").write_text(
        f"Package: {name}\nVersion: {version}\nArchitecture: all\nMaintainer: Skerry Line <nobody@skerry.invalid>\nDescription: {name}\n{more}"
    )
    for tool, text in (tools or {}).items():
        (tree / "usr" / "bin").mkdir(parents=True, exist_ok=True)
        (tree / "usr" / "bin" / tool).write_text(f"#!/bin/sh\nset -e\n{text}")
        (tree / "usr" / "bin" / tool).chmod(0o755)
    for path, text in (files or {}).items():
        (tree / path).parent.mkdir(parents=True, exist_ok=True)
        (tree / path).write_text(text)
    if files:
        (tree / "DEBIAN" / "conffiles").write_text("".join(f"/{path}\n" for path in files))
    if postinst:
        script = tree / "DEBIAN" / "postinst"
        script.write_text(f"#!/bin/sh\n{postinst}\n")
        script.chmod(0o755)
    pool = folder / "repo" / "pool"
    pool.mkdir(parents=True, exist_ok=True)
    subprocess.run(
        ["dpkg-deb", "--root-owner-group", "-Znone", "--build", str(tree), str(pool / f"{name}_{version}_all.deb")],
        check=True,
        capture_output=True,
    )


def signed(folder: Path) -> None:
    """Sign the folder's pool as the repository `repo` next to its key, `site.gpg`."""
    repo, home = folder / "repo", folder / "gpg"
    home.mkdir(mode=0o700, exist_ok=True)
    gpg = ["gpg", "--homedir", str(home), "--batch", "--yes", "--passphrase", ""]
    if not (folder / "site.gpg").exists():
        subprocess.run(
            [*gpg, "--quick-gen-key", "site@skerry.invalid", "ed25519", "sign"], check=True, capture_output=True
        )
        (folder / "site.gpg").write_bytes(subprocess.run([*gpg, "--export"], check=True, capture_output=True).stdout)
    lists = repo / "dists" / "site" / "main" / "binary-amd64"
    lists.mkdir(parents=True, exist_ok=True)
    listed = subprocess.run(["apt-ftparchive", "packages", "pool"], cwd=repo, check=True, capture_output=True).stdout
    (lists / "Packages").write_bytes(listed)
    options = [
        f"-oAPT::FTPArchive::Release::{k}={v}"
        for k, v in (("Suite", "site"), ("Codename", "site"), ("Components", "main"), ("Architectures", "amd64"))
    ]
    (repo / "dists" / "site" / "Release").unlink(missing_ok=True)
    said = subprocess.run(
        ["apt-ftparchive", *options, "release", "dists/site"], cwd=repo, check=True, capture_output=True
    )
    (repo / "dists" / "site" / "Release").write_bytes(said.stdout)
    signed = subprocess.run(
        [*gpg, "--clearsign", "-o", "-", str(repo / "dists" / "site" / "Release")], check=True, capture_output=True
    )
    (repo / "dists" / "site" / "InRelease").write_bytes(signed.stdout)
