"""A text is changed in single places; every other byte stays as it was."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from nimbleload.store.splice import SpliceError, Text

PLAIN = b"""<?xml version="1.0" encoding="UTF-8"?>
<!-- made by hand -->
<a  one = '1'   two="&lt;2>" ><!-- c --><b/><c   x='y'/>\ttext <d>in &amp; out</d>
 <x:foreign xmlns:x="urn:x" x:k="v"/></a>
"""


def test_without_changes_not_a_byte_is_another():
    assert Text(PLAIN).changed() == PLAIN


def test_an_attribute_is_given_a_value_in_its_place_or_at_the_end():
    text = Text(PLAIN)
    text.set(text.root, "one", 'say "so"')
    text.set(text.root.find("c"), "z", "new")
    text.set(text.root.find("b"), "k", "v")
    assert text.changed() == PLAIN.replace(b"one = '1'", b"one = 'say \"so\"'").replace(
        b"<c   x='y'/>", b"<c   x='y' z=\"new\"/>"
    ).replace(b"<b/>", b'<b k="v"/>')


def test_a_name_that_ends_like_another_is_not_taken_for_it():
    text = Text(b'<a my-id="1" id="2"/>')
    text.set(text.root, "id", "3")
    assert text.changed() == b'<a my-id="1" id="3"/>'


def test_text_goes_to_the_end_behind_a_child_or_to_the_front():
    text = Text(PLAIN)
    text.insert(text.root, "<end/>")
    text.insert(text.root, "<e/>", text.root.find("d"))
    text.first(text.root, "<front/>")
    text.insert(text.root.find("b"), "<inside/>")
    made = text.changed()
    assert b"<d>in &amp; out</d><e/>" in made
    assert b"<end/></a>" in made and b'" ><front/><!-- c -->' in made and b"<b><inside/></b>" in made
    assert (
        made.replace(b"<e/>", b"")
        .replace(b"<end/>", b"")
        .replace(b"<front/>", b"")
        .replace(b"<b><inside/></b>", b"<b/>")
        == PLAIN
    )


@given(
    st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=30),
    st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=30),
)
def test_whatever_is_written_reads_back_and_the_rest_stays(before, value):
    quoted = before.replace("&", "&amp;").replace("<", "&lt;").replace('"', "&quot;")
    content = f'<r><k a="{quoted}" b="ü"/><!-- > " \' --><m/></r>'.encode()
    text = Text(content)
    text.set(text.root.find("k"), "a", value)
    text.set(text.root.find("m"), "n", value)
    root = etree.fromstring(text.changed())
    assert root.find("k").get("a") == value and root.find("m").get("n") == value
    assert root.find("k").get("b") == "ü"
    assert b"<!-- > \" ' -->" in text.changed()


def test_neighbours_are_each_wrapped():
    text = Text(b"<a><b x='1'/><c>in</c> <b/></a>")
    for child in text.root.children[:2]:
        text.wrap(child, "<o><p>", "</p></o>")
    assert text.changed() == b"<a><o><p><b x='1'/></p></o><o><p><c>in</c></p></o> <b/></a>"


def test_what_cannot_be_changed_safely_is_refused():
    with pytest.raises(SpliceError, match="not well-formed"):
        Text(b"<a><b></a>")
    with pytest.raises(SpliceError, match="written in ISO-8859-1"):
        Text('<?xml version="1.0" encoding="ISO-8859-1"?><a b="ü"/>'.encode("latin-1"))
    assert Text(b"\xef\xbb\xbf<a/>").changed() == b"\xef\xbb\xbf<a/>"
