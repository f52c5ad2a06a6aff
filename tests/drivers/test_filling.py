"""What is put into an RPC or an XPath is a text there, whatever a device or a file says."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from gallant.drivers.netconf.driver import filled, located

CHARACTERS = st.characters(min_codepoint=32, exclude_categories=("Cs", "Cc", "Cn"))


@given(
    st.text(CHARACTERS, max_size=40) | st.sampled_from(["</name><reboot/><name>", "x' y=\"z", "&amp;", "]]>", "<!--"])
)
def test_a_field_of_an_rpc_is_text_and_never_an_element(value):
    root = etree.fromstring(filled("<get><name of='{name}'>{name}</name></get>", {"name": value}))
    assert [element.tag for element in root.iter()] == ["get", "name"]
    assert (root[0].text or "") == value
    assert root[0].get("of") == value


def test_a_field_with_a_quote_is_not_put_into_an_xpath():
    assert located("//job[id='{handle}']", {"handle": "7"}) == "//job[id='7']"
    for value in ("7'] | //*['", 'x"y'):
        assert located("//job[id='{handle}']", {"handle": value}) == "//job[id='']"
