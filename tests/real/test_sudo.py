"""What the sudoers file allows, asked of sudo itself."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from gallant.drivers.debian import APT, APT_BACK, ARCHIVES, sudoers
from gallant.drivers.profile_reading import load_profile

from .conftest import needed

ALLOWED = (
    f"{APT} install bash=1:2.3~x",
    f"{APT} -d install bash=1 dash=2.0-1",
    f"{APT} -d --reinstall install bash=1 dash=2.0-1",
    f"{APT_BACK} install bash=1:2.3~x {ARCHIVES}dash_1%3a2.0-1_amd64.deb",
    "/usr/bin/apt-get -q update",
    "/usr/bin/dpkg --force-confdef --force-confold --configure -a",
    "/usr/bin/systemctl reboot --message=window",
    "/usr/bin/systemctl restart kissgate.service",
    "/usr/bin/tar -C / --one-file-system -cf - etc",
    "/usr/bin/tar -C / -cf - srv/manifest",
    f"{APT} install manifest-tools=1.2-1",
    "/usr/bin/manifest-tools install 2.5-1",
    "/usr/bin/manifest-ctl reload",
)
REFUSED = (
    f"{APT} install -o DPkg::Pre-Invoke::=sh bash=1",
    f"{APT} install ./own.deb",
    f"{APT} --reinstall install bash=1",
    f"{APT_BACK} install ./own.deb",
    f"{APT_BACK} install {ARCHIVES}../../../tmp/own.deb",
    f"{APT_BACK} install {ARCHIVES}own.deb -o DPkg::Pre-Invoke::=sh",
    f"{APT_BACK} remove bash",
    "/usr/bin/apt-get remove bash",
    "/usr/bin/dpkg --configure bash",
    "/usr/bin/dpkg -i own.deb",
    "/usr/bin/systemctl restart a b",
    "/usr/bin/systemctl edit ssh",
    "/usr/bin/tar -C / -cf - root",
    "/bin/sh -c id",
    "/usr/bin/manifest-tools install 2.5-1 --force",
    "/usr/bin/manifest-tools remove",
    "/usr/bin/manifest-ctl dump",
)


@pytest.fixture(scope="module")
def account():
    needed("sudo", "visudo", "useradd", "su")
    name = "gallant-trial"
    subprocess.run(["useradd", "--system", "--shell", "/bin/sh", name], check=False, capture_output=True)
    path = "/etc/sudoers.d/gallant-trial"
    tools = [Path("/usr/bin/manifest-tools"), Path("/usr/bin/manifest-ctl")]  # sudo allows only what is there
    for tool in tools:
        tool.write_text("#!/bin/sh\n")
        tool.chmod(0o755)
    with open(path, "w") as file:
        file.write(sudoers(name, load_profile("skerry-manifest", Path())))
    subprocess.run(["chmod", "440", path], check=True)
    yield name, path
    subprocess.run(["rm", path, *tools], check=True)
    subprocess.run(["userdel", name], check=True, capture_output=True)


def test_the_file_is_right_and_allows_its_commands_and_nothing_beside_them(account):
    name, path = account
    subprocess.run(["visudo", "-cf", path], check=True, capture_output=True)

    def allowed(command: str) -> bool:
        done = subprocess.run(["su", name, "-c", f"sudo -n -l {command}"], capture_output=True, check=False)
        return done.returncode == 0

    assert [c for c in ALLOWED if not allowed(c)] == []
    assert [c for c in REFUSED if allowed(c)] == []


@pytest.mark.parametrize("profile", ["debian-pair", "etcd-quorum", "postgresql-pair", "chorister-kissgate"])
def test_the_file_of_every_host_profile_is_right_and_says_what_sudo_cannot_hold(profile, tmp_path):
    needed("visudo")
    text = sudoers("gallant-trial", load_profile(profile, Path()))
    (tmp_path / "rules").write_text(text)
    subprocess.run(["visudo", "-cf", str(tmp_path / "rules")], check=True, capture_output=True)
    assert ("sudo cannot hold an account to it" in text) == (profile in ("etcd-quorum", "postgresql-pair"))
