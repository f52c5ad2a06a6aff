"""A profile that is being written, tried on a machine: what of it is of no use as it is is said."""

from __future__ import annotations

from importlib import resources

OWN = (resources.files("gallant.drivers") / "profiles" / "ostrel-shoal.yaml").read_text("utf-8")


def tried(place, text: str):
    (place.folder / "mine.yaml").write_text(text)
    node = place.said["nodes"]["tickets/a"]
    return place.run(
        "survey", "--profile", "mine.yaml", "--address", node["address"], "--pin", node["fingerprint"],
        "--user", "gallant-read", "--secret", "file:secrets/read", "--json",
    )  # fmt: skip


def test_a_trial_warns_of_what_is_not_taken_and_of_what_cannot_be_compared(place):
    good = tried(place, OWN)
    assert good.code == 0, good.err
    assert good.json["warnings"] == []
    bare = OWN.replace("        state: condition\n", "").replace(
        "version: release\n", "version: \"join('', ['FW-', release])\"\n", 1
    )
    without = tried(place, bare)
    assert without.code == 0, without.err
    said = without.json["warnings"]
    assert any(w.startswith("state is not taken") for w in said)
    assert any(w.startswith("version FW-2.8.5: only as text") and "trim:" in w for w in said)
    trimmed = tried(place, bare.replace("states:\n", 'trim: {version: "FW-(.+)"}\nstates:\n', 1))
    assert not [w for w in trimmed.json["warnings"] if w.startswith("version")]
    unknown = tried(place, OWN.replace("{working: in_service", "{never: in_service"))
    assert any(w.startswith("state: the device's word stands in no table") for w in unknown.json["warnings"])
