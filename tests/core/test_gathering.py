"""An estate in several files, and with defaults: what it comes to, and that each problem is told where it stands."""

from __future__ import annotations

import contextlib
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.documents import Invalid
from gallant.core.estate.reading import parse_estate
from gallant.core.estate.systems import Estate

MAIN = """\
gallant: estate/1
name: t
include: [parts/*.yaml]
sites: {harbour: {}}
aims: [{for: default, aim: newest}]
accounts: {read: {user: r, secret: ask}}
"""
STORES = """\
sites: {pier: {}}
systems:
  tickets:
    product: o/shoal
    shape: single
    site: pier
    kind: storage
    driver: debian
    nodes: {a: {address: "ssh://127.0.0.1"}}
aims: [{for: tickets, aim: settled 30d}]
"""
HOSTS = """\
systems:
  gates:
    product: debian/host
    shape: single
    site: harbour
    tags: [prod]
    driver: debian
    nodes: {a: {address: "ssh://127.0.0.2"}}
notes: [{about: gates, text: "ring first", by: anna}]
"""


def read(main: str, **files: str) -> Estate:
    def found(pattern: str):
        if pattern != "parts/*.yaml":
            raise ValueError(f"no file is called {pattern} in the estate's folder")
        return [(f"parts/{name}.yaml", text.encode()) for name, text in files.items()]

    return parse_estate("estate.yaml", main, found)


def test_what_stands_in_several_files_is_one_estate():
    estate = read(MAIN, hosts=HOSTS, stores=STORES)
    assert list(estate.systems) == ["gates", "tickets"]
    assert set(estate.sites) == {"harbour", "pier"}
    assert [aim.for_ for aim in estate.aims] == ["default", "tickets"]
    assert [note.about for note in estate.notes] == ["gates"]


PROBLEMS = [
    ("an unknown key", MAIN, {"stores": STORES.replace("product:", "produkt:")}, "parts/stores.yaml:4:5: unknown key 'produkt'"),
    ("an unknown site", MAIN, {"stores": STORES.replace("site: pier", "site: peer")}, "parts/stores.yaml:6:11: unknown site 'peer' (did you mean pier?)"),
    ("an aim in a second list", MAIN, {"hosts": HOSTS, "stores": STORES.replace("for: tickets", "for: tikets")}, "parts/stores.yaml:10:14: 'tikets' selects nothing"),
    ("two of one name", MAIN, {"hosts": HOSTS, "stores": STORES.replace("tickets:", "gates:").replace("tickets", "gates")}, "parts/stores.yaml:3:3: 'gates' stands in parts/hosts.yaml already"),
    ("no YAML", MAIN, {"hosts": "systems: ["}, "parts/hosts.yaml:"),
    ("what is the main file's", MAIN, {"hosts": HOSTS + "name: x\n"}, "parts/hosts.yaml:10:1: 'name' is for the estate's own file"),
    ("an include of an include", MAIN, {"hosts": HOSTS + "include: [x]\n"}, "'include' is for the estate's own file"),
    ("no mapping", MAIN, {"hosts": "- 1\n"}, "parts/hosts.yaml:1:1: expected a mapping of sites"),
    ("no such file", MAIN.replace("parts/*.yaml", "none.yaml"), {}, "estate.yaml:3:11: no file is called none.yaml"),
    ("no list", MAIN.replace("[parts/*.yaml]", "parts"), {}, "estate.yaml:3:10: expected a list of paths"),
]  # fmt: skip


@pytest.mark.parametrize(("main", "files", "said"), [row[1:] for row in PROBLEMS], ids=[row[0] for row in PROBLEMS])
def test_a_problem_is_told_in_the_file_where_it_stands(main, files, said):
    with pytest.raises(Invalid) as wrong:
        read(main, **files)
    assert said in wrong.value.what, wrong.value.what


def test_the_problems_of_all_files_are_told_at_once():
    with pytest.raises(Invalid) as wrong:
        read(
            MAIN + "typo: 1\n",
            hosts=HOSTS.replace("single", "singel"),
            stores=STORES.replace("driver: debian", "driver: debia"),
        )
    assert [line.split(":")[0] for line in wrong.value.lines] == [
        "estate.yaml",
        "parts/hosts.yaml",
        "parts/stores.yaml",
    ]


DEFAULTS = """\
gallant: estate/1
name: t
sites: {harbour: {}, pier: {}}
defaults:
  - {for: "kind:storage site:pier", profile: mine.yaml}
  - {for: kind:storage, product: o/shoal, driver: http, profile: ostrel-shoal, node: {ca: ca.pem, domain: rack-1}}
  - {for: tag:prod, accounts: {act: {user: prod, secret: ask}}}
  - {for: "*", shape: single, site: harbour, driver: debian, product: debian/host, accounts: {read: {user: r, secret: ask}, act: {user: a, secret: ask}}}
systems:
  store: {kind: storage, tags: [prod], nodes: {a: {address: "https://127.0.0.1"}}}
  pinned: {kind: storage, site: pier, nodes: {a: {address: "https://127.0.0.2", fingerprint: "sha256:PIN"}}}
  host: {accounts: {read: {user: own, secret: ask}}, nodes: {a: {address: "ssh://127.0.0.3"}}}
""".replace("PIN", "ab" * 32)


def test_a_system_has_what_the_first_fitting_default_says_and_it_does_not():
    systems = parse_estate("e", DEFAULTS).systems
    store, pinned, host = systems["store"], systems["pinned"], systems["host"]
    assert (store.product, store.driver, store.profile, store.site) == ("o/shoal", "http", "ostrel-shoal", "harbour")
    assert (pinned.profile, pinned.site) == ("mine.yaml", "pier")
    assert (host.product, host.driver, host.profile) == ("debian/host", "debian", "debian")
    assert {p: a.user for p, a in store.accounts.items()} == {"act": "prod", "read": "r"}
    assert {p: a.user for p, a in host.accounts.items()} == {"read": "own", "act": "a"}
    assert (store.nodes["a"].ca, store.nodes["a"].domain) == ("ca.pem", "rack-1")
    assert (pinned.nodes["a"].ca, pinned.nodes["a"].domain) == (None, "rack-1")  # what is pinned needs no CA


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("profile: mine.yaml", "profil: mine.yaml", "e:5:37: unknown key 'profil' (did you mean profile?)"),
        ("for: kind:storage,", "for: knid:storage,", "is no term"),
        ("for: kind:storage,", "for: kind:storrage,", "no system has kind:storrage (did you mean storage?)"),
        ("shape: single, site", "shape: 1, site", "expected text"),
        ("shape: single, site", "nodes: {}, site", "unknown key 'nodes'"),
        ("node: {ca", "node: {cc", "unknown key 'cc'"),
    ],
)
def test_a_default_that_is_wrong_is_told_where_it_stands(old, new, said):
    with pytest.raises(Invalid) as wrong:
        parse_estate("e", DEFAULTS.replace(old, new))
    assert said in wrong.value.what, wrong.value.what


@given(
    st.recursive(
        st.one_of(st.none(), st.booleans(), st.integers(-9, 9), st.text(max_size=4)),
        lambda inner: st.one_of(
            st.lists(inner, max_size=3),
            st.dictionaries(st.sampled_from(["for", "node", "accounts", "kind", "tags", "a"]), inner, max_size=3),
        ),
        max_leaves=8,
    )
)
def test_whatever_stands_under_defaults_and_include_ends_as_a_message(value):
    head = DEFAULTS.partition("defaults:")[0]
    tail = "systems:" + DEFAULTS.partition("systems:")[2]
    for section in ("defaults", "include", "systems", "catalogs"):
        body = tail if section != "systems" else ""
        with contextlib.suppress(Invalid):
            parse_estate("e", f"{head}{section}: {json.dumps(value)}\n{body}")
