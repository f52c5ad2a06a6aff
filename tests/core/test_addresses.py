"""No address that Gallant keeps, shows or logs holds a secret, and what is none is refused with a sentence."""

from __future__ import annotations

import re

import pytest

from gallant.catalogs.fetch import check_source
from gallant.core.documents import Invalid
from gallant.core.errors import WrongUse
from gallant.core.estate.reading import parse_estate

from ..builders import GOOD

SECRET = "hunter2-hunter2"
SOURCES = (
    "https://{account}updates.example/catalog.json{query}",
    "http://{account}updates.example/catalog.json{query}",
    "deb https://{account}deb.example/debian{query} stable main",
)
FORMS = (
    {"account": f"{SECRET}@", "query": ""},
    {"account": f"u:{SECRET}@", "query": ""},
    {"account": "", "query": f"?t={SECRET}"},
)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("source", SOURCES)
def test_a_source_with_an_account_or_a_token_in_it_is_refused_and_says_how(source, form):
    with pytest.raises(WrongUse) as refused:
        check_source(source.format(**form))
    assert "account: says where a secret is kept" in refused.value.what
    assert "--secret env:NAME" in refused.value.next
    assert SECRET not in str(refused.value)
    check_source(source.format(account="", query=""))


MORE = {
    "copies": 'backups: {{copies: [{{to: "sftp://{account}keeper.example/b{query}", account: {{user: u, secret: ask}}}}]}}\n',
    "tcp": 'events: [{{to: "tcp://{account}logs.example:601{query}"}}]\n',
    "udp": 'events: [{{to: "udp://{account}logs.example:601{query}"}}]\n',
}


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("name", MORE)
def test_an_address_of_the_estate_holds_no_secret(name, form):
    with pytest.raises(Invalid, match="no user, password or token in an address") as refused:
        parse_estate("e", GOOD + MORE[name].format(**form))
    assert SECRET not in str(refused.value)


@pytest.mark.parametrize("form", FORMS)
def test_a_nodes_address_and_console_hold_no_secret(form):
    address = re.search(r'address: "?(https://)([^",]+)', GOOD)
    changed = GOOD.replace(
        address[0], f"{address[0].replace('https://', 'https://' + form['account'])}{form['query']}", 1
    )
    with pytest.raises(Invalid, match="no user, password or token in an address") as refused:
        parse_estate("e", changed)
    assert SECRET not in str(refused.value)


@pytest.mark.parametrize("source", ["https://[::1", "https://h:port/x", "http://h:99999/x", "https://\u2100.example/x"])
def test_what_is_no_address_is_refused_with_a_sentence(source):
    with pytest.raises(WrongUse, match="not the address|not a source"):
        check_source(source)
