"""Catalogs that are carried on a medium: folders and archives, good ones and hostile ones."""

from __future__ import annotations

import io
import tarfile
import zipfile
from pathlib import Path

import pytest
import zstandard

from gallant.catalogs.fetch import beside, beside_it, check_source
from gallant.catalogs.medium import local_source, opened
from gallant.core.errors import GallantError, Refused, WrongUse

FILES = {
    "ostrel/catalog.json": b'{"a": 1}',
    "ostrel/catalog.json.sig": b"sig",
    "ostrel/packages/p.pkg": b"package" * 1000,
    "ostrel/packages/old/catalog.json": b"deeper",
}


def tar(path: Path, files: dict[str, bytes], mode: str, odd: list[tarfile.TarInfo] = []) -> Path:  # noqa: B006
    plain = io.BytesIO()
    with tarfile.open(fileobj=plain, mode="w" if mode == "zst" else f"w:{mode}") as archive:
        for info in odd:
            archive.addfile(info)
        for name, body in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(body)
            archive.addfile(info, io.BytesIO(body))
    raw = plain.getvalue()
    path.write_bytes(zstandard.ZstdCompressor().compress(raw) if mode == "zst" else raw)
    return path


def made(folder: Path, form: str, files: dict[str, bytes] = FILES) -> Path:
    if form == "zip":
        path = folder / "carried.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, body in files.items():
                archive.writestr(name, body)
        return path
    return tar(folder / (f"carried.tar.{form}" if form else "carried.tar"), files, form)


def read(url: str) -> bytes:
    with opened(url) as file:
        return file.read()


@pytest.mark.parametrize("form", ["", "gz", "xz", "bz2", "zst", "zip"])
def test_a_catalog_its_signature_and_its_packages_are_read_out_of_an_archive_without_unpacking(tmp_path, form):
    source = local_source(made(tmp_path, form))
    assert read(source) == FILES["ostrel/catalog.json"]
    assert read(beside_it(source, ".sig")) == b"sig"
    assert read(beside(source, "packages/p.pkg")) == FILES["ostrel/packages/p.pkg"]
    assert sorted(p.name for p in tmp_path.iterdir()) == [made(tmp_path, form).name]
    with pytest.raises(GallantError, match="holds no ostrel/packages/q.pkg"):
        read(beside(source, "packages/q.pkg"))


def test_a_folder_is_a_source_and_so_is_the_file_in_it(tmp_path):
    for name, body in FILES.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(body)
    source = check_source(str(tmp_path / "ostrel"))
    assert source == check_source(str(tmp_path / "ostrel" / "catalog.json")) == check_source(source)
    assert read(beside(source, "packages/p.pkg")) == FILES["ostrel/packages/p.pkg"]


@pytest.mark.parametrize(
    "url", ["../x", "/etc/passwd", "file:///etc/passwd", "packages/../../x", "%2e%2e/x", "a/../../b"]
)
def test_a_carried_catalog_names_nothing_that_is_not_beside_it(tmp_path, url):
    (tmp_path / "catalog.json").write_text("{}")
    for source in (local_source(tmp_path), local_source(made(tmp_path, "gz"))):
        with pytest.raises(Refused, match="not next to it"):
            beside(source, url)


def test_a_link_that_leads_out_of_a_carried_folder_is_not_followed(tmp_path):
    (tmp_path / "medium").mkdir()
    (tmp_path / "medium" / "catalog.json").write_text("{}")
    (tmp_path / "secret").write_text("s")
    (tmp_path / "medium" / "p.pkg").symlink_to(tmp_path / "secret")
    with pytest.raises(Refused, match="leads out of the folder"):
        beside(local_source(tmp_path / "medium"), "p.pkg")


@pytest.mark.parametrize("url", ["file:///etc/passwd", "ftp://x/y", "data:,x"])
def test_a_catalog_from_the_network_names_only_places_in_the_network(url):
    with pytest.raises(Refused, match="no say over files of this machine"):
        beside("https://updates.example/catalog.json", url)
    assert beside("https://u.example/a/catalog.json", "p/q.pkg") == "https://u.example/a/p/q.pkg"


def test_links_in_an_archive_are_not_followed(tmp_path):
    link = tarfile.TarInfo("catalog.json")
    link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
    hard = tarfile.TarInfo("deep/catalog.json")
    hard.type, hard.linkname = tarfile.LNKTYPE, "/etc/passwd"
    path = tar(tmp_path / "odd.tar", {}, "", [link, hard])
    with pytest.raises(WrongUse, match="holds no catalog.json"):
        local_source(path)


def test_an_archive_with_two_catalogs_side_by_side_or_with_none_is_no_source(tmp_path):
    with pytest.raises(WrongUse, match="2 files named"):
        local_source(made(tmp_path, "zip", {"a/catalog.json": b"", "b/catalog.json": b""}))
    with pytest.raises(WrongUse, match="holds no catalog.json"):
        local_source(made(tmp_path, "gz", {"a/x": b""}))
    with pytest.raises(WrongUse, match="is not there"):
        local_source(tmp_path / "nothing.tar")


@pytest.mark.parametrize("form", ["gz", "xz", "zst", "zip", ""])
def test_a_damaged_archive_is_refused_and_never_a_traceback(tmp_path, form):
    whole = made(tmp_path, form)
    source, raw = local_source(whole), whole.read_bytes()
    for damage in (raw[: len(raw) // 2], b"", bytes(200), raw[:20] + bytes(len(raw) - 20)):
        whole.write_bytes(damage)
        for look, right in (
            (lambda: read(source), FILES["ostrel/catalog.json"]),
            (lambda: local_source(whole), source),
        ):
            assert outcome(look) in (right, "refused")  # what comes before the damage is whole


def outcome(look):
    try:
        return look()
    except GallantError:
        return "refused"


@pytest.mark.parametrize("text", ["", " ", "ftp://x/y", "https://", "https://u:p@x/y", "/nowhere/at/all"])
def test_what_is_no_source_is_refused(text):
    with pytest.raises(WrongUse):
        check_source(text)
