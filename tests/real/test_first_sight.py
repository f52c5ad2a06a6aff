"""A host of which the estate names neither profile nor serial:
read by what any has, held to what it was at first sight."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

ESTATE = """
gallant: estate/1
name: t
sites: {{s: {{}}}}
accounts: {{read: {{user: root, secret: "key:user"}}}}
systems:
  host: {{product: t/host, shape: single, site: s, driver: {driver}, nodes: {{a: {{address: "ssh://127.0.0.1:{port}"}}}}}}
"""


def gallant(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "gallant", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
        timeout=60,
        check=False,
    )


@pytest.fixture(params=["shell", pytest.param("debian", marks=pytest.mark.long)])
def host(sshd, tmp_path, request):
    server = sshd()
    (tmp_path / "user").chmod(0o600)
    (tmp_path / "estate.yaml").write_text(ESTATE.format(port=server.port, driver=request.param))
    return tmp_path


def test_a_host_without_profile_and_serial_is_read_and_held_to_what_it_was(host):
    assert gallant(host, "survey").returncode == 3  # its host key is not known
    without = gallant(host, "survey", "--learn-keys")
    assert without.returncode == 2
    assert "--yes" in without.stderr
    first = gallant(host, "survey", "--learn-keys", "--yes")
    assert first.returncode == 0, first.stderr
    serial = json.loads(gallant(host, "inventory", "--json").stdout)
    assert serial["rows"]
    assert (host / "known_nodes").read_text().count("host/a\t") == 2  # seen, then confirmed
    assert "nobody has confirmed" not in gallant(host, "survey").stdout


@pytest.mark.parametrize("host", ["shell"], indirect=True)  # which reads less than all packages
def test_a_serial_that_nobody_confirmed_is_said_until_somebody_does(host):
    gallant(host, "survey", "--learn-keys", "--yes")
    (host / "known_nodes").write_text("")  # as a person takes its lines out
    again = gallant(host, "survey")
    assert again.returncode == 0, again.stderr
    assert "host/a is held to the serial of the first sight; nobody has confirmed it." in again.stdout
    assert "gallant survey --learn-keys" in again.stdout
    found = json.loads(gallant(host, "check", "--json").stdout)["rows"]
    assert next(f["level"] for f in found if f["check"] == "known-by-sight") == "warn"
    gallant(host, "survey", "--learn-keys", "--yes")
    found = json.loads(gallant(host, "check", "--json").stdout)["rows"]
    assert not [f for f in found if f["check"] == "known-by-sight"]


def test_another_machine_at_the_address_is_refused_then(host):
    gallant(host, "survey", "--learn-keys", "--yes")
    known = host / "known_nodes"
    serial = known.read_text().split("\t")[1]
    known.write_text(known.read_text().replace(serial, "somebody-elses"))
    other = gallant(host, "survey")
    assert other.returncode == 5
    assert "when it was first seen it was somebody-elses" in other.stdout


def test_the_estates_word_comes_before_the_first_sight(host):
    gallant(host, "survey", "--learn-keys", "--yes")
    text = (host / "estate.yaml").read_text()
    (host / "estate.yaml").write_text(text.replace('}"}}', "").replace('", serial', '", serial'))
    (host / "estate.yaml").write_text(text.replace('"}}}', '", serial: elses}}}'))
    other = gallant(host, "survey")
    assert other.returncode == 5
    assert "the estate says elses" in other.stdout


def test_a_host_writes_itself_into_a_new_estate(sshd, tmp_path):
    server = sshd()
    (tmp_path / "user").chmod(0o600)
    new = tmp_path / "mine"
    assert gallant(tmp_path, "init", "mine").returncode == 0
    host = f"ssh://127.0.0.1:{server.port}"
    words = ("add", host, "--as", "web", "--user", "root", "--secret", "key:../user")
    refused = gallant(new, *words)
    assert refused.returncode == 5
    assert server.fingerprint in refused.stderr  # with the line that pins it
    added = gallant(new, *words, "--pin", server.fingerprint)
    assert added.returncode == 0, added.stderr
    assert "by the profile debian" in added.stdout
    survey = gallant(new, "survey", "web")
    assert survey.returncode == 0, survey.stdout + survey.stderr
    assert len(json.loads(gallant(new, "inventory", "--json").stdout)["rows"]) > 20


def test_a_host_that_is_no_debian_one_is_read_as_any_linux(sshd, tmp_path):
    server = sshd()
    (tmp_path / "user").chmod(0o600)
    assert gallant(tmp_path, "init", "mine").returncode == 0
    words = ("add", f"ssh://127.0.0.1:{server.port}", "--as", "web", "--user", "root", "--secret", "key:../user")
    added = gallant(tmp_path / "mine", *words, "--driver", "shell", "--pin", server.fingerprint)
    assert added.returncode == 0, added.stderr
    assert "by the profile linux" in added.stdout
    assert gallant(tmp_path / "mine", "survey").returncode == 0
