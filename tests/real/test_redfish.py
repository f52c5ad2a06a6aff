"""A Redfish service that nobody here wrote: what it lists is read without a profile, kept, and compared."""

from __future__ import annotations

import json
import os
import ssl
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import bcrypt
import pytest

from gallant.standin.ports import reserve
from tests.conftest import Place

from .conftest import needed

SERIAL = "da69abcc-dae0-4913-9a7b-d344043097c0"
SETTINGS = """
SUSHY_EMULATOR_FAKE_DRIVER = True
SUSHY_EMULATOR_AUTH_FILE = {folder!r} + '/accounts'
SUSHY_EMULATOR_STATE_DIR = {folder!r}
SUSHY_EMULATOR_FAKE_SYSTEMS = [
    {{'uuid': {serial!r}, 'name': 'deck-1', 'power_state': 'On', 'nics': [{{'mac': '00:5c:52:31:3a:9c', 'ip': '127.0.0.9'}}]}},
]
"""
ESTATE = """
gallant: estate/1
name: hall
sites: {{hall: {{}}}}
backups: {{plain: yes}}
accounts: {{read: {{user: reader, secret: "env:WORD"}}, act: {{user: reader, secret: "env:WORD"}}}}
systems:
  deck:
    product: deck/server
    shape: single
    site: hall
    driver: redfish
    nodes: {{a: {{address: "https://127.0.0.1:{port}", ca: server.pem, serial: {serial}}}}}
"""


@dataclass
class Deck:
    """The estate's folder, and the service as somebody else reaches it."""

    place: Place
    port: int

    def well(self, *words: str):
        done = self.place.run(*words, WORD="s3cret-word")
        assert done.code == 0, done.out + done.err
        return done

    def ask(self, method: str, path: str, body: object = None) -> None:
        context = ssl.create_default_context(cafile=str(self.place.folder / "server.pem"))
        passwords = urllib.request.HTTPPasswordMgrWithPriorAuth()
        url = f"https://127.0.0.1:{self.port}"
        passwords.add_password(None, url, "reader", "s3cret-word", is_authenticated=True)
        opener = urllib.request.build_opener(
            urllib.request.HTTPBasicAuthHandler(passwords), urllib.request.HTTPSHandler(context=context)
        )
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            url + path, method=method, data=data, headers={"Content-Type": "application/json"}
        )
        opener.open(request, timeout=5).close()

    def up(self) -> bool:
        try:
            self.ask("GET", "/redfish/v1/Systems")
        except urllib.error.HTTPError:
            raise
        except OSError:
            return False
        return True


@pytest.fixture
def deck(tmp_path) -> Iterator[Deck]:
    needed("openssl")
    make = "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout key.pem -out server.pem -days 2 -subj /CN=127.0.0.1 -addext subjectAltName=IP:127.0.0.1"
    subprocess.run(["openssl", *make.split()], cwd=tmp_path, check=True, capture_output=True)
    keeper, port = reserve("127.0.0.1")
    keeper.close()
    (tmp_path / "accounts").write_text(f"reader:{bcrypt.hashpw(b's3cret-word', bcrypt.gensalt(4)).decode()}\n")
    (tmp_path / "settings.py").write_text(SETTINGS.format(folder=str(tmp_path), serial=SERIAL))
    (tmp_path / "estate.yaml").write_text(ESTATE.format(port=port, serial=SERIAL))
    service = subprocess.Popen(
        [
            str(Path(sys.executable).with_name("sushy-emulator")), "--config", "settings.py", "-i", "127.0.0.1", "-p", str(port),
            "--ssl-certificate", "server.pem", "--ssl-key", "key.pem",
        ],
        cwd=tmp_path,
        env={**os.environ, "TMPDIR": str(tmp_path)},
        stdout=(tmp_path / "service.log").open("w"),
        stderr=subprocess.STDOUT,
    )  # fmt: skip
    found = Deck(Place(tmp_path), port)
    try:
        end = time.monotonic() + 20
        while not found.up():
            assert time.monotonic() < end, (tmp_path / "service.log").read_text()
            time.sleep(0.05)
        yield found
    finally:
        service.terminate()
        service.wait(10)


def test_a_server_is_read_without_a_profile_and_what_its_service_lacks_is_told(deck):
    deck.well("survey")
    row = next(r for r in deck.well("inventory", "--json").rows if r["component"] == "image")
    assert (row["version"], row["state"], row["role"]) == ("1.00", "in_service", "alone")
    checked = deck.place.run("check", "--all", "--json", WORD="s3cret-word")
    odd = [r["message"] for r in checked.rows if r["check"] == "oddities"]
    assert any("no sessions" in words for words in odd)
    assert any("spells HealthRollup as HealthRollUp" in words for words in odd)
    assert not any(r["level"] == "stop" for r in checked.rows)
    wrong = deck.place.run("survey", WORD="another-word")
    assert wrong.code == 3
    assert "another-word" not in wrong.out + wrong.err


def test_its_settings_are_kept_and_what_was_changed_at_its_own_page_is_seen(deck):
    deck.well("survey")
    deck.well("backup", "take", "deck")
    deck.ask("PATCH", f"/redfish/v1/Systems/{SERIAL}", {"Boot": {"BootSourceOverrideTarget": "Pxe"}})
    deck.well("backup", "take", "deck")
    newest, before = (row["id"] for row in deck.well("backup", "list", "--json").rows)
    seen = deck.place.run("backup", "diff", before, newest)
    assert '"BootSourceOverrideTarget": "Hdd"' in seen.out
    assert '"BootSourceOverrideTarget": "Pxe"' in seen.out
    assert "1 item differs, 0 the same" in seen.out
