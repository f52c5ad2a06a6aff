"""A backup comes back without Gallant: by age, zstd and tar alone, as docs/recovery.md says."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from gallant.vault.keys import new_identity

from ..vault.test_backups import CONTENT, archive_of, take
from .conftest import needed

DOCS = Path(__file__).parents[2] / "docs" / "recovery.md"


def commands(heading: str) -> str:
    """The indented commands under a heading of the document."""
    part = re.split(r"^## ", DOCS.read_text(), flags=re.M)
    text = next(p for p in part if p.startswith(heading))
    return "\n".join(line.strip() for line in text.splitlines() if line.startswith("    "))


def recovered(folder: Path) -> dict[str, bytes]:
    return {p.name: p.read_bytes() for p in (folder / "a").iterdir()}


def test_an_encrypted_backup_comes_back_by_the_commands_of_the_document(tmp_path):
    needed("age", "zstd", "tar")
    recipient = new_identity(tmp_path / "backups.key", None)
    backup = take(tmp_path, recipients=(recipient,))
    out = tmp_path / "out"
    out.mkdir()
    script = commands("With the identity").replace("BACKUP.tar.zst.age", str(archive_of(tmp_path, backup)))
    subprocess.run(["sh", "-ec", script.replace("backups.key", str(tmp_path / "backups.key"))], cwd=out, check=True)
    assert recovered(out) == CONTENT


def test_a_plain_backup_comes_back_by_the_commands_of_the_document(tmp_path):
    needed("zstd", "tar")
    backup = take(tmp_path, recipients=())
    out = tmp_path / "out"
    out.mkdir()
    script = commands("A plain one").replace("BACKUP.tar.zst", str(archive_of(tmp_path, backup)))
    subprocess.run(["sh", "-ec", script], cwd=out, check=True)
    assert recovered(out) == CONTENT


def test_a_wrapped_identity_is_one_that_age_knows(tmp_path):
    needed("age", "script")
    recipient = new_identity(tmp_path / "backups.key", "correct horse")
    done = subprocess.run(
        ["script", "-qec", f"age -d {tmp_path}/backups.key > {tmp_path}/clear", "/dev/null"],
        input=b"correct horse\n",
        capture_output=True,
        check=False,
        timeout=60,
    )
    assert done.returncode == 0, done.stdout
    assert f"# recipient: {recipient}" in (tmp_path / "clear").read_text()
