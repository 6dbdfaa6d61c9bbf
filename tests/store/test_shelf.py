"""Chains on the shelf: what is kept comes back, under any name, and what is no chain is a sentence."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.store import shelf
from nimbleload.store.shelf import ShelfError

CHAIN = (
    PluginUse("a", PluginRef("clap", "org.eq", "Eq"), Setting((("gain", 3.0),)), family="equaliser"),
    PluginUse("b", PluginRef("vst3", "CD", "Comp"), Setting((), b"\0\1state"), sidechain="kick", enabled=False),
)


@pytest.mark.parametrize("name", ["Voice", "a/b", "..", "../up", "Ärger & Øl", ".hidden", "100 %", "x" * 200, "1.5"])
def test_what_is_kept_comes_back_without_what_it_listened_to(tmp_path, name):
    shelf.keep(name, CHAIN, tmp_path)
    kept = name[:80]
    assert shelf.names(tmp_path) == [kept]
    assert shelf.take(kept, tmp_path) == (CHAIN[0], msgspec.structs.replace(CHAIN[1], sidechain=None))
    # In one file of the folder, whatever it is called.
    assert [path.parent for path in tmp_path.rglob("*") if path.is_file()] == [tmp_path]
    shelf.keep(name, CHAIN[:1], tmp_path)
    assert len(shelf.take(kept, tmp_path)) == 1 and shelf.names(tmp_path) == [kept]
    shelf.drop(kept, tmp_path)
    assert shelf.names(tmp_path) == []


def test_what_cannot_be_is_a_sentence(tmp_path):
    with pytest.raises(ShelfError, match="needs a name"):
        shelf.keep("  ", CHAIN, tmp_path)
    with pytest.raises(ShelfError, match="no plugins to keep as Voice"):
        shelf.keep("Voice", (), tmp_path)
    shelf.keep("Other", CHAIN, tmp_path)
    with pytest.raises(ShelfError, match="Nothing is kept as Voice; on the shelf there is Other"):
        shelf.take("Voice", tmp_path)
    (tmp_path / "Odd.json").write_bytes(b"\xff\xfe no")
    with pytest.raises(ShelfError, match=r"Odd.json holds no chain: it is no track and no plugin"):
        shelf.take("Odd", tmp_path)
    blocked = tmp_path / "file"
    blocked.write_text("")
    with pytest.raises(ShelfError, match="Voice could not be kept"):
        shelf.keep("Voice", CHAIN, blocked / "shelf")
    assert shelf.names(tmp_path / "nowhere") == []
