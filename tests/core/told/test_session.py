"""What a session holds, and lacks, in words."""

from __future__ import annotations

from nimbleload.core.session import edits, time_edits
from nimbleload.core.told.session import held, to_do


def test_words_agree_with_how_many_there_are():
    one = edits.add(edits.add(edits.empty("x"), "track", "Voice"), "bus", "Band")
    assert held(one) == "1 track, 1 bus, 0 plugins."
    assert to_do(one) == "1 track has no clips, and never sounds: Voice."
    more = edits.add(one, "track", "Oar", 6)
    assert to_do(more) == "7 tracks have no clips, and never sound: Voice, Oar 1, Oar 2, Oar 3 and 3 more."
    assert to_do(time_edits.add_clip(one, "track1", 0, 1)).startswith("Everything can be changed here")
    assert to_do(edits.arm(one, ["track1"], True)).startswith("Everything can be changed here")
    assert held(edits.empty("x")) == "The session is empty." and "Ctrl+T" in to_do(edits.empty("x"))
